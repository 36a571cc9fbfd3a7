#include <map>
#include <mutex>
#include <numeric>

#include "devices/device_kind.h"
#include "devices/simbox/box_terminals.h"
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
    Box box(R"({"seed":5})", 1, {{"AI0", Scale{-5, 5}}, {"AI5", Scale{-0.2, 0.2}, {{"excitation", "1mA"}}}});
    box.run();
    sim::PumpBench model(5);
    model.driveVolts = 7;
    model.valveOpen = true;
    const auto ai0 = column(box, "analog", 0), ai1 = column(box, "analog", 1), ai5 = column(box, "analog", 5),
               pulses = column(box, "counter", 1), door = column(box, "digital", 1);
    for (std::size_t i = 0; i < 1000; ++i) {
        model.step(1e-3);
        ASSERT_NEAR(ai0[i] * 10 / 65536, model.volts()[0], 5.1 / 65536) << i;
        ASSERT_NEAR(ai1[i] * 20 / 65536, model.volts()[1], 10.1 / 65536)
            << "without a range asked for it is the widest";
        ASSERT_NEAR(ai5[i] * 0.4 / 65536, model.volts()[4], 0.21 / 65536);
        ASSERT_EQ(door[i], model.levels()[1]);
        if (i % 10 == 0) ASSERT_EQ(pulses[i / 10], std::floor(model.pulses().second));
    }
}

double meanOf(const std::vector<double>& values) {
    return std::accumulate(values.begin(), values.end(), 0.0) / static_cast<double>(values.size());
}
/// The mean at an analog input over a second, in volts.
double voltsAt(const TerminalRequest& request, std::size_t input, std::vector<TerminalRequest> others = {}) {
    others.push_back(request);
    Box box("", 1, others);
    box.run();
    const Scale range = request.range.value_or(Scale{-10, 10});
    return meanOf(column(box, "analog", input)) * (range.high - range.low) / 65536;
}

TEST(SimulatedBoxSetup, MeasuresAPairDifferentially) {
    const double alone = voltsAt({"AI2"}, 2), less = voltsAt({"AI2", {}, {{"mode", "differential"}}}, 2);
    EXPECT_NEAR(alone, 0.5, 0.03) << "the voltage that both have in common";
    EXPECT_LT(std::fabs(less), 0.02) << "the shunt's alone";
}

TEST(SimulatedBoxSetup, ALoadHoldsWhatFloatsAndDividesAWeakSource) {
    Box floating("", 1), held("", 1, {{"AI7", {}, {{"load", "down"}, {"load-ohm", 10'000.0}}}});
    floating.run();
    held.run();
    const auto spread = [&](Box& box) {
        const auto v = column(box, "analog", 7);
        return (*std::ranges::max_element(v) - *std::ranges::min_element(v)) * 20 / 65536;
    };
    EXPECT_GT(spread(floating), 0.1);
    EXPECT_LT(spread(held), 0.01);
    // AI0's sensor has 1 kohm: against about 10 kohm, a tenth is lost.
    const double whole = voltsAt({"AI0"}, 0),
                 loaded = voltsAt({"AI0", {}, {{"load", "down"}, {"load-ohm", 10'000.0}}}, 0);
    const double achieved = simbox::nearestLoad(10'000);
    EXPECT_NEAR(loaded / whole, achieved / (achieved + 1000), 0.002);
    const double up = voltsAt({"AI0", {}, {{"load", "up"}, {"load-ohm", 10'000.0}}}, 0);
    EXPECT_NEAR(up, (whole / 1000 + 5 / achieved) / (1 / 1000.0 + 1 / achieved), 0.01);
}

TEST(SimulatedBoxSetup, ACurrentMakesAVoltageOfAResistance) {
    EXPECT_NEAR(voltsAt({"AI5"}, 5), 0, 0.001);
    EXPECT_NEAR(voltsAt({"AI5", Scale{-0.2, 0.2}, {{"excitation", "1mA"}}}, 5), 0.1084, 0.0005);
    EXPECT_NEAR(voltsAt({"AI5", Scale{-0.2, 0.2}, {{"excitation", "0.1mA"}}}, 5), 0.01084, 0.00005);
}

TEST(SimulatedBoxSetup, TheLoadIsTheNearestOf256Steps) {
    EXPECT_DOUBLE_EQ(simbox::nearestLoad(10'000), 26 * 100'000.0 / 256);
    EXPECT_DOUBLE_EQ(simbox::nearestLoad(1), 100'000.0 / 256);
    EXPECT_DOUBLE_EQ(simbox::nearestLoad(1e9), 100'000);
}

TEST(SimulatedBoxSetup, SenseTurnsAStateAroundPullUpHoldsAndAFilterSwallowsBounces) {
    const auto levels = [&](TerminalSetup setup) {
        Box box(R"({"scene":"seed-sorter"})", 50, {{"DI0", {}, std::move(setup)}});
        box.run();
        return column(box, "digital", 0);
    };
    const auto changes = [](const std::vector<double>& v) {
        int n = 0;
        for (std::size_t i = 1; i < v.size(); ++i) n += v[i] != v[i - 1];
        return n;
    };
    const auto plain = levels({}), inverted = levels({{"sense", "low"}}), filtered = levels({{"filter", "10ms"}}),
               loose = levels({{"pull-up", "off"}});
    EXPECT_GT(changes(plain), 4) << "the lid's contact bounces";
    EXPECT_EQ(changes(filtered), 2) << "opened once, closed once";
    for (std::size_t i = 0; i < plain.size(); ++i) ASSERT_NE(plain[i], inverted[i]);
    EXPECT_GT(changes(loose), 1000) << "an open contact to ground floats without a pull-up";
}

TEST(SimulatedBoxSetup, CountsAnEncoderBothWaysInAllItsEdges) {
    const auto counted = [&](TerminalSetup setup) {
        Box box(R"({"scene":"seed-sorter"})", 3, {{"CTR0", {}, std::move(setup)}});
        box.run();
        return column(box, "counter", 0).back();
    };
    const double lines = counted({}), quarters = counted({{"mode", "quadrature"}});
    EXPECT_GT(lines, 1000);
    EXPECT_NEAR(quarters / lines, 4, 0.01);
}

TEST(SimulatedBoxSetup, TheRulesSayWhatCannotBeChosenAndWhy) {
    const DeviceKind& kind = *deviceKind("sim-io-box");
    const auto blocked = [&](const char* terminal, const char* key, const char* choice,
                             std::vector<TerminalRequest> all) {
        for (const TerminalSetting& s : kind.setup("", terminal, all))
            for (const auto& c : s.choices)
                if (s.key == key && c.key == choice) return c.blocked.english();
        return std::string("not there");
    };
    const TerminalRequest pair{"AI2", {}, {{"mode", "differential"}}};
    EXPECT_EQ(blocked("AI3", "mode", "single", {pair}).find("taken: AI3 is the other half of AI2-AI3"), 0U);
    EXPECT_NE(blocked("AI2", "mode", "differential", {{"AI2"}, {"AI3"}}), "");
    EXPECT_EQ(blocked("AI2", "mode", "differential", {{"AI2"}}), "");
    EXPECT_NE(blocked("AI1", "load", "down", {{"AI0", {}, {{"load", "up"}}}, {"AI1"}}), "");
    EXPECT_EQ(blocked("AI1", "load", "up", {{"AI0", {}, {{"load", "up"}}}, {"AI1"}}), "");
    EXPECT_NE(blocked("CTR1", "mode", "pulses", {{"CTR0", {}, {{"mode", "quadrature"}}}, {"CTR1"}}), "");
    EXPECT_EQ(kind.ranges("AI3", {}), (std::vector<Scale>{{-10, 10}}));
    EXPECT_EQ(kind.ranges("AI2", {}).size(), 6U);
    EXPECT_NE(kind.setupSentence({}, "AI2", {pair}).english().find("AI2 less AI3"), std::string::npos);
}

TEST(SimulatedBoxSetup, ABenchThatBreaksARuleIsToldWithThePlace) {
    const auto problems = [](const char* signals) {
        const std::string file = std::string(R"({"format":"cruscotto-bench","version":1,"name":"T","devices":[)") +
                                 R"({"id":"box","name":"Box","kind":"sim-io-box"}],"signals":[)" + signals + "]}";
        std::string all;
        for (const Problem& p : readBench(file, checkDevices).problems) all += p.english() + "\n";
        return all;
    };
    const std::string ai2 = R"({"id":"a","name":"A","device":"box","terminal":"AI2","kind":"analog-input","setup":)";
    const std::string ai3 = R"({"id":"b","name":"B","device":"box","terminal":"AI3","kind":"analog-input"})";
    EXPECT_EQ(problems((ai2 + R"({"mode":"differential"}})").c_str()), "");
    EXPECT_NE(problems((ai2 + R"({"mode":"differential"}},)" + ai3).c_str()).find("/signals/1/terminal: AI3 cannot be"),
              std::string::npos);
    for (const char* setup : {R"({"mode":"both"})", R"({"gain":2})", R"({"load":"up","load-ohm":3})", R"({"mode":4})"})
        EXPECT_NE(problems((ai2 + setup + "}").c_str()).find("/signals/0/setup/"), std::string::npos) << setup;
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
