#pragma once

#include <algorithm>

#include "core/base/time.h"

namespace cruscotto {

/// `wait` as poll() takes it: in milliseconds, rounded up, at most an hour. What is past already is no wait at all,
/// where poll() takes less than zero for one without end.
constexpr int pollTime(Duration wait) {
    constexpr std::int64_t ms = 1'000'000, most = 3'600'000;
    return static_cast<int>(wait.ns <= 0 ? 0 : std::min((wait.ns - 1) / ms + 1, most));
}

}  // namespace cruscotto
