#pragma once

#include <fmt/format.h>

#include <filesystem>
#include <string>

#include "core/bench/bench.h"
#include "core/chain/common_stages.h"

constexpr int wideChannels = 32;

/// A file that is not there yet.
inline std::string scratch(const char* name) {
    const auto folder = std::filesystem::temp_directory_path() / "cruscotto-bench";
    std::filesystem::create_directories(folder);
    const auto path = folder / name;
    std::filesystem::remove(path);
    return path.string();
}

/// Channels of int16 from fast boxes of 32 with slope and offset, every fourth with a moving mean of 50 too.
inline cruscotto::Bench wideBench(double rate, int boxes = 1) {
    using namespace cruscotto;
    Bench bench;
    bench.name = "Wide";
    for (int b = 0; b < boxes; ++b) {
        const std::string box = "box" + std::to_string(b);
        bench = withDevice(bench, {box, "Box", "sim-fast-box",
                                   fmt::format(R"({{"channels":{},"rate-hz":{}}})", wideChannels, rate), ""});
        for (int c = 0; c < wideChannels; ++c) {
            SignalSpec s;
            s.id = s.name = "in" + std::to_string(b * wideChannels + c);
            s.device = box;
            s.terminal = "AI" + std::to_string(c);
            s.chain = {countsToVolts(), slopeOffset(2, 1, "bar")};
            if (c % 4 == 0) s.chain.insert(s.chain.begin() + 1, Stage::of("moving-mean", {{"samples", 50.0}}));
            bench.signals.push_back(std::make_shared<const SignalSpec>(std::move(s)));
        }
    }
    return bench;
}
