#include "devices/link/board_clock.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace cruscotto {

namespace {
// An arrival may be late by that much, and a board's clock wrong by that part of what has passed.
constexpr double lateNs = 2e9, wrongBy = 0.005;
constexpr Duration tooOld = milliseconds(250), oldFor = milliseconds(2000);
}  // namespace

BoardClock::BoardClock(int bits, double unitSeconds)
    : mask_((std::uint64_t{1} << bits) - 1), unitNs_(unitSeconds * 1e9) {}

void BoardClock::reset() {
    last_.reset();
}

void BoardClock::begin(std::uint64_t stamp, Instant arrived) {
    last_ = Seen{stamp, arrived, last_ ? last_->at : Instant{std::numeric_limits<std::int64_t>::min()}};
    fit_.emplace(1e9 / unitNs_);
    oldSince_.reset();
    ticks_ = placed_ = 0;
}

Instant BoardClock::at(std::uint64_t stamp, Instant arrived) {
    stamp &= mask_;
    if (!last_) {
        begin(stamp, arrived);
    } else {
        const auto passedNs = static_cast<double>((arrived - last_->arrived).ns);
        const double period = static_cast<double>(mask_) + 1;
        const auto ahead = static_cast<double>((stamp - last_->stamp) & mask_);
        // The counter may have gone round while nothing came; a little back is a stamp out of order.
        const double turns = std::round((passedNs / unitNs_ - ahead) / period);
        const double moved = ahead + turns * period;
        const bool old = oldSince_ && arrived - *oldSince_ > oldFor;
        if (old || std::fabs(moved * unitNs_ - passedNs) > lateNs + wrongBy * passedNs) {
            ++restarts_;
            begin(stamp, arrived);
        } else if (moved < 0) {
            return last_->at;
        } else {
            ticks_ += static_cast<std::uint64_t>(moved);
            last_->stamp = stamp;
            last_->arrived = arrived;
        }
    }
    fit_->observe(ticks_, arrived);
    if (ticks_ >= placed_) {
        placed_ = ticks_ + 1;
        const Instant at = std::min(fit_->place(ticks_, 1).t0, arrived);
        last_->at = std::max(at, last_->at);
    }
    // One late arrival says nothing; if all are late, the counter has stood still meanwhile.
    if (arrived - last_->at < tooOld)
        oldSince_.reset();
    else if (!oldSince_)
        oldSince_ = arrived;
    return last_->at;
}

}  // namespace cruscotto
