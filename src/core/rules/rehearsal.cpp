#include "core/rules/rehearsal.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace cruscotto {

void signalsOf(const Condition& condition, std::vector<std::string>& out) {
    if (isOfSignal(condition.kind) && std::ranges::find(out, condition.of) == out.end()) out.push_back(condition.of);
    for (const Condition& part : condition.parts) signalsOf(part, out);
}

std::vector<std::string> signalsOf(const RuleSpec& rule) {
    std::vector<std::string> out;
    signalsOf(rule.when, out);
    if (rule.until) signalsOf(*rule.until, out);
    return out;
}

namespace {

/// The readings of a signal with time in [from, to); what is a gap is not there, but said by lose().
struct SpanReadings {
    std::vector<double> values;
    std::vector<Instant> times;
};
SpanReadings readingsIn(const Source& source, const std::string& signal, Span span) {
    SpanReadings out;
    constexpr std::size_t most = 200'000, columns = 2048;
    std::vector<Point> points;
    if (source.points(signal, span, most, points)) {
        for (const Point& p : points)
            if (p.t >= span.from && p.t < span.to) {
                out.values.push_back(p.value);
                out.times.push_back(p.t);
            }
        return out;
    }
    std::vector<Column> all;
    const Duration width{std::max<std::int64_t>(1, (span.to - span.from).ns / std::int64_t{columns} + 1)};
    source.columns(signal, {span.from, width, columns}, all);
    for (const Column& c : all) {
        if (!c.summary.count || c.begin >= span.to) continue;
        out.values.insert(out.values.end(), {c.summary.min, c.summary.max});
        out.times.insert(out.times.end(), {c.begin, c.begin + Duration{width.ns / 2}});
    }
    return out;
}

}  // namespace

std::vector<RuleFiring> rehearse(const std::vector<std::shared_ptr<const RuleSpec>>& rules, const Source& source,
                                 Span span, const std::vector<RehearsedMark>& marks, Progress* progress) {
    RuleEvaluator evaluator(rules, span.from, source.anchor());
    std::set<std::string> signals;
    for (const auto& rule : rules)
        if (rule->enabled)
            for (const std::string& signal : signalsOf(*rule)) signals.insert(signal);
    // Signals of several clocks go on side by side, in steps that are short beside what people set delays to.
    constexpr Duration step = milliseconds(50);
    constexpr std::int64_t mostSteps = 20'000;
    const Duration by = std::max(step, Duration{(span.to - span.from).ns / mostSteps});
    // One that a rule set while the run was recorded is among its marks; readings may stand in it.
    const auto alreadySet = [&](const std::string& words, Instant at) {
        const std::string beginning = words.substr(0, words.find('{'));
        return std::ranges::any_of(marks, [&](const RehearsedMark& m) {
            return m.words.starts_with(beginning) && m.at + by > at && m.at < at + by;
        });
    };
    std::vector<RuleFiring> out;
    std::size_t mark = 0;
    std::map<std::string, bool> lost;
    for (const std::string& signal : signals) {
        const Reading before = source.at(signal, span.from);
        if (before.quality != Quality::gap && std::isfinite(before.value))
            evaluator.begin(signal, before.value, span.from);
    }
    for (Instant from = span.from; from < span.to; from = from + by) {
        if (progress) {
            progress->advance(static_cast<std::uint64_t>((from - span.from).ns),
                              static_cast<std::uint64_t>((span.to - span.from).ns));
            if (progress->cancelled()) break;
        }
        const Instant to = std::min(from + by, span.to);
        for (const std::string& signal : signals) {
            const SpanReadings readings = readingsIn(source, signal, {from, to});
            if (readings.values.empty()) {
                const bool gone = source.at(signal, from).quality == Quality::gap;
                if (gone && !std::exchange(lost[signal], true)) evaluator.lose(signal, from);
                continue;
            }
            lost[signal] = false;
            evaluator.feed(signal, readings.values, [&](std::size_t i) { return readings.times[i]; });
        }
        for (; mark < marks.size() && marks[mark].at < to; ++mark) evaluator.mark(marks[mark].words, marks[mark].at);
        evaluator.advance(to);
        for (auto fired = evaluator.take(); !fired.empty(); fired = evaluator.take())
            for (const RuleFiring& firing : fired) {
                out.push_back(firing);
                const RuleSpec& rule = *rules[firing.rule];
                for (const Action& a : firing.holds ? rule.then : rule.otherwise)
                    if (a.kind == ActionKind::mark && !alreadySet(a.words, firing.at))
                        evaluator.mark(a.words, firing.at, &firing);
            }
    }
    return out;
}

}  // namespace cruscotto
