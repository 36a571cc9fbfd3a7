#include "core/bench/stretch_measures.h"

#include <algorithm>
#include <cmath>

#include "core/base/number_text.h"
#include "core/base/units.h"

namespace cruscotto {

namespace {

struct Gathered {
    std::vector<double> values, seconds;
    bool whole = true;  ///< all that were read in it
    [[nodiscard]] MeasuredStretch of(const SignalSpec& s, double lasts) const {
        return {values, seconds, s.unit(), s.isState(), lasts};
    }
};

Gathered gathered(const Source& source, const SignalSpec& signal, Span span, std::size_t most) {
    Gathered out;
    std::vector<Point> points;
    if (!source.points(signal.id, span, most, points)) {
        out.whole = false;
        return out;
    }
    for (const Point& p : points) {
        if (p.t >= span.to) continue;
        if (p.t >= span.from) {
            out.values.push_back(p.value);
            out.seconds.push_back((p.t - span.from).seconds());
        } else if (holds(signal)) {  // what it was when the stretch began
            out.values.assign(1, p.value);
            out.seconds.assign(1, 0);
        }
    }
    return out;
}

/// What the pyramid knows by itself.
std::map<std::string, Measure> ofSummaries(const StretchSummary& s, const SignalSpec& signal) {
    std::map<std::string, Measure> out;
    const std::string unit = signal.unit();
    const auto n = static_cast<double>(s.count);
    const Text note = s.exact ? Text() : CRUSCOTTO_TEXT("at its ends by whole summaries");
    const Text none = CRUSCOTTO_TEXT("too many readings to look at one by one: take less");
    for (const MeasureKind& kind : measureKinds()) out[kind.name] = {std::nan(""), "1", -1, none};
    const auto set = [&](const char* name, double value, const std::string& in) {
        out[name] = {value, in, -1, {}, note};
    };
    set("count", n, "1");
    if (s.count == 0) {
        for (auto& [name, m] : out)
            if (name != "count") m.whyNot = CRUSCOTTO_TEXT("nothing was read");
        return out;
    }
    set("mean", s.mean, unit);
    set("minimum", s.min, unit);
    set("maximum", s.max, unit);
    set("peak-to-peak", s.max - s.min, unit);
    set("ac-rms", std::sqrt(s.squares / n), unit);
    set("rms", std::sqrt(s.squares / n + s.mean * s.mean), unit);
    if (s.count > 1) set("standard-deviation", s.deviation(), unit);
    if (signal.isState()) set("on-share", s.mean, "1");
    return out;
}

}  // namespace

std::optional<Judgement> judged(const Measure& measure, const ExpectedMeasure& expected) {
    const auto to = convertUnit(expected.unit, measure.unit);
    if (!std::isfinite(measure.value) || !measure.whyNot.empty() || !to) return {};
    const double value = expected.value * to->factor + to->offset, within = expected.within * std::fabs(to->factor);
    Judgement out;
    out.off = measure.value - value;
    out.percent = value != 0 ? 100 * out.off / std::fabs(value) : std::nan("");
    out.fine = std::fabs(out.off) <= within;
    const std::string by = value != 0 ? threeDigits(std::fabs(out.percent)) + " %"
                                      : threeDigits(std::fabs(out.off)) + " " + unitText(measure.unit);
    out.words = out.off == 0  ? CRUSCOTTO_TEXT("as expected")
                : out.off > 0 ? text(CRUSCOTTO_TEXT("{0} above what is expected"), by)
                              : text(CRUSCOTTO_TEXT("{0} below what is expected"), by);
    return out;
}

StateOver stateOver(const Source& source, const SignalSpec& signal, Span span) {
    constexpr std::size_t most = 100'000;
    const Gathered all = gathered(source, signal, span, most);
    if (!all.whole) return {source.summaryOver(signal.id, span).mean, {}};
    double on = 0, known = 0;
    std::size_t changes = 0;
    std::optional<bool> before;
    for (std::size_t i = 0; i < all.values.size(); ++i) {
        if (!std::isfinite(all.values[i])) continue;
        const bool is = all.values[i] > 0.5;
        const double until = i + 1 < all.values.size() ? all.seconds[i + 1] : (span.to - span.from).seconds();
        known += until - all.seconds[i];
        on += is ? until - all.seconds[i] : 0;
        changes += before && *before != is;
        before = is;
    }
    return {known > 0 ? on / known : std::nan(""), changes};
}

Result<StretchMeasures> measuresOver(const Bench& bench, const Source& source, const std::string& signal,
                                     const std::string& against, Span span, Progress* progress, std::size_t most) {
    const SignalSpec* own = bench.signal(signal);
    const SignalSpec* other = against.empty() ? nullptr : bench.signal(against);
    if (!own) return failure("There is no signal \"{0}\".", signal);
    if (!against.empty() && !other) return failure("There is no signal \"{0}\".", against);
    StretchMeasures out;
    constexpr std::uint64_t steps = 4;
    const auto go = [&](std::uint64_t step) {
        if (progress) progress->advance(step, steps);
        return !progress || !progress->cancelled();
    };
    if (!go(0)) return out;
    const double lasts = (span.to - span.from).seconds();
    const Gathered one = gathered(source, *own, span, most);
    if (!go(1)) return out;
    if (!one.whole) {
        out.all = ofSummaries(source.summaryOver(signal, span), *own);
    } else {
        out.all = measuresOf(one.of(*own, lasts));
        out.readings = one.values.size();
    }
    if (!go(2)) return StretchMeasures{};
    if (other) {
        const Gathered two = gathered(source, *other, span, most);
        if (!go(3)) return StretchMeasures{};
        if (one.whole && two.whole) {
            for (auto& [name, measure] : measuresOfTwo(two.of(*other, lasts), one.of(*own, lasts)))
                out.all[name] = std::move(measure);
        } else {
            for (const MeasureKind& kind : measureKindsOfTwo())
                out.all[kind.name] = {std::nan(""), "1", -1,
                                      CRUSCOTTO_TEXT("too many readings to look at one by one: take less")};
        }
    }
    (void)go(steps);
    return out;
}

}  // namespace cruscotto
