#pragma once

#include <cstdint>
#include <optional>

namespace cruscotto {

/// Index of the last i in [lo, hi) with key(i) <= wanted; nothing if there is none. Keys never decrease.
template <class Key, class T>
std::optional<std::uint64_t> lastNotAfter(std::uint64_t lo, std::uint64_t hi, const T& wanted, Key&& key) {
    if (lo >= hi || key(lo) > wanted) return std::nullopt;
    while (hi - lo > 1) {
        const std::uint64_t mid = lo + (hi - lo) / 2;
        (key(mid) <= wanted ? lo : hi) = mid;
    }
    return lo;
}

}  // namespace cruscotto
