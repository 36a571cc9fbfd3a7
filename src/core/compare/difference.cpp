#include "core/compare/difference.h"

#include <algorithm>
#include <array>
#include <cmath>

#include "core/analysis/measures.h"
#include "core/analysis/signs.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/stretch_measures.h"

namespace cruscotto {

namespace {

constexpr std::size_t mostPlaces = 2048, leastPlaces = 16;

/// A signal on a grid of places of one width.
struct Gridded {
    std::vector<double> means;
    double withinSquares = 0;  ///< about the means of the places
    double within = 0;         ///< readings that these are of
    double low = 0, high = 0;
    [[nodiscard]] double extent() const { return high - low; }
};

Gridded gridded(const Source& source, const std::string& signal, Span span, std::size_t n) {
    Gridded out;
    const Duration width{std::max<std::int64_t>(1, (span.to - span.from).ns / static_cast<std::int64_t>(n))};
    std::vector<Column> columns;
    source.columns(signal, {span.from, width, n}, columns);
    const StretchSummary all = source.summaryOver(signal, span);
    out.low = all.min;
    out.high = all.max;
    for (const Column& c : columns) {
        const bool any = c.summary.count > 0;
        // Between readings that come slower than the places it is what it was.
        out.means.push_back(any ? c.summary.mean : out.means.empty() || c.gapBefore ? std::nan("") : out.means.back());
        if (c.summary.count > 1) {
            out.withinSquares += c.summary.squares;
            out.within += c.summary.count - 1.0;
        }
    }
    return out;
}

double rms(std::span<const double> x) {
    double sum = 0;
    for (const double v : x) sum += v * v;
    return x.empty() ? 0 : std::sqrt(sum / static_cast<double>(x.size()));
}

/// What moves from reading to reading: within the places, or where they hold one reading each, from place to place.
struct Noise {
    double deviation = 0, of = 0;  ///< of so many readings
};
Noise noiseOf(const Gridded& g, std::span<const double> means) {
    const auto places = static_cast<double>(means.size());
    if (g.within >= places) return {std::sqrt(g.withinSquares / g.within), g.within};
    return {signs::movementOf(means).noise, places};
}

struct Compared {
    const SignalSpec& spec;
    double excursion = 0;  ///< what the signal does in both
    std::vector<DifferencePart> parts;

    void add(DifferenceKind kind, double amount, const std::string& unit, double size, Text words) {
        parts.push_back({kind, amount, unit, std::min(size, 10.0), std::move(words)});
    }
    [[nodiscard]] std::string amountText(double v) const {
        const std::string unit = unitText(spec.unit());
        return threeDigits(std::fabs(v)) + (unit.empty() || unit == "1" ? "" : " " + unit);
    }
};

void compareLevel(Compared& c, const std::vector<double>& a, const std::vector<double>& b, double resolution) {
    constexpr std::size_t batches = 16;
    const std::size_t each = a.size() / batches;
    if (each == 0) return;
    std::array<double, batches> apart{};
    double mean = 0;
    for (std::size_t i = 0; i < batches; ++i) {
        for (std::size_t k = i * each; k < (i + 1) * each; ++k) apart[i] += (b[k] - a[k]) / static_cast<double>(each);
        mean += apart[i] / batches;
    }
    double squares = 0;
    for (const double d : apart) squares += (d - mean) * (d - mean);
    const double error = std::sqrt(squares / (batches - 1) / batches);
    constexpr double surely = 4.5;  // of sixteen parts: once in two thousand comparisons by chance
    if (std::fabs(mean) <= surely * error || std::fabs(mean) <= resolution) return;
    c.add(DifferenceKind::level, mean, c.spec.unit(), std::fabs(mean) / c.excursion,
          text(mean > 0 ? CRUSCOTTO_TEXT("{0} higher") : CRUSCOTTO_TEXT("{0} lower"), c.amountText(mean)));
}

void compareNoise(Compared& c, Noise a, Noise b, double resolution) {
    if (std::max(a.deviation, b.deviation) <= resolution) return;
    const double ratio = a.deviation > 0 ? b.deviation / a.deviation : std::numeric_limits<double>::infinity();
    // Standard deviation of the logarithm of a ratio of two standard deviations, of noise that is not quite white.
    constexpr double surely = 5;
    const double chance = surely * std::sqrt(1 / std::max(1.0, a.of) + 1 / std::max(1.0, b.of));
    constexpr double least = 0.05;
    if (std::fabs(std::log(ratio)) <= std::max(least, chance)) return;
    c.add(DifferenceKind::noise, ratio, "1", std::fabs(b.deviation - a.deviation) / c.excursion,
          std::isfinite(ratio) ? text(ratio > 1 ? CRUSCOTTO_TEXT("{0} times as noisy (from {1} to {2} rms)")
                                                : CRUSCOTTO_TEXT("noise {0} times what it was (from {1} to {2} rms)"),
                                      threeDigits(ratio), c.amountText(a.deviation), c.amountText(b.deviation))
                               : text(CRUSCOTTO_TEXT("noisy where it was not ({0} rms)"), c.amountText(b.deviation)));
}

std::vector<double> later(const std::vector<double>& x, double steps, std::size_t from, std::size_t n) {
    std::vector<double> out(n);
    for (std::size_t i = 0; i < n; ++i) {
        const double at = static_cast<double>(from + i) + steps;
        const double whole = std::floor(at), part = at - whole;
        const auto k = static_cast<std::size_t>(std::clamp(whole, 0.0, static_cast<double>(x.size() - 1)));
        const std::size_t next = std::min(k + 1, x.size() - 1);
        out[i] = x[k] + part * (x[next] - x[k]);
    }
    return out;
}

/// Timing and shape, of two without their means.
void compareCourse(Compared& c, std::vector<double> a, std::vector<double> b, double floor, double step) {
    const auto centre = [](std::vector<double>& x) {
        double mean = 0;
        for (const double v : x) mean += v / static_cast<double>(x.size());
        for (double& v : x) v -= mean;
    };
    centre(a);
    centre(b);
    std::vector<double> apart(a.size());
    const auto take = [&](const std::vector<double>& x, const std::vector<double>& y) {
        apart.resize(x.size());
        for (std::size_t i = 0; i < x.size(); ++i) apart[i] = y[i] - x[i];
        return rms(apart);
    };
    double left = take(a, b);
    if (left > 1.5 * floor) {
        const auto steps = lagOf(a, b);
        constexpr double leastSteps = 0.25, explains = 0.8;
        if (steps && std::fabs(*steps) > leastSteps) {
            const auto by = static_cast<std::size_t>(std::ceil(std::fabs(*steps)));
            if (by + leastPlaces < a.size()) {
                const std::size_t from = *steps < 0 ? by : 0, n = a.size() - by;
                std::vector<double> x(a.begin() + static_cast<std::ptrdiff_t>(from),
                                      a.begin() + static_cast<std::ptrdiff_t>(from + n));
                std::vector<double> y = later(b, *steps, from, n);
                centre(x);
                centre(y);
                const double then = take(x, y);
                if (then < explains * left) {
                    const double s = *steps * step;
                    const double explained = std::sqrt(left * left - then * then);
                    c.add(DifferenceKind::timing, s, "s", explained / c.excursion,
                          text(s > 0 ? CRUSCOTTO_TEXT("{0} s later") : CRUSCOTTO_TEXT("{0} s earlier"),
                               threeDigits(std::fabs(s))));
                    left = then;
                    a = std::move(x);
                    b = std::move(y);
                } else {
                    take(a, b);
                }
            }
        }
    }
    constexpr double surely = 1.5, least = 0.01;
    const double beyond = std::sqrt(std::max(0.0, left * left - floor * floor));
    if (left <= surely * floor || beyond <= least * c.excursion) return;
    const auto most =
        std::max_element(apart.begin(), apart.end(), [](double x, double y) { return std::fabs(x) < std::fabs(y); });
    c.add(DifferenceKind::shape, beyond, c.spec.unit(), beyond / c.excursion,
          text(CRUSCOTTO_TEXT("another shape: {0} apart (rms), {1} at most, at {2} s"), c.amountText(beyond),
               c.amountText(*most), threeDigits(static_cast<double>(most - apart.begin()) * step)));
}

void compareState(Compared& c, const Source& own, const LaidOver& other, Span span) {
    const StateOver a = stateOver(own, c.spec, span), b = stateOver(*other.source, c.spec, other.own(span));
    constexpr double least = 0.001;
    if (std::fabs(b.share - a.share) > least) {
        const double s = (b.share - a.share) * (span.to - span.from).seconds();
        c.add(DifferenceKind::level, b.share - a.share, "1", std::fabs(b.share - a.share),
              text(s > 0 ? CRUSCOTTO_TEXT("on for {0} s longer ({1} % of the time instead of {2} %)")
                         : CRUSCOTTO_TEXT("on for {0} s less ({1} % of the time instead of {2} %)"),
                   threeDigits(std::fabs(s)), threeDigits(100 * b.share), threeDigits(100 * a.share)));
    }
    if (a.changes && b.changes && *a.changes != *b.changes) {
        const auto most = static_cast<double>(std::max(*a.changes, *b.changes));
        const double more = static_cast<double>(*b.changes) - static_cast<double>(*a.changes);
        c.add(DifferenceKind::shape, more, "1", std::fabs(more) / most,
              text(CRUSCOTTO_TEXT("{0} changes instead of {1}"), *b.changes, *a.changes));
    }
    if (!c.parts.empty() && c.parts.front().kind == DifferenceKind::shape) return;
    Crossing change{c.spec.id, 0.5, own.at(c.spec.id, span.from).value < 0.5};
    const auto first = firstCrossing(own, change), then = firstCrossing(*other.source, change);
    if (!first || !then) return;
    const double lateS = (*then + other.shift - *first).seconds();
    constexpr double share = 1e-3;
    if (std::fabs(lateS) < share * (span.to - span.from).seconds()) return;
    c.add(DifferenceKind::timing, lateS, "s", std::fabs(lateS) / (span.to - span.from).seconds(),
          text(lateS > 0 ? CRUSCOTTO_TEXT("changes {0} s later") : CRUSCOTTO_TEXT("changes {0} s earlier"),
               threeDigits(std::fabs(lateS))));
}

void compareReadings(Compared& c, const Source& own, const LaidOver& other, Span span) {
    const Span there = other.own(span);
    const auto readings =
        std::min(own.summaryOver(c.spec.id, span).count, other.source->summaryOver(c.spec.id, there).count);
    const std::size_t n = std::clamp<std::size_t>(readings / 2, leastPlaces, mostPlaces);
    const Gridded a = gridded(own, c.spec.id, span, n), b = gridded(*other.source, c.spec.id, there, n);
    std::vector<double> x, y;
    for (std::size_t i = 0; i < std::min(a.means.size(), b.means.size()); ++i)
        if (std::isfinite(a.means[i]) && std::isfinite(b.means[i])) {
            x.push_back(a.means[i]);
            y.push_back(b.means[i]);
        }
    if (x.size() < leastPlaces) return;
    constexpr double thousandth = 1e-3;
    const double largest = std::max({std::fabs(a.low), std::fabs(a.high), std::fabs(b.low), std::fabs(b.high)});
    c.excursion = std::max({a.extent(), b.extent(), thousandth * largest});
    if (!(c.excursion > 0)) return;
    constexpr double numbers = 1e-12;  // what adding up in another order may do
    const double resolution = numbers * largest;
    const Noise na = noiseOf(a, x), nb = noiseOf(b, y);
    compareLevel(c, x, y, resolution);
    compareNoise(c, na, nb, resolution);
    // Two courses that are the same but for their noise are so far apart.
    const double perPlace = std::max(1.0, static_cast<double>(readings) / static_cast<double>(n));
    const double floor = std::sqrt((na.deviation * na.deviation + nb.deviation * nb.deviation) / perPlace);
    const double step = (span.to - span.from).seconds() / static_cast<double>(n);
    compareCourse(c, std::move(x), std::move(y), std::max(floor, resolution), step);
}

}  // namespace

const char* differenceName(DifferenceKind kind) {
    switch (kind) {
        case DifferenceKind::level:
            return "level";
        case DifferenceKind::noise:
            return "noise";
        case DifferenceKind::timing:
            return "timing";
        case DifferenceKind::shape:
            return "shape";
        case DifferenceKind::missing:
            break;
    }
    return "missing";
}

double SignalDifference::size() const {
    return parts.empty() ? 0 : parts.front().size;
}

std::vector<SignalDifference> differencesBetween(const Bench& ownBench, const Source& own, const Bench& otherBench,
                                                 const LaidOver& other, Span span, Progress* progress) {
    std::vector<SignalDifference> out;
    constexpr double largerThanAll = 100;
    const auto missing = [&](const std::string& id, const char* words) {
        out.push_back({id, {{DifferenceKind::missing, 0, "1", largerThanAll, words}}});
    };
    std::uint64_t done = 0;
    for (const auto& s : ownBench.signals) {
        if (progress) {
            progress->advance(done++, ownBench.signals.size());
            if (progress->cancelled()) return {};
        }
        const SignalSpec* there = otherBench.signal(s->id);
        if (!there) {
            missing(s->id, CRUSCOTTO_TEXT("the other does not have it"));
            continue;
        }
        if (s->isState() != there->isState() || (!s->isState() && s->unit() != there->unit())) {
            missing(s->id, CRUSCOTTO_TEXT("reads in another unit there"));
            continue;
        }
        Compared c{*s, 0, {}};
        const bool here = own.summaryOver(s->id, span).count > 0;
        const bool elsewhere = other.source->summaryOver(s->id, other.own(span)).count > 0;
        if (here != elsewhere && !s->isState()) {
            missing(s->id,
                    here ? CRUSCOTTO_TEXT("nothing was read in the other") : CRUSCOTTO_TEXT("read in the other only"));
            continue;
        }
        if (s->isState())
            compareState(c, own, other, span);
        else if (here)
            compareReadings(c, own, other, span);
        std::ranges::stable_sort(c.parts, std::greater{}, &DifferencePart::size);
        out.push_back({s->id, std::move(c.parts)});
    }
    for (const auto& s : otherBench.signals)
        if (!ownBench.signal(s->id)) missing(s->id, CRUSCOTTO_TEXT("only the other has it"));
    std::ranges::stable_sort(out, std::greater{}, &SignalDifference::size);
    return out;
}

}  // namespace cruscotto
