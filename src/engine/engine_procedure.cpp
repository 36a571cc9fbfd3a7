// A procedure at work: what it sets goes to the outputs' arbiter, what it looks at comes from readings and time.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/procedure_file.h"
#include "core/bench/stretch_measures.h"
#include "engine/engine_state.h"

namespace cruscotto {

/// What it acts on, on the engine's thread.
struct Engine::State::ProcedureWorks : ProcedureWorld {
    State& s;
    struct Measuring {
        Span span;
        std::future<std::vector<Measure>> outcome;
    };
    std::optional<Measuring> measuring;

    explicit ProcedureWorks(State& state) : s(state) {}

    Text set(const std::string& output, double value, double within) override {
        const SignalSpec* spec = s.bench.signal(output);
        if (!spec || !spec->output) return text(CRUSCOTTO_TEXT("There is no output \"{0}\" any more."), output);
        const bool digital = isDigital(spec->kind);
        const double low = digital ? 0 : spec->output->low, high = digital ? 1 : spec->output->high;
        if (!(value >= low && value <= high))
            return text(CRUSCOTTO_TEXT("{0} may be from {1} to {2}, not {3}."), spec->name, shortNumber(low),
                        shortNumber(high), shortNumber(value));
        {
            const Lock lock(s.devicesMutex);
            if (!s.isDriven(*spec))
                return text(CRUSCOTTO_TEXT("{0} is not driven: its device is at rest, or has ended."), spec->name);
        }
        std::erase_if(s.rules.ramps, [&](const Ramp& r) { return r.ofProcedure && r.output == output; });
        const auto stands = s.arbiter.state(output);
        const double from = stands ? stands->value : spec->output->start;
        s.procedureWishes[output][0] = within > 0 ? from : digital ? (value > 0.5 ? 1 : 0) : value;
        if (within > 0) s.rules.ramps.push_back({0, output, from, value, s.now(), within, false, true});
        s.rules.outputsToLook.insert(output);
        s.settleOutputs();
        return takenFrom(*spec);
    }
    void command(const std::string& device, const std::string& key, const std::string& value) override {
        const Lock lock(s.devicesMutex);
        const auto to = s.devices.find(device);
        if (to != s.devices.end() && !s.outputsEnded && !s.rests(to->second->spec))
            to->second->with([key, value](Device& d) { d.setParameter(key, value); });
    }
    void mark(const std::string& words, Instant at) override {
        {
            const Lock lock(s.mutex);
            s.marks.push_back({at, words});
        }
        if (s.rules.evaluator) s.rules.evaluator->mark(words, at);
        if (s.recorder) s.recorder->note([at, words](RunWriter& w) { w.addMark(at, words); });
    }
    Text takenFrom(const SignalSpec& spec) {
        if (s.rules.outputsToLook.contains(spec.id)) return {};  // not decided yet
        const auto is = s.arbiter.state(spec.id);
        if (!is || is->holder <= OutputHolder::procedure) return {};
        if (is->holder == OutputHolder::hand) return text(CRUSCOTTO_TEXT("{0} was set by hand meanwhile."), spec.name);
        return text(CRUSCOTTO_TEXT("{0} is held at {1}: {2}"), spec.name, shortNumber(is->value), is->why.english());
    }
    Text taken() override {
        for (const auto& [output, wishes] : s.procedureWishes) {
            const SignalSpec* spec = s.bench.signal(output);
            if (!spec || wishes.empty()) continue;
            if (Text why = takenFrom(*spec); !why.empty()) return why;
        }
        return {};
    }
    void seed(RuleEvaluator& evaluator, Instant at) override { s.seed(evaluator, at); }
    std::optional<Instant> readTo(const std::string& signal) override {
        const SignalSpec* spec = s.bench.signal(signal);
        if (!spec) return std::nullopt;
        if (holds(*spec)) return s.now();  // it stands where it was
        const Reading r = s.source.at(signal, s.now());
        return r.quality == Quality::gap ? std::nullopt : std::optional(r.taken);
    }
    static std::vector<Measure> workOut(const Bench& bench, const Source& source,
                                        const std::vector<ProcedureMeasure>& what, Span span) {
        std::map<std::pair<std::string, std::string>, Result<StretchMeasures>> known;
        std::vector<Measure> out;
        for (const ProcedureMeasure& m : what) {
            const std::pair key{m.signal, m.against};
            auto it = known.find(key);
            if (it == known.end())
                it = known.emplace(key, measuresOver(bench, source, m.signal, m.against, span)).first;
            Measure one;
            one.value = std::nan("");
            if (!it->second)
                one.whyNot = it->second.error().message;
            else if (const auto found = it->second.value().all.find(m.measure); found != it->second.value().all.end())
                one = found->second;
            else
                one.whyNot = CRUSCOTTO_TEXT("There is no such measure of it.");
            out.push_back(std::move(one));
        }
        return out;
    }
    std::optional<std::vector<Measure>> measured(const std::vector<ProcedureMeasure>& what, Span span) override {
        s.source.setExtent({{0}, s.now()});
        if (s.options.pace == Pace::asFastAsPossible) return workOut(s.bench, s.source, what, span);
        if (!measuring || !(measuring->span == span)) {
            measuring.emplace();
            measuring->span = span;
            measuring->outcome = std::async(std::launch::async, [bench = s.bench, &source = s.source, what, span] {
                return workOut(bench, source, what, span);
            });
        }
        if (measuring->outcome.wait_for(std::chrono::seconds(0)) != std::future_status::ready) return std::nullopt;
        auto out = measuring->outcome.get();
        measuring.reset();
        return out;
    }
    std::string words(const ProcedureStep& step, const std::map<std::string, double>& known) override {
        return stepWords(s.bench, step, known);
    }
    std::string measureWords(const ProcedureMeasure& measure) override {
        return procedureMeasureWords(s.bench, measure);
    }
    std::optional<std::string> answer(const ProcedureStep& step, const std::string& number) override {
        return s.options.answers ? s.options.answers(step, number) : std::nullopt;
    }
    void note(const StepResult& r, Instant at) override {
        std::string words = r.number;
        for (const auto& [name, value] : r.row) words += fmt::format(" {} = {}", name, shortNumber(value));
        words += "  " + r.words + ": " + stepVerdictName(r.verdict);
        if (!r.why.empty()) words += " (" + r.why.english() + ")";
        for (const StepValue& v : r.values)
            words +=
                fmt::format("; {} {}{}{}", v.name, shortNumber(v.value), v.unit.empty() ? "" : " ", unitText(v.unit));
        if (s.recorder) s.recorder->note([at, words](RunWriter& w) { w.addEvent(at, "procedure", words); });
    }
};

void Engine::State::beginProcedure(const ProcedureSpec& spec) {
    const Instant at = now();
    procedureOutputs.clear();
    {
        const Lock lock(devicesMutex);
        for (const std::string& output : outputsOf(spec)) {
            procedureOutputs.insert(output);
            const SignalSpec* signal = bench.signal(output);
            if (signal && signal->output && arbiter.asks(output, OutputHolder::hand))
                send(*signal, arbiter.release(output, OutputHolder::hand));
        }
    }
    procedure.reset();
    procedureWorks = std::make_unique<ProcedureWorks>(*this);
    procedure = std::make_unique<ProcedureRun>(procedureAsRead(bench, spec), *procedureWorks, at);
    procedureSeen = procedure->revision() + 1;  // not published yet
    keepInStep();
    if (recorder)
        recorder->note([at, words = spec.name + " begins"](RunWriter& w) { w.addEvent(at, "procedure", words); });
    publishProcedure(at);
}

void Engine::State::driveProcedure(Instant t) {
    if (!procedure || procedure->over()) return;
    // Not before there are devices that have begun: what is set must come at the same sample in every run.
    if (options.pace == Pace::asFastAsPossible && t.ns == 0) return;
    bool ends = brokenDown;
    {
        const Lock lock(devicesMutex);
        ends = ends || outputsEnded;
    }
    if (ends)
        procedure->end(CRUSCOTTO_TEXT("The bench has ended."), t);
    else
        procedure->advance(t);
    if (procedure->over()) leaveProcedure();
}

void Engine::State::leaveProcedure() {
    const Instant t = now();
    {
        const Lock lock(devicesMutex);
        procedureWishes.clear();
        std::erase_if(rules.ramps, [](const Ramp& r) { return r.ofProcedure; });
        for (const std::string& output : procedureOutputs) {
            const SignalSpec* spec = bench.signal(output);
            if (!spec || !spec->output || !isDriven(*spec)) continue;
            ask(*spec, OutputHolder::start, spec->output->safe);
            if (arbiter.asks(output, OutputHolder::procedure))
                send(*spec, arbiter.release(output, OutputHolder::procedure));
        }
        if (options.pace == Pace::asFastAsPossible)
            for (auto& [id, running] : devices) running->thread.request_stop();
    }
    const ProcedureReport report = procedure->report(t);
    const std::string words = report.name + ": " + stepVerdictName(report.verdict) +
                              (report.why.empty() ? "" : " (" + report.why.english() + ")");
    if (recorder) recorder->note([t, words](RunWriter& w) { w.addEvent(t, "procedure", words); });
    keepInStep();
}

void Engine::State::publishProcedure(Instant t) {
    constexpr Duration often = milliseconds(100);
    if (!procedure) return;
    const std::uint64_t revision = procedure->revision();
    if (revision == procedureSeen && (procedure->over() || t - procedurePublished < often)) return;
    procedureSeen = revision;
    procedurePublished = t;
    auto made = std::make_shared<const ProcedureReport>(procedure->report(t));
    const Lock lock(mutex);
    procedureReport = std::move(made);
}

Result<void> Engine::startProcedure(const ProcedureSpec& procedure) {
    Result<void> out;
    state_->call([&] {
        State& s = *state_;
        if (s.procedure && !s.procedure->over()) {
            out = failure("A procedure is going on already: end it first.");
            return;
        }
        s.beginProcedure(procedure);
    });
    return out;
}

void Engine::pauseProcedure(bool paused) {
    state_->post([this, paused] {
        State& s = *state_;
        if (!s.procedure || s.procedure->over()) return;
        s.procedure->pause(paused, s.now());
        if (s.recorder)
            s.recorder->note([at = s.now(), words = std::string(paused ? "paused" : "goes on")](RunWriter& w) {
                w.addEvent(at, "procedure", words);
            });
    });
}

void Engine::endProcedure(const Text& why) {
    state_->call([&] {
        State& s = *state_;
        if (!s.procedure || s.procedure->over()) return;
        s.procedure->end(why, s.now());
        s.leaveProcedure();
        s.publishProcedure(s.now());
    });
}

Result<void> Engine::answerProcedure(const std::string& words) {
    Result<void> out;
    state_->call([&] {
        State& s = *state_;
        if (!s.procedure) {
            out = failure("Nothing is asked now.");
            return;
        }
        out = s.procedure->answer(words, s.now());
        if (out && s.procedure->over()) s.leaveProcedure();
        s.publishProcedure(s.now());
    });
    return out;
}

std::shared_ptr<const ProcedureReport> Engine::procedureReport() const {
    const Lock lock(state_->mutex);
    return state_->procedureReport;
}

}  // namespace cruscotto
