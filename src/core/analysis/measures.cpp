#include "core/analysis/measures.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <optional>

#include "core/analysis/signs.h"
#include "core/analysis/sine_fit.h"
#include "core/analysis/steadiness.h"
#include "core/base/units.h"

namespace cruscotto {

namespace {

const std::array<std::string, 31> namesOfOne{"count",        "mean",          "median",         "standard-deviation",
                                             "rms",          "ac-rms",        "minimum",        "maximum",
                                             "peak-to-peak", "slope",         "area",           "frequency",
                                             "period",       "period-jitter", "duty",           "high-level",
                                             "low-level",    "amplitude",     "rise-time",      "fall-time",
                                             "overshoot",    "edges",         "sine-amplitude", "sine-frequency",
                                             "sine-phase",   "sine-offset",   "residual-rms",   "sinad",
                                             "thd",          "clipped-share", "percentile-95"};
const std::array<std::string, 5> namesOfTwo{"gain", "gain-db", "phase", "delay", "correlation"};

constexpr double wholeTurn = 2 * std::numbers::pi;
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

    std::map<std::string, Measure> all() {
        set("count", static_cast<double>(values_.size()), "1", 0);
        if (values_.empty()) {
            missing(namesOfOne, CRUSCOTTO_TEXT("nothing was read"));
            return std::move(out_);
        }
        plain();
        overTime();
        repeating();
        sine();
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
        set("percentile-95", percentile(0.95), unit);
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

    void overTime() {
        const std::string perSecond = given_.unit.empty() || given_.unit == "1" ? "/s" : given_.unit + "/s";
        const std::string times = given_.unit.empty() || given_.unit == "1" ? "s" : given_.unit + ".s";
        if (values_.size() < 3 || !(seconds_.back() > seconds_.front())) {
            setNone("slope", perSecond, CRUSCOTTO_TEXT("fewer than three readings"));
        } else {
            const auto n = static_cast<double>(values_.size());
            double meanT = 0, meanV = 0, product = 0, squares = 0, rest = 0;
            for (std::size_t i = 0; i < values_.size(); ++i) meanT += seconds_[i] / n, meanV += values_[i] / n;
            for (std::size_t i = 0; i < values_.size(); ++i) {
                product += (seconds_[i] - meanT) * (values_[i] - meanV);
                squares += (seconds_[i] - meanT) * (seconds_[i] - meanT);
            }
            const double slope = product / squares;
            for (std::size_t i = 0; i < values_.size(); ++i) {
                const double d = values_[i] - meanV - slope * (seconds_[i] - meanT);
                rest += d * d;
            }
            set("slope", slope, perSecond, std::sqrt(rest / (n - 2) / squares));
        }
        // By trapezia, and not over what was not read.
        double area = 0;
        for (std::size_t i = 1; i < given_.values.size(); ++i)
            if (std::isfinite(given_.values[i]) && std::isfinite(given_.values[i - 1]))
                area += (given_.values[i] + given_.values[i - 1]) / 2 * (given_.seconds[i] - given_.seconds[i - 1]);
        set("area", area, times);
    }

    void repeating() {
        const std::string& unit = given_.unit;
        const std::array names{"frequency", "period",    "period-jitter", "duty",      "high-level", "low-level",
                               "amplitude", "rise-time", "fall-time",     "overshoot", "edges"};
        if (!(high_ > low_)) return missing(names, CRUSCOTTO_TEXT("nothing moves"));
        // A ramp and noise have no two levels, and can repeat all the same.
        const auto levels = levelsOf(values_, low_, high_);
        const double low = levels.value_or(ends_).first, high = levels.value_or(ends_).second;
        const Edges edges = edgesOf(s_, low, high);
        set("edges", static_cast<double>(edges.rising.size() + edges.falling.size()), "1", 0);
        if (edges.rising.empty() && edges.falling.empty())
            return missing(names, CRUSCOTTO_TEXT("no edge goes from one level to the other"));
        periods(edges);
        if (!levels) return missing(names, CRUSCOTTO_TEXT("it does not stand at two levels"));
        set("low-level", low, unit);
        set("high-level", high, unit);
        set("amplitude", high - low, unit);
        transitions(edges, low, high);
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
        if (edges.risesAt.empty()) return setNone("overshoot", "%", CRUSCOTTO_TEXT("there is no rising edge"));
        std::vector<double> over;
        for (std::size_t k = 0; k < edges.risesAt.size(); ++k) {
            const auto next = std::ranges::upper_bound(edges.fallsAt, edges.risesAt[k]);
            const std::size_t end = next == edges.fallsAt.end() ? values_.size() : *next;
            const double peak = *std::max_element(values_.begin() + static_cast<std::ptrdiff_t>(edges.risesAt[k]),
                                                  values_.begin() + static_cast<std::ptrdiff_t>(end));
            over.push_back(100 * (peak - high) / (high - low));
        }
        const Spread spread = spreadOf(over);
        set("overshoot", spread.mean, "%", spread.ofMean());
    }

    void sine() {
        const std::string& unit = given_.unit;
        const std::array names{"sine-amplitude", "sine-frequency", "sine-phase", "sine-offset",
                               "residual-rms",   "sinad",          "thd"};
        const auto flat = signs::flatTopsOf(std::span(values_).first(std::min(values_.size(), mostForTops)), 0);
        if (values_.size() >= 64)
            set("clipped-share", flat ? flat->share : 0, "1");
        else
            setNone("clipped-share", "1", CRUSCOTTO_TEXT("fewer than 64 readings"));
        if (given_.state) return missing(names, CRUSCOTTO_TEXT("a state is no sine"));
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

/// By how many steps, with their fraction, b comes behind a: where their correlation is highest (in size).
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

std::string unitRatio(const std::string& of, const std::string& from) {
    if (of == from || convertUnit(of, from)) return "1";
    const UnitPower powers[] = {{of, 1}, {from, -1}};
    return unitProduct(powers).unit;
}

}  // namespace

std::span<const std::string> measureNames() {
    return namesOfOne;
}
std::span<const std::string> measureNamesOfTwo() {
    return namesOfTwo;
}

std::map<std::string, Measure> measuresOf(const MeasuredStretch& stretch) {
    return OneSignal(stretch).all();
}

std::map<std::string, Measure> measuresOfTwo(const MeasuredStretch& from, const MeasuredStretch& of) {
    std::map<std::string, Measure> out;
    const std::string unit = unitRatio(of.unit, from.unit);
    const auto none = [&](const Text& why) {
        for (const std::string& name : namesOfTwo)
            if (!out.contains(name)) out[name] = {noNumber, "1", -1, why};
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
    const double step = (t.back() - t.front()) / (n - 1);
    if (const auto lag = lagOf(a, b))
        out["delay"] = {*lag * step, "s", -1, {}};
    else
        out["delay"] = {noNumber, "s", -1, CRUSCOTTO_TEXT("they have too little in common")};
    return none(CRUSCOTTO_TEXT("nothing moves"));
}

}  // namespace cruscotto
