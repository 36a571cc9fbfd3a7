#pragma once

#include <span>
#include <string>
#include <vector>

#include "core/bench/bench.h"
#include "core/history/source.h"

namespace cruscotto {

/// Where an end that is dragged near `t` settles: at the nearest of the marks, the edges of the states and the
/// crossings of the others through their `levels`, no further than `within` away; at t itself where there is none, or
/// where there are too many readings to look at.
struct SettlingSignal {
    const SignalSpec* signal = nullptr;
    std::vector<double> levels = {};  ///< in its unit; not for states
};
Instant settled(const Source& source, std::span<const SettlingSignal> among, std::span<const Instant> marks, Instant t,
                Duration within);

}  // namespace cruscotto
