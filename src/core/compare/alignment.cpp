#include "core/compare/alignment.h"

#include <cmath>
#include <ctime>

#include "core/base/level.h"
#include "core/base/number_text.h"

namespace cruscotto {

namespace {

constexpr std::size_t columnsALook = 512, pointsALook = 20'000;

/// Within the span, which the caller knows to hold it; looked at by finer and finer columns until single readings are
/// few enough.
std::optional<Instant> crossingWithin(const Source& source, const Crossing& crossing, double away, Span span,
                                      int depth) {
    // Turned around, falling through the level is rising through it.
    const double sign = crossing.rises ? 1 : -1;
    const double level = sign * crossing.level;
    LevelDetector detector(level, away);
    std::vector<Point> points;
    if (source.points(crossing.signal, span, pointsALook, points)) {
        std::optional<Instant> found;
        std::vector<double> turned;
        turned.reserve(points.size());
        for (const Point& p : points) turned.push_back(sign * p.value);
        detector.look(turned, [&](std::size_t i, bool above) {
            if (!above || found || i == 0) return;
            const double before = turned[i - 1];
            const double part = before < level ? (level - before) / (turned[i] - before) : 0;
            found = points[i - 1].t + fromNs(part * static_cast<double>((points[i].t - points[i - 1].t).ns));
        });
        return found;
    }
    constexpr int deepest = 8;
    const Duration width{std::max<std::int64_t>(1, (span.to - span.from).ns / std::int64_t{columnsALook} + 1)};
    std::vector<Column> columns;
    source.columns(crossing.signal, {span.from, width, columnsALook}, columns);
    bool below = false;
    std::size_t since = 0;  // the last column in which it was below
    for (std::size_t i = 0; i < columns.size(); ++i) {
        const Summary& s = columns[i].summary;
        if (!s.count) continue;
        const double least = crossing.rises ? s.min : -s.max, most = crossing.rises ? s.max : -s.min;
        const bool wasBelow = below || least < level - away;
        if (wasBelow && most >= level) {
            const Span nearer{below ? columns[since].begin : columns[i].begin, columns[i].begin + width};
            if (depth >= deepest) return columns[i].begin;
            if (const auto found = crossingWithin(source, crossing, away, nearer, depth + 1)) return found;
        }
        if (least < level - away) {
            below = true;
            since = i;
        }
    }
    return {};
}

/// Seconds of the day that it was, by the clock on the wall of this place.
double secondsOfDay(const WallAnchor& anchor, Instant t) {
    constexpr std::int64_t second = 1'000'000'000;
    const std::int64_t unixNs = anchor.unixNs + (t - anchor.at).ns;
    const auto whole = static_cast<std::time_t>(unixNs / second);
    std::tm local{};
    localtime_r(&whole, &local);
    constexpr int minute = 60, hour = 3600;
    return local.tm_hour * hour + local.tm_min * minute + local.tm_sec + static_cast<double>(unixNs % second) * 1e-9;
}

}  // namespace

std::optional<Instant> firstCrossing(const Source& source, const Crossing& crossing) {
    const Span whole{source.extent().from, source.extent().to + nanoseconds(1)};
    const StretchSummary all = source.summaryOver(crossing.signal, whole);
    if (!(all.max > all.min)) return {};
    constexpr double hundredth = 0.01;
    return crossingWithin(source, crossing, hundredth * (all.max - all.min), whole, 0);
}

Result<Duration> shiftFor(Alignment by, const Source& own, std::optional<Instant> ownMark, const Source& other,
                          std::optional<Instant> otherMark, const Crossing& crossing) {
    switch (by) {
        case Alignment::beginning:
            break;
        case Alignment::firstMark:
            if (!ownMark) return failure("What is in front has no mark to lay the other run by.");
            if (!otherMark) return failure("The other run has no mark to lay it by.");
            return *ownMark - *otherMark;
        case Alignment::crossing: {
            const auto here = firstCrossing(own, crossing), there = firstCrossing(other, crossing);
            if (!here) return failure("What is in front never goes through {0} that way.", shortNumber(crossing.level));
            if (!there) return failure("The other run never goes through {0} that way.", shortNumber(crossing.level));
            return *here - *there;
        }
        case Alignment::timeOfDay: {
            const Instant here = own.extent().from, there = other.extent().from;
            constexpr double day = 86'400;
            // Both begin as near to each other as the hour allows.
            const double apart =
                std::remainder(secondsOfDay(other.anchor(), there) - secondsOfDay(own.anchor(), here), day);
            return (here - there) + seconds(apart);
        }
    }
    return own.extent().from - other.extent().from;
}

Span commonSpan(const Source& own, const LaidOver& other) {
    const Span a = own.extent(), b = other.source->extent();
    Span both{std::max(a.from, b.from + other.shift), std::min(a.to, b.to + other.shift)};
    if (both.to < both.from) both.to = both.from;
    return both;
}

}  // namespace cruscotto
