// One rule, control or step of a procedure, as it stands in a bench: refused with a reason, or it works on whatever
// comes in. A rule does the same however readings are cut; what a control wants is a number.
#include <cmath>
#include <cstdlib>
#include <string>

#include "core/bench/control_file.h"
#include "core/bench/procedure_file.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"
#include "core/bench/rule_words.h"
#include "core/control/controller.h"
#include "core/procedure/procedure_run.h"
#include "core/rules/rule_evaluator.h"

namespace {

using namespace cruscotto;

/// One analog input, one contact and an output of each kind.
const Bench& bench() {
    static const Bench made = [] {
        Bench b;
        b.name = "Fuzz";
        b = withDevice(b, {"box", "Box", "sim-io-box", "", ""});
        for (const auto& [id, kind] :
             {std::pair{"in", ChannelKind::analogInput}, std::pair{"contact", ChannelKind::digitalInput},
              std::pair{"drive", ChannelKind::analogOutput}, std::pair{"lamp", ChannelKind::digitalOutput}}) {
            SignalSpec s;
            s.id = s.name = s.terminal = id;
            s.device = "box";
            s.kind = kind;
            if (isOutput(kind)) s.output = OutputSpec{0, isDigital(kind) ? 1.0 : 10.0, 0, 0};
            b = withSignal(b, s);
        }
        return b;
    }();
    return made;
}

const double inf = std::numeric_limits<double>::infinity(), none = std::nan("");
const std::vector<double> readings{0,    1,   -1,           6,  1e300, -1e300, none, inf,
                                   -inf, 0.5, 4294967295.0, 12, 12,    0,      5,    5.0001};
Instant timeOf(std::size_t i) {
    return {static_cast<std::int64_t>(i * i) * 10'000'000};
}

template <class Fed>
void feedIn(std::size_t part, Fed&& fed) {
    for (std::size_t i = 0; i < readings.size(); i += part)
        fed(std::span(readings).subspan(i, std::min(part, readings.size() - i)), i);
}

std::vector<RuleFiring> firings(const RuleSpec& rule, std::size_t part) {
    RuleEvaluator evaluator({std::make_shared<const RuleSpec>(rule)});
    std::vector<RuleFiring> out;
    feedIn(part, [&](std::span<const double> values, std::size_t from) {
        for (const char* signal : {"in", "contact"})
            evaluator.feed(signal, values, [&](std::size_t i) { return timeOf(from + i); });
        evaluator.advance(timeOf(from + values.size() - 1));
        for (const RuleFiring& f : evaluator.take()) out.push_back(f);
    });
    return out;
}

struct Nothing : ProcedureWorld {
    Text set(const std::string&, double, double) override { return {}; }
    void command(const std::string&, const std::string&, const std::string&) override {}
    void mark(const std::string&, Instant) override {}
    Text taken() override { return {}; }
    void seed(RuleEvaluator&, Instant) override {}
    std::optional<Instant> readTo(const std::string&) override { return std::nullopt; }
    std::optional<std::vector<Measure>> measured(const std::vector<ProcedureMeasure>& what, Span) override {
        return std::vector<Measure>(what.size(), Measure{5, "V", 0.1, {}, {}});
    }
    std::string words(const ProcedureStep& s, const std::map<std::string, double>& known) override {
        return stepWords(bench(), s, known);
    }
    std::string measureWords(const ProcedureMeasure& m) override { return procedureMeasureWords(bench(), m); }
    std::optional<std::string> answer(const ProcedureStep&, const std::string&) override { return "1"; }
    void note(const StepResult&, Instant) override {}
};

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    const std::string text(reinterpret_cast<const char*>(data), size);
    if (const auto rule = ruleFromText(bench(), text)) {
        if (ruleSentence(bench(), rule.value()).empty()) std::abort();
        for (const SentencePart& part : ruleParts(bench(), rule.value())) {
            RuleSpec copy = rule.value();
            const RulePlace place = placeIn(copy, part.place);
            if (!part.place.empty() && !place.condition && !place.action) std::abort();
        }
        // Two clocks that are fed one behind the other may be out of step by a part: only single readings are compared.
        const auto one = firings(rule.value(), 1), again = firings(rule.value(), 1);
        (void)firings(rule.value(), readings.size());
        if (one.size() != again.size()) std::abort();
    }
    if (const auto control = controlFromText(bench(), text)) {
        if (controlSentence(bench(), control.value()).empty()) std::abort();
        ControlSpec spec = control.value();
        if (spec.kind == ControlKind::play && spec.played.shape == PlayedSpec::Shape::run) return 0;
        Controller controller(std::make_shared<const ControlSpec>(spec), {});
        OutputNow output{0, true, 0, 10, 0, false};
        feedIn(3, [&](std::span<const double> values, std::size_t from) {
            for (const char* signal : {"in", "contact"})
                if (controller.looksAt(signal))
                    controller.feed(signal, values, [&](std::size_t i) { return timeOf(from + i); });
            controller.advance(timeOf(from + values.size() - 1), output);
            const auto wants = controller.state().wants;
            if (wants && std::isnan(*wants)) std::abort();
            if (wants && std::isfinite(*wants)) output.value = std::clamp(*wants, output.low, output.high);
        });
    }
    if (const auto step = stepFromText(text)) {
        ProcedureSpec procedure;
        procedure.id = procedure.name = "p";
        procedure.steps = {step.value()};
        if (!checkProcedure(bench(), procedure) || plannedSteps(procedure).size() > 200) return 0;
        Nothing world;
        ProcedureRun run(procedure, world, {});
        for (int i = 0; i < 50 && !run.over(); ++i) run.advance({i * 1'000'000'000'000});
        const ProcedureReport report = run.report({});
        if (report.state == RunState::ended && report.verdict == StepVerdict::none) std::abort();
    }
    return 0;
}
