#pragma once

#include <benchmark/benchmark.h>

#include <map>
#include <string>

/// The speed that a plain reference reached in this run, by its name; what is measured behind it is given as a ratio.
inline double& reached(const std::string& reference) {
    static std::map<std::string, double> all;
    return all[reference];
}

/// Prints `speed` as a multiple of what the reference reached, where that was measured in this run.
inline void beside(benchmark::State& state, const std::string& reference, double speed) {
    if (reached(reference) > 0) state.counters["x " + reference] = speed / reached(reference);
}
