#pragma once

#include <cstdint>
#include <optional>

#include "core/signal/clock_fit.h"

namespace cruscotto {

/// The time that a board stamps its readings with, on the bench's axis: its counter is followed over its ends, and tied
/// to the times at which the readings arrive by a running fit, so that a late arrival moves no sample. Confined to one
/// thread.
class BoardClock {
public:
    /// The counter has so many bits, 8 to 53, and counts units of so many seconds.
    BoardClock(int bits, double unitSeconds);
    /// When the sample was taken: never after it arrived, never before the one before it. A counter that does not go on
    /// as time does, as after a reset of the board, begins anew; so does one that has stood still, once all its samples
    /// have seemed too old for two seconds.
    Instant at(std::uint64_t stamp, Instant arrived);
    /// How often it has begun anew.
    [[nodiscard]] std::uint64_t restarts() const { return restarts_; }
    void reset();

private:
    const std::uint64_t mask_;
    const double unitNs_;
    std::optional<ClockFit> fit_;
    struct Seen {
        std::uint64_t stamp = 0;
        Instant arrived, at;
    };
    void begin(std::uint64_t stamp, Instant arrived);
    std::optional<Seen> last_;
    std::optional<Instant> oldSince_;  // all samples have seemed too old
    std::uint64_t ticks_ = 0;          // since it began
    std::uint64_t placed_ = 0;         // ticks from here on have no time yet
    std::uint64_t restarts_ = 0;
};

}  // namespace cruscotto
