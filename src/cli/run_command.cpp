// A procedure from the command line: worked through, recorded, judged.
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <fstream>
#include <iostream>
#include <nlohmann/json.hpp>
#include <thread>

#include "cli/commands.h"
#include "cli/rule_requests.h"
#include "cli/say.h"
#include "core/base/json_text.h"
#include "core/base/number_text.h"
#include "core/procedure/procedure_report.h"
#include "core/run/run_notes.h"
#include "core/run/run_reader.h"
#include "devices/device_kind.h"
#include "engine/engine.h"

namespace cruscotto::cli {

namespace {

/// What a file answers: in order, or by the name that an answer has and the number of its step.
class Answers {
public:
    static Result<std::shared_ptr<Answers>> read(const std::string& path) {
        auto out = std::make_shared<Answers>();
        if (path.empty()) return out;
        std::ifstream file(path);
        std::string text((std::istreambuf_iterator<char>(file)), {});
        if (!file) return failure("{0} cannot be read.", path);
        JsonFault fault;
        out->all_ = parseOrderedJson(text, &fault);
        if (out->all_.is_discarded()) return failure("{0} does not read: {1}", path, fault.words);
        if (!out->all_.is_array() && !out->all_.is_object())
            return failure("{0}: a list of answers, or an object of them by name, is expected.", path);
        for (const auto& [key, v] : out->all_.items())
            if (!v.is_string() && !v.is_number() && !v.is_boolean())
                return failure("{0}: an answer is \"yes\", \"no\" or a number, not {1}.", path, v.type_name());
        return out;
    }
    std::optional<std::string> to(const ProcedureStep& step, const std::string& number) {
        const nlohmann::ordered_json* v = nullptr;
        if (all_.is_array() && next_ < all_.size()) v = &all_[next_++];
        if (all_.is_object())
            for (const std::string& key : {step.name, number})
                if (!v && !key.empty() && all_.contains(key)) v = &all_[key];
        if (!v) return std::nullopt;
        if (v->is_boolean()) return v->get<bool>() ? "yes" : "no";
        return v->is_string() ? v->get<std::string>() : v->dump();
    }

private:
    nlohmann::ordered_json all_;
    std::size_t next_ = 0;
};

void saySteps(const ProcedureReport& report, std::size_t& said) {
    for (; said < report.steps.size(); ++said) {
        const StepResult& r = report.steps[said];
        if (!r.ended) return;
        const std::string row = rowWords(r);
        say(fmt::format("{:<6} {:<8} {}{}{}", r.number, stepVerdictName(r.verdict), r.words,
                        row.empty() ? "" : "  [" + row + "]", r.why.empty() ? "" : ": " + r.why.english()));
        for (const StepValue& v : r.values) say(fmt::format("{:>17} {}: {}", "", v.name, valueWords(v)));
    }
}

/// Somebody at a terminal.
void askOperator(Engine& engine, const StepResult& step) {
    std::fprintf(stderr, "%s > ", step.words.c_str());
    std::string typed;
    if (!std::getline(std::cin, typed)) return engine.endProcedure(CRUSCOTTO_TEXT("Nobody answered."));
    if (const auto taken = engine.answerProcedure(typed); !taken)
        std::fprintf(stderr, "%s\n", taken.error().english().c_str());
}

}  // namespace

int runProcedure(const ProcedureOptions& options) {
    const auto bench = openBench(options.bench);
    if (!bench) return badFile;
    const auto wanted = std::ranges::find_if(
        bench->procedures, [&](const auto& p) { return p->id == options.procedure || p->name == options.procedure; });
    if (wanted == bench->procedures.end())
        return complain(fmt::format("The bench has no procedure \"{}\".", options.procedure), wrongUsage);
    if (options.asFastAsPossible && !allSimulated(*bench))
        return complain("--as-fast-as-possible is for simulated devices; this bench has one that keeps its own time.",
                        wrongUsage);
    const auto answers = Answers::read(options.answers);
    if (!answers) return complain(answers.error().english(), badFile);
    const auto existing = options.force ? NewFile::Existing::replace : NewFile::Existing::refuse;
    if (!options.junit.empty())
        if (auto may = mayBecome(options.junit, existing); !may) return complain(may.error().english(), failed);
    if (auto may = makeWay(options.out, options.force); !may) return complain(may.error().english(), failed);

    EngineOptions engineOptions;
    if (options.asFastAsPossible) {
        engineOptions.pace = Pace::asFastAsPossible;
        engineOptions.requestsAwaited = true;
        if (options.beginsAtUnix) engineOptions.wallClock = [s = *options.beginsAtUnix] { return s * 1'000'000'000; };
    }
    engineOptions.procedure = **wanted;
    engineOptions.answers = [from = answers.value()](const ProcedureStep& step, const std::string& number) {
        return from->to(step, number);
    };
    auto started = Engine::startRecorded(*bench, options.out, engineOptions);
    if (!started) return complain(started.error().english(), failed);
    const std::unique_ptr<Engine> engine = std::move(started.value());
    const WallAnchor anchor = engine->source().anchor();
    RuleRequests requests(*engine, *bench, options.out);
    std::size_t said = 0;
    auto report = engine->procedureReport();
    while (report->state != RunState::ended) {
        if (interrupted()) engine->endProcedure(CRUSCOTTO_TEXT("It was ended by hand."));
        if (!engine->problem().empty()) engine->endProcedure(engine->problem());
        if (requests.obey()) engine->endProcedure(CRUSCOTTO_TEXT("A rule has ended the recording."));
        if (report->state == RunState::asking) {
            if (options.answers.empty() && isatty(STDIN_FILENO))
                askOperator(*engine, report->steps[report->at]);
            else
                engine->endProcedure(text(CRUSCOTTO_TEXT("Nothing answers step {0}: {1}"),
                                          report->steps[report->at].number, report->steps[report->at].words));
        }
        if (!options.json) saySteps(*report, said);
        std::this_thread::sleep_for(std::chrono::milliseconds(10));
        report = engine->procedureReport();
    }
    if (!options.json) saySteps(*report, said);
    engine->stop();
    const RecordingStatus status = engine->recording();
    if (options.json)
        say(procedureJson(*report));
    else
        say(fmt::format("{}: {}{}", report->name, stepVerdictName(report->verdict),
                        report->why.empty() ? "" : " (" + report->why.english() + ")"));
    if (!options.junit.empty()) {
        auto file = NewFile::create(options.junit, existing);
        if (!file) return complain(file.error().english(), failed);
        if (!file.value().write(procedureJunit(*report, bench->name, anchor)))
            return complain(options.junit + " cannot be written.", failed);
        if (auto put = file.value().put(); !put) return complain(put.error().english(), failed);
    }
    if (auto run = RunReader::open(options.out)) {
        RunNotes notes = run.value()->info().notes;
        const auto marks = run.value()->info().marks;
        run.value().reset();
        notes.verdict = report->verdict == StepVerdict::passed   ? "good"
                        : report->verdict == StepVerdict::failed ? "bad"
                                                                 : "not finished";
        if (notes.title.empty()) notes.title = report->name;
        if (auto done = describeRun(options.out, notes, marks); !done) complain(done.error().english(), failed);
    }
    if (!status.problem.empty()) return complain(status.problem.english(), lostSamples);
    if (status.lost) return complain(fmt::format("{} samples were lost.", status.lost), lostSamples);
    if (const Text problem = engine->problem(); !problem.empty()) return complain(problem.english(), failed);
    return report->verdict == StepVerdict::passed   ? ok
           : report->verdict == StepVerdict::failed ? verdictFailed
                                                    : notFinished;
}

}  // namespace cruscotto::cli
