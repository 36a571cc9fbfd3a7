#pragma once

#include <algorithm>
#include <array>
#include <optional>

#include "core/base/time.h"

namespace cruscotto {

/// The usual interval between arrivals, to tell a silent device from a slow one. Confined to one thread.
class Rhythm {
public:
    void came(Instant t) {
        if (last_ && t > *last_) lately_[next_++ % lately_.size()] = t - *last_;
        last_ = t;
    }
    /// There was a pause: the time until the next arrival is not counted as an interval.
    void paused() { last_.reset(); }
    /// How long without an arrival means silence: `least`, or three times the longest of the last eight intervals.
    [[nodiscard]] Duration patience(Duration least) const {
        const Duration longest = *std::ranges::max_element(lately_);
        return std::max(least, longest + longest + longest);
    }

private:
    std::array<Duration, 8> lately_{};
    std::size_t next_ = 0;
    std::optional<Instant> last_;
};

}  // namespace cruscotto
