#include "devices/link/board_clock.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace cruscotto {

namespace {
// An arrival may be late by that much, and a board's clock wrong by that part of what has passed.
constexpr double lateNs = 2e9, wrongBy = 0.005;
}  // namespace

BoardClock::BoardClock(int bits, double unitSeconds)
    : mask_((std::uint64_t{1} << bits) - 1), unitNs_(unitSeconds * 1e9) {}

void BoardClock::reset() {
    last_.reset();
}

Instant BoardClock::at(std::uint64_t stamp, Instant arrived) {
    stamp &= mask_;
    if (last_) {
        const auto passedNs = static_cast<double>((arrived - last_->arrived).ns);
        const double period = static_cast<double>(mask_) + 1;
        const auto ahead = static_cast<double>((stamp - last_->stamp) & mask_);
        // The counter may have gone round while nothing came; a little back is a stamp out of order.
        const double turns = std::round((passedNs / unitNs_ - ahead) / period);
        const double moved = ahead + turns * period;
        if (std::fabs(moved * unitNs_ - passedNs) > lateNs + wrongBy * passedNs) {
            ++restarts_;
            last_->stamp = stamp;
            last_->arrived = arrived;
            fit_.emplace(1e9 / unitNs_);
            ticks_ = placed_ = 0;
        } else if (moved < 0) {
            return last_->at;
        } else {
            ticks_ += static_cast<std::uint64_t>(moved);
            last_->stamp = stamp;
            last_->arrived = arrived;
        }
    } else {
        last_ = Seen{stamp, arrived, Instant{std::numeric_limits<std::int64_t>::min()}};
        fit_.emplace(1e9 / unitNs_);
        ticks_ = placed_ = 0;
    }
    fit_->observe(ticks_, arrived);
    if (ticks_ >= placed_) {
        placed_ = ticks_ + 1;
        const Instant at = std::min(fit_->place(ticks_, 1).t0, arrived);
        last_->at = std::max(at, last_->at);
    }
    return last_->at;
}

}  // namespace cruscotto
