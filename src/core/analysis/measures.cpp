#include "core/analysis/measures.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <optional>

#include "core/analysis/signs.h"
#include "core/analysis/sine_fit.h"
#include "core/analysis/steadiness.h"
#include "core/analysis/straight_line.h"
#include "core/base/number_text.h"
#include "core/base/units.h"

namespace cruscotto {

namespace {

using enum MeasureGroup;
const auto& kindsOfOne() {
    static const std::array all{MeasureKind{"count", CRUSCOTTO_TEXT("Readings"), ofLevel},
                                MeasureKind{"mean", CRUSCOTTO_TEXT("Mean"), ofLevel},
                                MeasureKind{"median", CRUSCOTTO_TEXT("Median"), ofLevel},
                                MeasureKind{"standard-deviation", CRUSCOTTO_TEXT("Standard deviation"), ofLevel},
                                MeasureKind{"rms", CRUSCOTTO_TEXT("RMS"), ofLevel},
                                MeasureKind{"ac-rms", CRUSCOTTO_TEXT("RMS without the mean"), ofLevel},
                                MeasureKind{"minimum", CRUSCOTTO_TEXT("Lowest"), ofLevel},
                                MeasureKind{"maximum", CRUSCOTTO_TEXT("Highest"), ofLevel},
                                MeasureKind{"peak-to-peak", CRUSCOTTO_TEXT("Peak to peak"), ofLevel},
                                MeasureKind{"percentile-1", CRUSCOTTO_TEXT("1 % lie below"), ofLevel},
                                MeasureKind{"percentile-5", CRUSCOTTO_TEXT("5 % lie below"), ofLevel},
                                MeasureKind{"percentile-25", CRUSCOTTO_TEXT("25 % lie below"), ofLevel},
                                MeasureKind{"percentile-75", CRUSCOTTO_TEXT("75 % lie below"), ofLevel},
                                MeasureKind{"percentile-95", CRUSCOTTO_TEXT("95 % lie below"), ofLevel},
                                MeasureKind{"percentile-99", CRUSCOTTO_TEXT("99 % lie below"), ofLevel},
                                MeasureKind{"first", CRUSCOTTO_TEXT("First"), overTime},
                                MeasureKind{"last", CRUSCOTTO_TEXT("Last"), overTime},
                                MeasureKind{"slope", CRUSCOTTO_TEXT("Slope"), overTime},
                                MeasureKind{"drift-per-hour", CRUSCOTTO_TEXT("Drift in an hour"), overTime},
                                MeasureKind{"area", CRUSCOTTO_TEXT("Area"), overTime},
                                MeasureKind{"frequency", CRUSCOTTO_TEXT("Frequency"), repeating},
                                MeasureKind{"period", CRUSCOTTO_TEXT("Period"), repeating},
                                MeasureKind{"period-jitter", CRUSCOTTO_TEXT("Jitter of the period"), repeating},
                                MeasureKind{"duty", CRUSCOTTO_TEXT("Duty"), repeating},
                                MeasureKind{"high-level", CRUSCOTTO_TEXT("High level"), repeating},
                                MeasureKind{"low-level", CRUSCOTTO_TEXT("Low level"), repeating},
                                MeasureKind{"amplitude", CRUSCOTTO_TEXT("Amplitude"), repeating},
                                MeasureKind{"rise-time", CRUSCOTTO_TEXT("Rise time, 10 to 90 %"), repeating},
                                MeasureKind{"fall-time", CRUSCOTTO_TEXT("Fall time, 90 to 10 %"), repeating},
                                MeasureKind{"overshoot", CRUSCOTTO_TEXT("Overshoot"), repeating},
                                MeasureKind{"settling-time", CRUSCOTTO_TEXT("Settled within 2 % after"), repeating},
                                MeasureKind{"high-width", CRUSCOTTO_TEXT("Width of a pulse"), repeating},
                                MeasureKind{"low-width", CRUSCOTTO_TEXT("Width of a pause"), repeating},
                                MeasureKind{"edges", CRUSCOTTO_TEXT("Edges"), repeating},
                                MeasureKind{"on-share", CRUSCOTTO_TEXT("On for"), onAndOff},
                                MeasureKind{"changes", CRUSCOTTO_TEXT("Changes"), onAndOff},
                                MeasureKind{"shortest-on", CRUSCOTTO_TEXT("Shortest on"), onAndOff},
                                MeasureKind{"longest-on", CRUSCOTTO_TEXT("Longest on"), onAndOff},
                                MeasureKind{"shortest-off", CRUSCOTTO_TEXT("Shortest off"), onAndOff},
                                MeasureKind{"longest-off", CRUSCOTTO_TEXT("Longest off"), onAndOff},
                                MeasureKind{"sine-amplitude", CRUSCOTTO_TEXT("Amplitude of the sine"), asSine},
                                MeasureKind{"sine-frequency", CRUSCOTTO_TEXT("Frequency of the sine"), asSine},
                                MeasureKind{"sine-phase", CRUSCOTTO_TEXT("Phase at its beginning"), asSine},
                                MeasureKind{"sine-offset", CRUSCOTTO_TEXT("Offset"), asSine},
                                MeasureKind{"residual-rms", CRUSCOTTO_TEXT("RMS of what it leaves"), asSine},
                                MeasureKind{"sinad", CRUSCOTTO_TEXT("SINAD"), asSine},
                                MeasureKind{"thd", CRUSCOTTO_TEXT("THD"), asSine},
                                MeasureKind{"clipped-share", CRUSCOTTO_TEXT("Clipped for"), asSine}};
    return all;
}
const auto& kindsOfTwo() {
    static const std::array all{MeasureKind{"gain", CRUSCOTTO_TEXT("Gain"), ofTwo},
                                MeasureKind{"gain-db", CRUSCOTTO_TEXT("Gain in dB"), ofTwo},
                                MeasureKind{"phase", CRUSCOTTO_TEXT("Phase"), ofTwo},
                                MeasureKind{"delay", CRUSCOTTO_TEXT("Delay"), ofTwo},
                                MeasureKind{"difference", CRUSCOTTO_TEXT("Difference"), ofTwo},
                                MeasureKind{"correlation", CRUSCOTTO_TEXT("Correlation"), ofTwo},
                                MeasureKind{"line-slope", CRUSCOTTO_TEXT("Slope of the line"), ofTwo},
                                MeasureKind{"line-offset", CRUSCOTTO_TEXT("Offset of the line"), ofTwo}};
    return all;
}

constexpr double wholeTurn = 2 * std::numbers::pi;
constexpr double settledWithin = 0.02;
constexpr double noNumber = std::numeric_limits<double>::quiet_NaN();

double decibels(double ratio) {
    return 20 * std::log10(ratio);
}
double degrees(double radians) {
    double out = radians * 180 / std::numbers::pi;
    while (out > 180) out -= 360;
    while (out <= -180) out += 360;
    return out;
}

/// Where a signal goes through its middle, each way counted once: noise about it makes no edges.
struct Edges {
    std::vector<double> rising, falling;  // seconds
    std::vector<std::size_t> risesAt, fallsAt;
};
double crossing(const MeasuredStretch& s, std::size_t i, double level) {
    const double a = s.values[i - 1], b = s.values[i];
    const double part = b == a ? 0 : (level - a) / (b - a);
    return s.seconds[i - 1] + std::clamp(part, 0.0, 1.0) * (s.seconds[i] - s.seconds[i - 1]);
}
Edges edgesOf(const MeasuredStretch& s, double low, double high) {
    const double middle = (low + high) / 2, band = 0.1 * (high - low);
    Edges out;
    std::optional<bool> is;
    std::size_t lastUp = 0, lastDown = 0;
    for (std::size_t i = 0; i < s.values.size(); ++i) {
        if (i > 0 && s.values[i - 1] < middle && s.values[i] >= middle) lastUp = i;
        if (i > 0 && s.values[i - 1] >= middle && s.values[i] < middle) lastDown = i;
        if (s.values[i] > middle + band && is != true) {
            if (is && lastUp > 0) {
                out.rising.push_back(crossing(s, lastUp, middle));
                out.risesAt.push_back(lastUp);
            }
            is = true;
        } else if (s.values[i] < middle - band && is != false) {
            if (is && lastDown > 0) {
                out.falling.push_back(crossing(s, lastDown, middle));
                out.fallsAt.push_back(lastDown);
            }
            is = false;
        }
    }
    return out;
}

struct Spread {
    double mean = 0, deviation = 0;
    std::size_t n = 0;
    [[nodiscard]] double ofMean() const { return n > 1 ? deviation / std::sqrt(static_cast<double>(n)) : -1; }
};
Spread spreadOf(const std::vector<double>& v) {
    Spread out;
    out.n = v.size();
    for (const double x : v) out.mean += x / static_cast<double>(v.size());
    for (const double x : v) out.deviation += (x - out.mean) * (x - out.mean);
    out.deviation = v.size() > 1 ? std::sqrt(out.deviation / static_cast<double>(v.size() - 1)) : 0;
    return out;
}

/// The mode of each half of the histogram (IEEE 181-2011, 5.2.2); nothing where they are no modes, or not far apart.
std::optional<std::pair<double, double>> levelsOf(std::span<const double> values, double low, double high) {
    constexpr double prominent = 2.5, apart = 0.5;
    const auto n = static_cast<double>(values.size());
    const auto bins = static_cast<std::size_t>(std::clamp(std::sqrt(n) * 2, 16.0, 512.0)) / 2 * 2;
    std::vector<std::size_t> histogram(bins);
    const double width = (high - low) / static_cast<double>(bins);
    const auto binOf = [&](double v) {
        return std::min(bins - 1, static_cast<std::size_t>(std::max(0.0, (v - low) / width)));
    };
    for (const double v : values) ++histogram[binOf(v)];
    const auto modeOf = [&](std::size_t begin, std::size_t end) -> std::optional<double> {
        const auto at =
            static_cast<std::size_t>(std::max_element(histogram.begin() + static_cast<std::ptrdiff_t>(begin),
                                                      histogram.begin() + static_cast<std::ptrdiff_t>(end)) -
                                     histogram.begin());
        if (static_cast<double>(histogram[at]) < prominent * n / static_cast<double>(bins)) return {};
        // the mean of what lies in it: a level that is always the same comes out as it is
        double sum = 0;
        for (const double v : values)
            if (binOf(v) == at) sum += v;
        return sum / static_cast<double>(histogram[at]);
    };
    const auto below = modeOf(0, bins / 2), above = modeOf(bins / 2, bins);
    if (!below || !above || *above - *below < apart * (high - low)) return {};
    return std::pair(*below, *above);
}

/// Of one edge, the seconds from 10 to 90 %; nothing where the record ends before.
std::optional<double> transition(const MeasuredStretch& s, std::size_t at, double low, double high, bool rises) {
    const double ten = low + 0.1 * (high - low), ninety = low + 0.9 * (high - low);
    const double start = rises ? ten : ninety, end = rises ? ninety : ten;
    const auto past = [&](double v, double level) { return rises ? v >= level : v <= level; };
    std::size_t a = at, b = at;
    while (a > 0 && past(s.values[a - 1], start)) --a;
    while (b < s.values.size() && !past(s.values[b], end)) ++b;
    if (a == 0 || b >= s.values.size()) return {};
    return crossing(s, b, end) - crossing(s, a, start);
}

class OneSignal {
public:
    explicit OneSignal(const MeasuredStretch& given) : given_(given) {
        for (std::size_t i = 0; i < given.values.size() && i < given.seconds.size(); ++i)
            if (std::isfinite(given.values[i]))
                values_.push_back(given.values[i]), seconds_.push_back(given.seconds[i]);
        s_ = {values_, seconds_, given.unit, given.state};
    }

    std::map<std::string, Measure> all(std::optional<MeasureGroup> only) {
        const auto wanted = [&](MeasureGroup group) { return !only || *only == group; };
        set("count", static_cast<double>(values_.size()), "1", 0);
        if (values_.empty()) {
            for (const MeasureKind& kind : kindsOfOne())
                missing(std::array{kind.name}, CRUSCOTTO_TEXT("nothing was read"));
            return std::move(out_);
        }
        plain();
        if (wanted(overTime)) alongTime();
        if (wanted(repeating)) periodic();
        if (given_.state)
            stays();
        else if (wanted(asSine))
            sine();
        for (const MeasureKind& kind : kindsOfOne())
            if (!measureFits(kind, given_.state))
                out_[kind.name] = {
                    noNumber, "1", -1,
                    given_.state ? CRUSCOTTO_TEXT("a state is no sine") : CRUSCOTTO_TEXT("it does not go on and off")};
        return std::move(out_);
    }

private:
    void set(const std::string& name, double value, const std::string& unit, double u = -1) {
        out_[name] = {value, unit, u, {}};
    }
    void setNone(const std::string& name, const std::string& unit, Text why) {
        out_[name] = {noNumber, unit, -1, std::move(why)};
    }
    template <class Names>
    void missing(const Names& names, const Text& why) {
        for (const auto& name : names)
            if (!out_.contains(name)) setNone(name, "1", why);
    }

    void plain() {
        const auto n = static_cast<double>(values_.size());
        double mean = 0, square = 0;
        for (std::size_t i = 0; i < values_.size(); ++i) mean += (values_[i] - mean) / static_cast<double>(i + 1);
        double squares = 0;
        for (const double v : values_) squares += (v - mean) * (v - mean), square += v * v / n;
        std::vector<Instant> times;
        times.reserve(seconds_.size());
        for (const double t : seconds_) times.push_back(Instant{} + seconds(t));
        const std::string& unit = given_.unit;
        set("mean", mean, unit, values_.size() > 2 ? steadinessOf(values_, times).standardUncertainty : -1);
        std::vector<double> sorted = values_;
        std::ranges::sort(sorted);
        const auto percentile = [&](double p) {
            const double at = p * (n - 1);
            const auto i = static_cast<std::size_t>(at);
            const double next = sorted[std::min(i + 1, sorted.size() - 1)];
            return sorted[i] + (at - static_cast<double>(i)) * (next - sorted[i]);
        };
        set("median", percentile(0.5), unit);
        for (const int p : {1, 5, 25, 75, 95, 99}) set(fmt::format("percentile-{}", p), percentile(p / 100.0), unit);
        if (values_.size() > 1) {
            const double deviation = std::sqrt(squares / (n - 1));
            set("standard-deviation", deviation, unit, deviation / std::sqrt(2 * (n - 1)));
        } else {
            setNone("standard-deviation", unit, CRUSCOTTO_TEXT("one reading has no spread"));
        }
        set("rms", std::sqrt(square), unit);
        set("ac-rms", std::sqrt(squares / n), unit);
        ends_ = {percentile(0.01), percentile(0.99)};
        low_ = sorted.front();
        high_ = sorted.back();
        set("minimum", low_, unit);
        set("maximum", high_, unit);
        set("peak-to-peak", high_ - low_, unit);
    }

    void alongTime() {
        const std::string perSecond = given_.unit.empty() || given_.unit == "1" ? "/s" : given_.unit + "/s";
        const std::string perHour = given_.unit.empty() || given_.unit == "1" ? "/h" : given_.unit + "/h";
        set("first", values_.front(), given_.unit);
        set("last", values_.back(), given_.unit);
        const std::string times = given_.unit.empty() || given_.unit == "1" ? "s" : given_.unit + ".s";
        if (values_.size() < 3 || !(seconds_.back() > seconds_.front())) {
            setNone("slope", perSecond, CRUSCOTTO_TEXT("fewer than three readings"));
            setNone("drift-per-hour", perHour, CRUSCOTTO_TEXT("fewer than three readings"));
        } else {
            const StraightLine line = straightLine(seconds_, values_);
            const double u = std::sqrt(line.rest / static_cast<double>(line.points - 2) / line.spread);
            constexpr double secondsAnHour = 3600;
            set("slope", line.slope, perSecond, u);
            set("drift-per-hour", line.slope * secondsAnHour, perHour, u * secondsAnHour);
        }
        // By trapezia, and not over what was not read.
        double area = 0;
        for (std::size_t i = 1; i < given_.values.size(); ++i)
            if (std::isfinite(given_.values[i]) && std::isfinite(given_.values[i - 1]))
                area += (given_.values[i] + given_.values[i - 1]) / 2 * (given_.seconds[i] - given_.seconds[i - 1]);
        set("area", area, times);
    }

    void periodic() {
        const std::string& unit = given_.unit;
        const std::array names{"frequency", "period",     "period-jitter", "duty",         "high-level",
                               "low-level", "amplitude",  "rise-time",     "fall-time",    "overshoot",
                               "edges",     "high-width", "low-width",     "settling-time"};
        if (!(high_ > low_)) return missing(names, CRUSCOTTO_TEXT("nothing moves"));
        // A ramp and noise have no two levels, and can repeat all the same.
        const auto levels = levelsOf(values_, low_, high_);
        const double low = levels.value_or(ends_).first, high = levels.value_or(ends_).second;
        const Edges edges = edgesOf(s_, low, high);
        set("edges", static_cast<double>(edges.rising.size() + edges.falling.size()), "1", 0);
        if (edges.rising.empty() && edges.falling.empty())
            return missing(names, CRUSCOTTO_TEXT("no edge goes from one level to the other"));
        periods(edges);
        widths("high-width", edges.rising, edges.falling);
        widths("low-width", edges.falling, edges.rising);
        if (!levels) return missing(names, CRUSCOTTO_TEXT("it does not stand at two levels"));
        set("low-level", low, unit);
        set("high-level", high, unit);
        set("amplitude", high - low, unit);
        transitions(edges, low, high);
    }
    /// From each of `begins` to the next of `ends`.
    void widths(const char* name, const std::vector<double>& begins, const std::vector<double>& ends) {
        std::vector<double> all;
        for (const double t : begins)
            if (const auto end = std::ranges::upper_bound(ends, t); end != ends.end()) all.push_back(*end - t);
        if (all.empty()) return setNone(name, "s", CRUSCOTTO_TEXT("none lies whole within it"));
        const Spread spread = spreadOf(all);
        set(name, spread.mean, "s", spread.ofMean());
    }
    void periods(const Edges& edges) {
        const auto& marks = edges.rising.size() >= edges.falling.size() ? edges.rising : edges.falling;
        constexpr std::size_t fewest = 3;
        const std::array names{"frequency", "period", "period-jitter", "duty"};
        if (marks.size() < fewest) return missing(names, CRUSCOTTO_TEXT("fewer than two periods"));
        std::vector<double> periods;
        for (std::size_t i = 1; i < marks.size(); ++i) periods.push_back(marks[i] - marks[i - 1]);
        const Spread spread = spreadOf(periods);
        if (spread.deviation > 0.5 * spread.mean)
            return missing(names, CRUSCOTTO_TEXT("it does not repeat: its periods differ by more than half"));
        const double u = spread.ofMean();
        set("period", spread.mean, "s", u);
        set("frequency", 1 / spread.mean, "Hz", u < 0 ? -1 : u / (spread.mean * spread.mean));
        set("period-jitter", spread.deviation, "s",
            spread.n > 2 ? spread.deviation / std::sqrt(2 * static_cast<double>(spread.n - 1)) : -1);
        double on = 0;
        std::size_t n = 0;
        for (std::size_t i = 0; i + 1 < edges.rising.size(); ++i) {
            const auto end = std::ranges::upper_bound(edges.falling, edges.rising[i]);
            if (end == edges.falling.end() || *end > edges.rising[i + 1]) continue;
            on += (*end - edges.rising[i]) / (edges.rising[i + 1] - edges.rising[i]);
            ++n;
        }
        if (n > 0)
            set("duty", on / static_cast<double>(n), "1");
        else
            setNone("duty", "1", CRUSCOTTO_TEXT("fewer than two periods"));
    }
    void transitions(const Edges& edges, double low, double high) {
        const auto times = [&](const char* name, const std::vector<std::size_t>& at, bool rises) {
            if (given_.state) return setNone(name, "s", CRUSCOTTO_TEXT("a state has no time between"));
            std::vector<double> all;
            for (const std::size_t i : at)
                if (const auto t = transition(s_, i, low, high, rises)) all.push_back(*t);
            if (all.empty()) return setNone(name, "s", CRUSCOTTO_TEXT("there is no whole edge"));
            const Spread spread = spreadOf(all);
            const double step = (seconds_.back() - seconds_.front()) / static_cast<double>(seconds_.size() - 1);
            if (spread.mean < 2 * step)
                return setNone(name, "s", CRUSCOTTO_TEXT("the edge is shorter than two samples"));
            set(name, spread.mean, "s", spread.ofMean());
        };
        times("rise-time", edges.risesAt, true);
        times("fall-time", edges.fallsAt, false);
        if (edges.risesAt.empty())
            return missing(std::array{"overshoot", "settling-time"}, CRUSCOTTO_TEXT("there is no rising edge"));
        std::vector<double> over, settled;
        for (std::size_t k = 0; k < edges.risesAt.size(); ++k) {
            const auto next = std::ranges::upper_bound(edges.fallsAt, edges.risesAt[k]);
            const std::size_t end = next == edges.fallsAt.end() ? values_.size() : *next;
            const double peak = *std::max_element(values_.begin() + static_cast<std::ptrdiff_t>(edges.risesAt[k]),
                                                  values_.begin() + static_cast<std::ptrdiff_t>(end));
            over.push_back(100 * (peak - high) / (high - low));
            // the last that lies off the level, before it falls again
            std::size_t from = end;
            if (next != edges.fallsAt.end()) {  // the fall itself is no part of it
                while (from > edges.risesAt[k] && values_[from - 1] < high - 0.1 * (high - low)) --from;
                while (from > edges.risesAt[k] && values_[from - 1] < high - settledWithin * (high - low)) --from;
            }
            const std::size_t stays = from;
            while (from > edges.risesAt[k] && std::fabs(values_[from - 1] - high) <= settledWithin * (high - low))
                --from;
            if (from < stays && from > edges.risesAt[k])
                settled.push_back(seconds_[from] - edges.rising[k]);
            else if (from < stays)
                settled.push_back(0);
        }
        if (const Spread after = spreadOf(settled); settled.empty())
            setNone("settling-time", "s", CRUSCOTTO_TEXT("it does not stay within 2 % of its level"));
        else
            set("settling-time", after.mean, "s", after.ofMean());
        const Spread spread = spreadOf(over);
        set("overshoot", spread.mean, "%", spread.ofMean());
    }

    /// How long it stayed on and off; what is cut at the ends counts for the share, and not as shortest.
    void stays() {
        const double end = given_.lasts > 0 ? given_.lasts : seconds_.back();
        double on = 0, all = 0;
        std::vector<double> ons, offs, cutOns, cutOffs;
        double began = seconds_.front();
        std::size_t changes = 0;
        for (std::size_t i = 0; i < values_.size(); ++i) {
            const bool is = values_[i] > 0.5;
            const double next = i + 1 < values_.size() ? seconds_[i + 1] : std::max(end, seconds_[i]);
            on += is ? next - seconds_[i] : 0;
            all += next - seconds_[i];
            const bool last = i + 1 == values_.size();
            if (!last && (values_[i + 1] > 0.5) == is) continue;
            const bool whole = changes > 0 && !last;
            (is ? (whole ? ons : cutOns) : (whole ? offs : cutOffs)).push_back(next - began);
            began = next;
            changes += !last;
        }
        set("changes", static_cast<double>(changes), "1", 0);
        if (all > 0)
            set("on-share", on / all, "1");
        else
            setNone("on-share", "1", CRUSCOTTO_TEXT("one reading takes no time"));
        const auto extremes = [&](const char* shortest, const char* longest, const std::vector<double>& whole,
                                  std::vector<double> any) {
            any.insert(any.end(), whole.begin(), whole.end());
            if (whole.empty())
                setNone(shortest, "s", CRUSCOTTO_TEXT("none lies whole within it"));
            else
                set(shortest, *std::ranges::min_element(whole), "s");
            if (any.empty())
                setNone(longest, "s", CRUSCOTTO_TEXT("it never was"));
            else
                set(longest, *std::ranges::max_element(any), "s");
        };
        extremes("shortest-on", "longest-on", ons, cutOns);
        extremes("shortest-off", "longest-off", offs, cutOffs);
    }

    void sine() {
        const std::string& unit = given_.unit;
        const std::array names{"sine-amplitude", "sine-frequency", "sine-phase", "sine-offset",
                               "residual-rms",   "sinad",          "thd"};
        const auto flat = signs::flatTopsOf(std::span(values_).first(std::min(values_.size(), mostForTops)), 0);
        if (values_.size() >= 64)
            set("clipped-share", flat ? flat->both : 0, "1");
        else
            setNone("clipped-share", "1", CRUSCOTTO_TEXT("fewer than 64 readings"));
        if (values_.size() > mostForSine)
            return missing(names, CRUSCOTTO_TEXT("more than two million readings: take less"));
        const auto fit = sineThrough(values_, seconds_);
        if (!fit) return missing(names, CRUSCOTTO_TEXT("fewer than one period"));
        const double sineRms = fit->amplitude / std::sqrt(2.0);
        if (fit->residualRms > sineRms)
            return missing(names, CRUSCOTTO_TEXT("it is no sine: more is left than the sine has"));
        set("sine-amplitude", fit->amplitude, unit, fit->uAmplitude);
        set("sine-frequency", fit->hz, "Hz", fit->uHz);
        set("sine-phase", degrees(fit->phase), "deg", fit->uPhase * 180 / std::numbers::pi);
        set("sine-offset", fit->offset, unit, fit->uOffset);
        set("residual-rms", fit->residualRms, unit);
        if (fit->residualRms > 0)
            set("sinad", decibels(sineRms / fit->residualRms), "dB");
        else
            setNone("sinad", "dB", CRUSCOTTO_TEXT("nothing is left beside the sine"));
        constexpr int lastHarmonic = 10;
        const double harmonics = harmonicsRms(values_, seconds_, *fit, lastHarmonic);
        if (harmonics > 0)
            set("thd", decibels(harmonics / sineRms), "dB");
        else
            setNone("thd", "dB", CRUSCOTTO_TEXT("no harmonic lies below half of the rate"));
    }

    static constexpr std::size_t mostForTops = 100'000, mostForSine = 2'000'000;
    const MeasuredStretch& given_;
    std::vector<double> values_, seconds_;
    MeasuredStretch s_;
    double low_ = 0, high_ = 0;
    std::pair<double, double> ends_;  // without the one in a hundred at either end
    std::map<std::string, Measure> out_;
};

/// The values at these seconds, on straight lines between the readings; NaN outside.
std::vector<double> valuesAt(const MeasuredStretch& s, std::span<const double> seconds) {
    std::vector<double> out;
    std::size_t i = 0;
    for (const double t : seconds) {
        while (i + 1 < s.seconds.size() && s.seconds[i + 1] < t) ++i;
        if (s.seconds.empty() || t < s.seconds.front() || t > s.seconds.back()) {
            out.push_back(noNumber);
        } else if (i + 1 >= s.seconds.size() || s.seconds[i] == t) {
            out.push_back(s.values[i]);
        } else {
            const double part = (t - s.seconds[i]) / (s.seconds[i + 1] - s.seconds[i]);
            out.push_back(s.values[i] + part * (s.values[i + 1] - s.values[i]));
        }
    }
    return out;
}

/// The difference, and the line of one over the other.
void lineOf(const std::vector<double>& a, const std::vector<double>& b, double together, const std::string& unit,
            const std::string& ratio, bool same, std::map<std::string, Measure>& out) {
    const Spread sa = spreadOf(a), sb = spreadOf(b);
    if (same) {
        std::vector<double> apart(a.size());
        for (std::size_t i = 0; i < a.size(); ++i) apart[i] = b[i] - a[i];
        const Spread d = spreadOf(apart);
        // what neighbours have in common is not looked at here: no uncertainty is given
        out["difference"] = {d.mean, unit, -1, {}};
    } else {
        out["difference"] = {noNumber, unit, -1, CRUSCOTTO_TEXT("their units do not go together")};
    }
    if (!(sa.deviation > 0)) return;
    const double slope = together * sb.deviation / sa.deviation;
    out["line-slope"] = {slope, ratio, -1, {}};
    out["line-offset"] = {sb.mean - slope * sa.mean, unit, -1, {}};
}

/// What stands at a rail has no gain to write down.
void noteRails(const MeasuredStretch& from, const MeasuredStretch& of, std::map<std::string, Measure>& out) {
    constexpr std::size_t most = 100'000;
    for (const MeasuredStretch* s : {&from, &of}) {
        if (s->state) continue;
        std::vector<double> values;
        for (const double v : s->values.first(std::min(s->values.size(), most)))
            if (std::isfinite(v)) values.push_back(v);
        const auto flat = signs::flatTopsOf(values, 0);
        if (!flat) continue;
        for (const char* name : {"gain", "gain-db", "line-slope", "line-offset"})
            if (Measure& m = out[name]; m.whyNot.empty())
                m.note = s == &of ? text(CRUSCOTTO_TEXT("clipped for {0} % of it"), threeDigits(100 * flat->both))
                                  : text(CRUSCOTTO_TEXT("the other is clipped for {0} % of it"),
                                         threeDigits(100 * flat->both));
        return;
    }
}

std::string unitRatio(const std::string& of, const std::string& from) {
    if (of == from || convertUnit(of, from)) return "1";
    const UnitPower powers[] = {{of, 1}, {from, -1}};
    return unitProduct(powers).unit;
}

}  // namespace

Text measureGroupTitle(MeasureGroup group) {
    switch (group) {
        case ofLevel:
            return CRUSCOTTO_TEXT("Level");
        case overTime:
            return CRUSCOTTO_TEXT("Over time");
        case repeating:
            return CRUSCOTTO_TEXT("What repeats");
        case onAndOff:
            return CRUSCOTTO_TEXT("On and off");
        case asSine:
            return CRUSCOTTO_TEXT("As a sine");
        case ofTwo:
            break;
    }
    return CRUSCOTTO_TEXT("Against the other");
}
std::span<const MeasureKind> measureKinds() {
    return kindsOfOne();
}
std::span<const MeasureKind> measureKindsOfTwo() {
    return kindsOfTwo();
}
bool measureFits(const MeasureKind& kind, bool ofState) {
    return kind.group != (ofState ? asSine : onAndOff);
}
const MeasureKind* measureKind(std::string_view name) {
    for (const auto kinds : {measureKinds(), measureKindsOfTwo()})
        for (const MeasureKind& kind : kinds)
            if (kind.name == name) return &kind;
    return nullptr;
}

std::map<std::string, Measure> measuresOf(const MeasuredStretch& stretch, std::optional<MeasureGroup> only) {
    return OneSignal(stretch).all(only);
}

std::string measureUnit(const std::string& name, const std::string& unit, const std::string& other) {
    const auto among = [&](std::initializer_list<std::string_view> names) {
        return std::ranges::find(names, name) != names.end();
    };
    const bool plain = unit.empty() || unit == "1";
    if (among({"period", "period-jitter", "rise-time", "fall-time", "settling-time", "high-width", "low-width", "delay",
               "shortest-on", "longest-on", "shortest-off", "longest-off"}))
        return "s";
    if (among({"frequency", "sine-frequency"})) return "Hz";
    if (among({"sine-phase", "phase"})) return "deg";
    if (among({"sinad", "thd", "gain-db"})) return "dB";
    if (name == "overshoot") return "%";
    if (among({"count", "duty", "edges", "clipped-share", "on-share", "changes", "correlation"})) return "1";
    if (name == "slope") return plain ? "/s" : unit + "/s";
    if (name == "drift-per-hour") return plain ? "/h" : unit + "/h";
    if (name == "area") return plain ? "s" : unit + ".s";
    if (among({"gain", "line-slope"})) return unitRatio(unit, other);
    return unit;
}

std::map<std::string, Measure> measuresOfTwo(const MeasuredStretch& from, const MeasuredStretch& of,
                                             std::string_view only) {
    std::map<std::string, Measure> out;
    const std::string unit = unitRatio(of.unit, from.unit);
    const auto none = [&](const Text& why) {
        for (const MeasureKind& kind : kindsOfTwo())
            if (!out.contains(kind.name)) out[kind.name] = {noNumber, "1", -1, why};
        noteRails(from, of, out);
        return out;
    };
    const auto same = convertUnit(of.unit, from.unit);
    const double factor = same ? same->factor : 1;
    std::vector<double> a, b, t;
    const std::vector<double> beside = valuesAt(of, from.seconds);
    for (std::size_t i = 0; i < from.values.size(); ++i)
        if (std::isfinite(from.values[i]) && std::isfinite(beside[i]))
            a.push_back(from.values[i]), b.push_back(beside[i] * factor), t.push_back(from.seconds[i]);
    constexpr std::size_t fewest = 8;
    if (a.size() < fewest) return none(CRUSCOTTO_TEXT("fewer than eight readings of both"));
    const double together = signs::correlation(a, b);
    out["correlation"] = {together, "1", -1, {}};
    lineOf(a, b, together, of.unit, unit, same.has_value(), out);
    const auto sineA = sineThrough(a, t), sineB = sineThrough(b, t);
    constexpr double sineEnough = 0.3;  // of its RMS may be left: a sine that is clipped is one still
    const auto isSine = [&](const std::optional<SineFit>& f) {
        return f && f->residualRms < sineEnough * f->amplitude / std::sqrt(2.0);
    };
    if (isSine(sineA) && isSine(sineB) && std::fabs(sineA->hz - sineB->hz) < 0.02 * sineA->hz) {
        const SineFit fa = sineAt(a, t, sineA->hz), fb = sineAt(b, t, sineA->hz);
        double phase = degrees(fb.phase - fa.phase);
        const bool inverts = std::fabs(phase) > 90;
        if (inverts) phase = degrees((phase - 180) * std::numbers::pi / 180);
        const double gain = fb.amplitude / fa.amplitude;
        const double uGain = gain * std::hypot(fa.uAmplitude / fa.amplitude, fb.uAmplitude / fb.amplitude);
        const double uPhase = std::hypot(fa.uPhase, fb.uPhase);
        out["gain"] = {inverts ? -gain : gain, unit, uGain, {}};
        out["gain-db"] = {decibels(gain), "dB", uGain / gain * 20 / std::log(10), {}};
        out["phase"] = {phase, "deg", uPhase * 180 / std::numbers::pi, {}};
        out["delay"] = {-phase / 360 / sineA->hz, "s", uPhase / wholeTurn / sineA->hz, {}};
        noteRails(from, of, out);
        return out;
    }
    out["phase"] = {noNumber, "deg", -1, CRUSCOTTO_TEXT("the two are not sines of one frequency")};
    const Spread sa = spreadOf(a), sb = spreadOf(b);
    if (!(sa.deviation > 0)) return none(CRUSCOTTO_TEXT("nothing moves"));
    const double gain = together * sb.deviation / sa.deviation;
    const auto n = static_cast<double>(a.size());
    const double u = sb.deviation / sa.deviation * std::sqrt(std::max(0.0, 1 - together * together) / (n - 2));
    out["gain"] = {gain, unit, u, {}};
    if (gain != 0) out["gain-db"] = {decibels(std::fabs(gain)), "dB", u / std::fabs(gain) * 20 / std::log(10), {}};
    // By far the longest work.
    if (only.empty() || only == "delay") {
        const double step = (t.back() - t.front()) / (n - 1);
        if (const auto lag = lagOf(a, b))
            out["delay"] = {*lag * step, "s", -1, {}};
        else
            out["delay"] = {noNumber, "s", -1, CRUSCOTTO_TEXT("they have too little in common")};
    }
    return none(CRUSCOTTO_TEXT("nothing moves"));
}

std::optional<double> lagOf(const std::vector<double>& a, const std::vector<double>& b) {
    constexpr std::size_t mostLags = 4000;
    const std::size_t lags = std::min(a.size() / 4, mostLags);
    if (lags < 2) return {};
    const auto at = [&](std::ptrdiff_t lag) {
        const auto by = static_cast<std::size_t>(std::abs(lag));
        const std::span<const double> x = std::span(a).subspan(lag < 0 ? by : 0, a.size() - by);
        const std::span<const double> y = std::span(b).subspan(lag < 0 ? 0 : by, b.size() - by);
        return signs::correlation(x, y);
    };
    std::ptrdiff_t best = 0;
    double most = 0;
    const auto end = static_cast<std::ptrdiff_t>(lags);
    for (std::ptrdiff_t lag = -end; lag <= end; ++lag)
        if (const double r = at(lag); std::fabs(r) > std::fabs(most)) most = r, best = lag;
    if (std::fabs(most) < 0.3 || std::abs(best) == end) return {};
    const double l = std::fabs(at(best - 1)), m = std::fabs(most), r = std::fabs(at(best + 1));
    const double bend = l - 2 * m + r;
    return static_cast<double>(best) + (bend < 0 ? 0.5 * (l - r) / bend : 0);
}

}  // namespace cruscotto
