#pragma once

#include <algorithm>
#include <array>
#include <optional>

#include "core/time.h"

namespace cruscotto {

/// How often something comes that comes by itself, to tell silence from slowness. Confined to one thread.
class Rhythm {
public:
    void came(Instant t) {
        if (last_ && t > *last_) lately_[next_++ % lately_.size()] = t - *last_;
        last_ = t;
    }
    /// What came is as long ago as that: the next is not counted from there.
    void paused() { last_.reset(); }
    /// Behind how long it can be said that nothing comes any more: `least`, or three times the longest that it took
    /// lately.
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
