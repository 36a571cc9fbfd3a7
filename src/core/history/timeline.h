#pragma once

#include <atomic>
#include <cmath>
#include <cstdint>
#include <optional>

#include "core/base/shared_ring.h"
#include "core/signal/block.h"

namespace cruscotto {

/// When the samples of one scan group were taken: a piecewise straight line from sample number to time, shared by the
/// group's signals. One writer (append), any readers.
class Timeline {
public:
    explicit Timeline(std::size_t segments)
        : first_(segments),
          t0_(segments),
          dt_(segments),
          afterGap_(segments),
          gapBegins_(4096),
          gapQualities_(4096),
          gapEnds_(4096) {}

    /// Writer. Blocks must come in time order. A block that goes on where the last one ended costs nothing.
    void append(const Block& block);

    /// Samples so far. Any thread, like all below.
    [[nodiscard]] std::uint64_t count() const { return count_.load(std::memory_order_acquire); }
    /// Precondition: index < count(). Nothing if it is no longer kept.
    [[nodiscard]] std::optional<Instant> timeOf(std::uint64_t index) const;
    /// Number of the last sample at or before t; nothing if t lies before all that is kept.
    [[nodiscard]] std::optional<std::uint64_t> lastAtOrBefore(Instant t) const;

    struct Segment {
        std::uint64_t first = 0, end = 0;
        Instant t0;
        double dtNs = 0;
        bool afterGap = false;
        [[nodiscard]] Instant timeOf(std::uint64_t i) const {
            return {t0.ns + std::llround(static_cast<double>(i - first) * dtNs)};
        }
    };
    /// Calls each(Instant) for the ends of the gaps in the span, as far as they are kept.
    template <class Each>
    void gapEnds(Span span, Each&& each) const {
        for (std::uint64_t i = gapEnds_.written(); i-- > gapEnds_.firstKept();) {
            const Instant t{gapEnds_.at(i)};
            if (t < span.from) break;
            if (t < span.to) each(t);
        }
    }
    struct Hole {
        Span span;
        Quality quality = Quality::gap;  ///< stale: nothing new came, though somebody was there
    };
    /// The gap in which nothing was measured at t, as far as it is kept. It is known once samples have come again.
    [[nodiscard]] std::optional<Hole> gapAt(Instant t) const;
    /// The segment that holds a sample, if it is kept.
    [[nodiscard]] std::optional<Segment> segmentOf(std::uint64_t index) const;

private:
    [[nodiscard]] Segment segmentAt(std::uint64_t number, std::uint64_t segments, std::uint64_t samples) const;

    SharedRing<std::uint64_t> first_;
    SharedRing<std::int64_t> t0_;
    SharedRing<double> dt_;
    SharedRing<std::uint32_t> afterGap_;  // written last of the four
    SharedRing<std::int64_t> gapBegins_;
    SharedRing<std::uint8_t> gapQualities_;
    SharedRing<std::int64_t> gapEnds_;  // written last of the three
    std::atomic<std::uint64_t> count_{0};
    Segment last_;  // writer's own
};

}  // namespace cruscotto
