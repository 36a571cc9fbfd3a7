#include <map>
#include <mutex>

#include "devices/device_kind.h"
#include "sim/pump_bench.h"
#include "support.h"

namespace cruscotto::simulated_box_test {
namespace {

/// Takes everything a device hands over.
class Collector : public DeviceSink {
public:
    void deliver(BlockPtr block) override {
        const std::lock_guard lock(mutex_);
        blocks_[block->group->name].push_back(std::move(block));
    }
    void report(DeviceStatus status) override {
        const std::lock_guard lock(mutex_);
        states_.push_back(status.state);
    }
    [[nodiscard]] Instant now() const override {
        return {
            std::chrono::duration_cast<std::chrono::nanoseconds>(std::chrono::steady_clock::now() - began_).count()};
    }
    std::vector<BlockPtr> blocks(const std::string& group) {
        const std::lock_guard lock(mutex_);
        return blocks_[group];
    }
    std::vector<LinkState> states() {
        const std::lock_guard lock(mutex_);
        return states_;
    }

private:
    const std::chrono::steady_clock::time_point began_ = std::chrono::steady_clock::now();
    std::mutex mutex_;
    std::map<std::string, std::vector<BlockPtr>> blocks_;
    std::vector<LinkState> states_;
};

struct Box {
    Collector sink;
    std::unique_ptr<Device> device;
    explicit Box(const std::string& settings, double until, std::vector<TerminalRequest> ranges = {}) {
        const DeviceKind* kind = deviceKind("sim-io-box");
        EXPECT_TRUE(kind->check(settings).ok());
        device = kind->make({"box", Pace::asFastAsPossible, Instant{seconds(until).ns}}, settings, ranges);
        device->setOutput("AO0", 7);
        device->setOutput("DO0", 1);
    }
    void run() { device->run(sink, std::stop_token()); }
};

std::vector<double> column(Box& box, const std::string& group, std::size_t i) {
    std::vector<double> out;
    for (const BlockPtr& b : box.sink.blocks(group)) appendAsDouble(b->columns[i], out);
    return out;
}

TEST(SimulatedBox, MakesExactlyTheSamplesOfItsTime) {
    Box box("", 2.5);
    box.run();
    EXPECT_EQ(column(box, "analog", 0).size(), 2500U);
    EXPECT_EQ(column(box, "digital", 3).size(), 2500U);
    EXPECT_EQ(column(box, "counter", 1).size(), 250U);
    std::uint64_t next = 0;
    for (const BlockPtr& b : box.sink.blocks("analog")) {
        EXPECT_EQ(b->firstIndex, next);
        EXPECT_EQ(b->t0.ns, static_cast<std::int64_t>(next) * 1'000'000);
        next += b->size();
    }
}

TEST(SimulatedBox, IsTheModelQuantisedInItsRanges) {
    Box box(R"({"seed":5})", 1, {{"AI0", Scale{-5, 5}}, {"AI5", Scale{-0.2, 0.2}}});
    box.run();
    sim::PumpBench model(5);
    model.driveVolts = 7;
    model.valveOpen = true;
    const auto ai0 = column(box, "analog", 0), ai1 = column(box, "analog", 1), ai5 = column(box, "analog", 4),
               pulses = column(box, "counter", 1), door = column(box, "digital", 1);
    for (std::size_t i = 0; i < 1000; ++i) {
        model.step(1e-3);
        ASSERT_NEAR(ai0[i] * 10 / 65536, model.volts()[0], 5.1 / 65536) << i;
        ASSERT_NEAR(ai1[i] * 20 / 65536, model.volts()[1], 10.1 / 65536)
            << "without a range asked for it is the widest";
        ASSERT_NEAR(ai5[i] * 0.4 / 65536, model.volts()[4], 0.21 / 65536);
        ASSERT_EQ(door[i], model.levels()[1]);
        if (i % 10 == 0) ASSERT_EQ(pulses[i / 10], model.pulses()[1]);
    }
}

TEST(SimulatedBox, ClipsAtTheEndsOfARangeThatIsTooSmall) {
    Box box("", 0.5, {{"AI1", Scale{-0.1, 0.1}}});
    box.run();
    for (const double v : column(box, "analog", 1)) EXPECT_EQ(v, 32767);
}

TEST(SimulatedBox, GoesAwayAndComesBackWithAnExactGap) {
    Box box(R"({"faults":[{"fault":"away","from-s":1,"to-s":1.7}]})", 3);
    box.run();
    EXPECT_EQ(column(box, "analog", 0).size(), 2300U);
    EXPECT_EQ(column(box, "counter", 0).size(), 230U);
    int gaps = 0;
    for (const char* group : {"analog", "counter"})
        for (const BlockPtr& b : box.sink.blocks(group))
            if (b->gapBefore) {
                ++gaps;
                EXPECT_EQ(b->gapBefore->lostSamples, std::string(group) == "analog" ? 700U : 70U);
                EXPECT_EQ(b->gapBefore->from.ns, 1'000'000'000);
                EXPECT_EQ(b->gapBefore->to.ns, 1'700'000'000);
                EXPECT_EQ(b->t0.ns, 1'700'000'000);
            }
    EXPECT_EQ(gaps, 2);
    EXPECT_EQ(box.sink.states(), (std::vector<LinkState>{LinkState::live, LinkState::lost, LinkState::live}));
}

TEST(SimulatedBox, TakesRangesAndFaultsOverWithoutAStop) {
    Box box("", 1);
    EXPECT_TRUE(box.device->reconfigure(R"({"faults":["broken-outlet-wire"]})", {{"AI1", Scale{-1, 1}}}));
    EXPECT_FALSE(box.device->reconfigure(R"({"rate-hz":2000})", {})) << "another rate needs a new device";
    box.run();
    for (const double v : column(box, "analog", 1)) EXPECT_LT(std::fabs(v * 2 / 65536), 0.01);
}

TEST(SimulatedBox, RunsInRealTimeUntilStopped) {
    Collector sink;
    const auto device = deviceKind("sim-io-box")->make({"box", Pace::realTime, {}}, "", {});
    std::jthread thread([&](const std::stop_token& stop) { device->run(sink, stop); });
    ASSERT_TRUE(test::eventually([&] { return sink.blocks("analog").size() >= 5; }));
    thread.request_stop();
    thread.join();
    const auto blocks = sink.blocks("analog");
    EXPECT_LE(blocks.back()->timeOf(blocks.back()->size()), sink.now());
    EXPECT_EQ(sink.states().back(), LinkState::stopped);
}

}  // namespace
}  // namespace cruscotto::simulated_box_test
