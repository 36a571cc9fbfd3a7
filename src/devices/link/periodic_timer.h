#pragma once

#include <algorithm>
#include <optional>

#include "core/base/time.h"

namespace cruscotto {

/// Tells when something that is sent periodically is due. A period that was missed is skipped. Confined to one thread.
class PeriodicTimer {
public:
    explicit PeriodicTimer(double everySeconds) : every_(seconds(everySeconds)) {}
    /// Starts anew: it is due at once.
    void begin() { next_.reset(); }
    /// True if it is due; the next time is then one period later.
    bool due(Instant now) {
        if (next_ && now < *next_) return false;
        next_ = std::max(next_.value_or(now) + every_, now);
        return true;
    }
    /// The time until it is due; 0 if it is.
    [[nodiscard]] Duration left(Instant now) const { return next_ && *next_ > now ? *next_ - now : Duration{}; }

private:
    Duration every_;
    std::optional<Instant> next_;
};

}  // namespace cruscotto
