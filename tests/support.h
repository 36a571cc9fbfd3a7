#pragma once

#include <gtest/gtest.h>
#include <stdlib.h>
#include <unistd.h>

#include <chrono>
#include <condition_variable>
#include <filesystem>
#include <fstream>
#include <functional>
#include <mutex>
#include <sstream>
#include <stop_token>
#include <string>
#include <thread>

#include "core/bench/bench.h"
#include "core/signal/block.h"
#include "where.h"

namespace cruscotto::test {

/// A folder of the test's own that goes with it.
class TempFolder {
public:
    /// On the machine's disk; or in its memory, where how busy the disk is must not count and there is room.
    enum class Where { disk, memory };
    explicit TempFolder(Where where = Where::disk) {
        std::filesystem::path base = std::filesystem::temp_directory_path();
        std::error_code ec;
        const char* memory = "/dev/shm";
        if (const auto room = std::filesystem::space(memory, ec);
            where == Where::memory && !ec && room.available > 300'000'000 && access(memory, W_OK) == 0)
            base = memory;
        std::string pattern = (base / "cruscotto-test-XXXXXX").string();
        path_ = mkdtemp(pattern.data());
    }
    ~TempFolder() {
        std::error_code ec;
        std::filesystem::remove_all(path_, ec);
    }
    [[nodiscard]] std::string file(const std::string& name) const { return (path_ / name).string(); }

private:
    std::filesystem::path path_;
};

/// Waits until the condition holds; false after the limit.
inline bool eventually(const std::function<bool()>& condition,
                       std::chrono::milliseconds limit = std::chrono::seconds(20)) {
    const auto end = std::chrono::steady_clock::now() + limit;
    while (!condition()) {
        if (std::chrono::steady_clock::now() > end) return false;
        std::this_thread::sleep_for(std::chrono::milliseconds(2));
    }
    return true;
}

/// The name of a file that was being written and was not taken away; empty: there is none.
inline std::string leftBehind(const TempFolder& folder) {
    for (const auto& entry : std::filesystem::directory_iterator(folder.file("")))
        if (entry.path().filename().string().starts_with(".cruscotto-")) return entry.path().string();
    return {};
}

inline std::string readFile(const std::string& path) {
    std::ifstream file(path, std::ios::binary);
    std::stringstream all;
    all << file.rdbuf();
    return all.str();
}

inline void writeFile(const std::string& path, const std::string& content) {
    std::ofstream(path, std::ios::binary) << content;
}

inline std::string example(const std::string& name) {
    return std::string(test::sourceFolder) + "/examples/" + name + ".bench";
}

/// A bench with one signal, "in".
inline Bench oneSignal() {
    Bench bench;
    bench.name = "Test";
    SignalSpec s;
    s.id = s.name = "in";
    s.device = "device";
    s.terminal = "AI0";
    return withSignal(withDevice(bench, {"device", "Device", "sim-io-box", "", ""}), s);
}

inline Bench exampleBench(const std::string& name) {
    auto bench = loadBench(example(name));
    if (!bench) throw std::runtime_error(bench.error().english());
    return bench.value();
}

/// A clocked block of one column.
inline BlockPtr clockedBlock(const std::shared_ptr<const ScanGroup>& group, std::uint64_t first, Instant t0,
                             Samples samples) {
    auto block = std::make_shared<Block>();
    block->group = group;
    block->firstIndex = first;
    block->t0 = t0;
    block->dtNs = 1e9 / group->rateHz;
    block->columns.push_back(std::move(samples));
    return block;
}

inline std::shared_ptr<ScanGroup> oneChannelGroup(double rateHz, SampleType type = SampleType::float64) {
    auto group = std::make_shared<ScanGroup>();
    group->device = "device";
    group->name = "group";
    group->rateHz = rateHz;
    group->channels = {{"AI0", type, ChannelKind::analogInput}};
    return group;
}

/// What a device does that has nothing more to say.
inline void waitForStop(const std::stop_token& stop) {
    std::mutex m;
    std::unique_lock lock(m);
    std::condition_variable_any().wait(lock, stop, [] { return false; });
}

}  // namespace cruscotto::test
