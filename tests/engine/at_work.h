#pragma once

#include "scripted_device.h"

namespace cruscotto::test {

/// A bench of one input and one output, live; readings come when the test says so.
class AtWork : public testing::Test {
protected:
    void begin(const Bench& bench, const std::string& run = {}) {
        const EngineOptions given = options;
        options = scripted(log, [this](DeviceSink& sink, const std::stop_token& stop) {
            {
                const std::lock_guard lock(mutex);
                device = &sink;
            }
            waitForStop(stop);
            const std::lock_guard lock(mutex);
            device = nullptr;
        });
        options.wallClock = given.wallClock;
        if (run.empty()) {
            engine = Engine::start(bench, options);
        } else {
            auto started = Engine::startRecorded(bench, run, options);
            ASSERT_TRUE(started.ok());
            engine = std::move(started.value());
        }
        ASSERT_TRUE(eventually([&] {
            const std::lock_guard lock(mutex);
            return device != nullptr;
        }));
    }
    void TearDown() override {
        if (engine) engine->stop();
    }
    void read(double v) {
        const std::lock_guard lock(mutex);
        auto block = std::make_shared<Block>();
        block->group = group;
        block->firstIndex = samples++;
        block->t0 = device->now();
        block->times = {block->t0};
        block->columns.emplace_back(std::vector<double>{v});
        device->deliver(block);
    }
    void link(LinkState state) {
        const std::lock_guard lock(mutex);
        device->report({state, "as the test says", 0, 0, 0, {}});
    }
    [[nodiscard]] double drive() const {
        const auto state = engine->outputState("drive");
        return state ? state->value : std::nan("");
    }
    bool driven(double v) {
        return eventually([&] { return drive() == v; });
    }
    bool told(const std::string& words) {
        return eventually([&] {
            const auto all = log.all();
            return std::ranges::find(all, words) != all.end();
        });
    }
    EngineOptions options;  ///< of these its wall clock counts
    ScriptedDevice::Log log;
    std::mutex mutex;
    DeviceSink* device = nullptr;
    std::uint64_t samples = 0;
    std::shared_ptr<ScanGroup> group = [] {
        auto out = std::make_shared<ScanGroup>();
        out->device = "box";
        out->name = "in";
        out->channels = {{"AI0", SampleType::float64, ChannelKind::analogInput}};
        return out;
    }();
    std::unique_ptr<Engine> engine;
};

}  // namespace cruscotto::test
