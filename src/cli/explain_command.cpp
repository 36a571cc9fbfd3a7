// Where a number of a run comes from: from the wire to the digits, as it was at a moment.
#include <fmt/format.h>

#include <chrono>
#include <cmath>
#include <nlohmann/json.hpp>
#include <thread>

#include "app/shell/application.h"
#include "cli/commands.h"
#include "cli/say.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/explanation.h"
#include "core/chain/stage.h"
#include "engine/run_source.h"

namespace cruscotto::cli {

namespace {

using Json = nlohmann::ordered_json;

Json number(double v) {
    return std::isfinite(v) ? Json(v) : Json(nullptr);
}

Json evidenceJson(const std::vector<Evidence>& evidence) {
    Json out = Json::array();
    for (const Evidence& e : evidence)
        out.push_back({{"doubt", doubtKind(e.doubt).key},
                       {"suspicion", doubtKind(e.doubt).suspicion},
                       {"grounds", e.grounds.english()},
                       {"since", e.since.seconds()},
                       {"sure", e.sure},
                       {"remedy", doubtKind(e.doubt).remedy.english()}});
    return out;
}

Json explanationJson(const Explanation& e) {
    Json j{
        {"signal", e.signal}, {"name", e.name}, {"at", e.at.seconds()}, {"wired", e.wired}, {"stages", Json::array()}};
    for (const Explanation::Step& step : e.steps) {
        Json one{{"stage", step.stage}, {"value", number(step.value)}, {"unit", step.unit}};
        if (step.standard >= 0) one["standard-uncertainty"] = number(step.standard);
        if (!step.sentence.english().empty()) one["sentence"] = step.sentence.english();
        j["stages"].push_back(std::move(one));
    }
    j["reading"] = {{"value", number(e.reading.value)}, {"unit", e.unit}, {"quality", qualityWord(e.reading.quality)}};
    if (e.uncertainty) {
        const Uncertainty& u = *e.uncertainty;
        Json parts = Json::array(), missing = Json::array();
        for (const UncertaintyPart& p : u.parts)
            parts.push_back({{"signal", p.signal},
                             {"source", p.source.english()},
                             {"contribution", number(p.amount)},
                             {"share", p.share},
                             {"degrees-of-freedom", number(p.degreesOfFreedom)}});
        for (const Text& m : u.missing) missing.push_back(m.english());
        j["uncertainty"] = {{"standard", number(u.standard)},   {"k", u.k},
                            {"expanded", number(u.expanded())}, {"degrees-of-freedom", number(u.degreesOfFreedom)},
                            {"budget", std::move(parts)},       {"missing", std::move(missing)}};
    } else {
        j["uncertainty"] = {{"missing", Json::array({e.whyNone.english()})}};
    }
    if (e.calibration)
        j["calibration"] = {{"date", e.calibration->date},
                            {"due", e.calibration->due},
                            {"person", e.calibration->person},
                            {"reference", e.calibration->reference},
                            {"certificate", e.calibration->certificate},
                            {"fit", e.calibration->fit},
                            {"points", e.calibration->points.size()}};
    j["evidence"] = evidenceJson(e.evidence);
    if (!e.from.empty()) {
        j["from"] = Json::array();
        for (const Explanation& other : e.from) j["from"].push_back(explanationJson(other));
    }
    return j;
}

}  // namespace

std::string today() {
    const auto day =
        std::chrono::year_month_day(std::chrono::floor<std::chrono::days>(std::chrono::system_clock::now()));
    return fmt::format("{:04}-{:02}-{:02}", static_cast<int>(day.year()), static_cast<unsigned>(day.month()),
                       static_cast<unsigned>(day.day()));
}

int explain(const ExplainOptions& options, int argc, char** argv) {
    // As much is held as there may be: what is explained is looked up in memory.
    RunSource source(options.run, std::size_t{2} << 30);
    while (!source.state().done) std::this_thread::sleep_for(std::chrono::milliseconds(2));
    if (const auto& error = source.state().error) return complain(error->english(), badFile);
    const auto info = source.info();
    const SignalSpec* signal = namedSignal(info->bench, options.signal);
    if (!signal) return complain(fmt::format("There is no signal {} in this run.", options.signal), wrongUsage);
    const Instant at = options.at ? info->span.from + *options.at : info->span.to - Duration{1};
    if (at < info->span.from || at > info->span.to)
        return complain(fmt::format("The run is {} s long.", shortNumber((info->span.to - info->span.from).seconds())),
                        wrongUsage);
    if (source.state().inParts) {
        // Too long to be held: the stretch around the moment is fetched.
        for (const auto& s : info->bench.signals) (void)source.at(s->id, at);
        const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(20);
        while (source.stagesAt(signal->id, at).empty() && std::chrono::steady_clock::now() < until)
            std::this_thread::sleep_for(std::chrono::milliseconds(10));
    }
    auto made = cruscotto::explain(info->benchThatComputes(), source, signal->id, at);
    if (!made) return complain(made.error().english(), failed);
    if (!options.out.empty()) {
        const auto written = printExplanation({made.value(), today(), options.out, options.existing}, argc, argv);
        if (!written) return complain(written.error().english(), failed);
        say(options.out);
        return ok;
    }
    if (options.json)
        say(explanationJson(made.value()).dump(2));
    else
        say(explanationText(made.value(), today()));
    return ok;
}

}  // namespace cruscotto::cli
