#pragma once

#include <algorithm>
#include <optional>

#include "core/base/time.h"

namespace cruscotto {

/// When the next of something that is sent again and again is due; one that was late is not made up for. Confined to
/// one thread.
class Beat {
public:
    explicit Beat(double everySeconds) : every_(seconds(everySeconds)) {}
    /// From now on; the first is due at once.
    void begin() { next_.reset(); }
    /// It is due, and the one after it is planned.
    bool due(Instant now) {
        if (next_ && now < *next_) return false;
        next_ = std::max(next_.value_or(now) + every_, now);
        return true;
    }
    /// How long until it is.
    [[nodiscard]] Duration left(Instant now) const { return next_ && *next_ > now ? *next_ - now : Duration{}; }

private:
    Duration every_;
    std::optional<Instant> next_;
};

}  // namespace cruscotto
