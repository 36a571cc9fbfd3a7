#pragma once

#include <string>

#include "core/bench/bench.h"
#include "test_stages.h"

namespace cruscotto::test {

/// The fast box with these settings, and a signal "inN" on each of so many channels.
inline Bench fastBench(const std::string& settings, int channels) {
    Bench bench;
    bench.name = "Fast";
    bench = withDevice(bench, {"box", "Box", "sim-fast-box", settings, ""});
    for (int c = 0; c < channels; ++c) {
        SignalSpec s;
        s.id = s.name = "in" + std::to_string(c);
        s.device = "box";
        s.terminal = "AI" + std::to_string(c);
        s.chain = {countsToVolts()};
        bench = withSignal(bench, s);
    }
    return bench;
}

}  // namespace cruscotto::test
