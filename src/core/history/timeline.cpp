#include "core/history/timeline.h"

#include <algorithm>
#include <cmath>

#include "core/history/last_not_after.h"

namespace cruscotto {

void Timeline::append(const Block& block) {
    const std::uint64_t before = count_.load(std::memory_order_relaxed);
    const std::size_t n = block.size();
    if (n == 0) return;
    const auto begin = [&](std::uint64_t first, Instant t0, double dt, bool gap) {
        last_ = {first, 0, t0, dt, gap};
        first_.append(first);
        t0_.append(t0.ns);
        dt_.append(dt);
        afterGap_.append(gap ? 1U : 0U);
    };
    const bool gap = block.gapBefore.has_value();
    if (gap) {
        gapBegins_.append(std::min(block.gapBefore->from, block.timeOf(0)).ns);
        gapQualities_.append(static_cast<std::uint8_t>(block.gapBefore->quality));
        gapEnds_.append(block.timeOf(0).ns);
    }
    if (block.times.empty()) {
        const std::int64_t predicted = last_.timeOf(before).ns;
        const bool goesOn = before > 0 && !gap && last_.dtNs == block.dtNs &&
                            std::llabs(block.t0.ns - predicted) <= std::llround(block.dtNs / 4) + 1;
        if (!goesOn) begin(before, block.t0, block.dtNs, gap);
    } else {
        for (std::size_t i = 0; i < n; ++i) begin(before + i, block.times[i], 0, gap && i == 0);
    }
    count_.store(before + n, std::memory_order_release);
}

Timeline::Segment Timeline::segmentAt(std::uint64_t number, std::uint64_t segments, std::uint64_t samples) const {
    Segment s;
    s.first = first_.at(number);
    s.end = number + 1 < segments ? first_.at(number + 1) : samples;
    s.t0 = {t0_.at(number)};
    s.dtNs = dt_.at(number);
    s.afterGap = afterGap_.at(number) != 0;
    return s;
}

std::optional<Timeline::Hole> Timeline::gapAt(Instant t) const {
    const auto number = lastNotAfter(gapBegins_.firstKept(), gapEnds_.written(), t.ns,
                                     [&](std::uint64_t i) { return gapBegins_.at(i); });
    if (!number) return std::nullopt;
    const Hole gap{{{gapBegins_.at(*number)}, {gapEnds_.at(*number)}}, static_cast<Quality>(gapQualities_.at(*number))};
    if (gapBegins_.firstKept() > *number || t >= gap.span.to) return std::nullopt;
    return gap;
}

std::optional<Timeline::Segment> Timeline::segmentOf(std::uint64_t index) const {
    const std::uint64_t samples = count();
    const std::uint64_t segments = afterGap_.written();
    const auto number =
        lastNotAfter(first_.firstKept(), segments, index, [&](std::uint64_t i) { return first_.at(i); });
    if (!number || index >= samples) return std::nullopt;
    Segment s = segmentAt(*number, segments, samples);
    if (first_.firstKept() > *number) return std::nullopt;  // overwritten meanwhile
    s.end = std::min(s.end, samples);
    return s;
}

std::optional<Instant> Timeline::timeOf(std::uint64_t index) const {
    const auto s = segmentOf(index);
    if (!s) return std::nullopt;
    return s->timeOf(index);
}

std::optional<std::uint64_t> Timeline::lastAtOrBefore(Instant t) const {
    const std::uint64_t samples = count();
    const std::uint64_t segments = afterGap_.written();
    const auto number = lastNotAfter(first_.firstKept(), segments, t.ns, [&](std::uint64_t i) { return t0_.at(i); });
    if (!number || samples == 0) return std::nullopt;
    const Segment s = segmentAt(*number, segments, samples);
    if (first_.firstKept() > *number) return std::nullopt;
    const std::uint64_t end = std::min(s.end, samples);
    if (s.first >= end) return s.first > 0 && s.first <= samples ? std::optional(s.first - 1) : std::nullopt;
    if (s.dtNs <= 0) return s.first;
    auto k = static_cast<std::uint64_t>(std::max(0.0, static_cast<double>(t.ns - s.t0.ns) / s.dtNs));
    k = std::min(k + 1, end - s.first - 1);
    while (k > 0 && s.timeOf(s.first + k) > t) --k;
    return s.first + k;
}

}  // namespace cruscotto
