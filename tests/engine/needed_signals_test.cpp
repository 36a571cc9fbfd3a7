// Chains that need what other signals read.
#include <cmath>

#include "core/chain/stage_kind.h"
#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "scripted_device.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::ScriptedDevice;
using test::TempFolder;
using test::waitForStop;

/// "share" is what comes in at AI0 as a share, in per cent, of the supply at AI1 of the same device or of another one.
Bench benchWith(const char* supplyDevice) {
    Bench b;
    b.name = "Test";
    b = withDevice(b, {"box", "Box", "scripted", "", ""});
    b = withDevice(b, {"other", "Other", "scripted", "", ""});
    SignalSpec share;
    share.id = share.name = "share";
    share.device = "box";
    share.terminal = "AI0";
    share.chain = {
        slopeOffset(1, 0, "V"),
        Stage::of("ratiometric", {{"supply", StageSource{"supply"}}, {"low", 0.0}, {"high", 100.0}, {"unit", "%"}})};
    b = withSignal(b, share);  // before what it needs
    SignalSpec supply;
    supply.id = supply.name = "supply";
    supply.device = supplyDevice;
    supply.terminal = "AI1";
    supply.chain = {slopeOffset(1000, 0, "mV")};
    return withSignal(b, supply);
}

/// Each device delivers such a block once it is asked to.
EngineOptions delivering(ScriptedDevice::Log& log, std::atomic<int>& step) {
    EngineOptions options;
    options.kinds = test::kindsThatAre([&](const DeviceContext& context, const auto&) {
        return std::make_unique<ScriptedDevice>(
            log, [&step, id = context.id](DeviceSink& sink, const std::stop_token& stop) {
                auto group = std::make_shared<ScanGroup>();
                group->device = id;
                group->name = "all";
                group->rateHz = 100;
                for (const char* t : {"AI0", "AI1"})
                    group->channels.push_back({t, SampleType::float64, ChannelKind::analogInput});
                auto block = std::make_shared<Block>();
                block->group = group;
                block->dtNs = 1e7;
                block->columns = {std::vector<double>{1, 1, 1, 1}, std::vector<double>{2, 4, 5, 8}};
                eventually([&] { return step >= (id == "box" ? 2 : 1) || stop.stop_requested(); });
                block->t0 = sink.now();
                sink.deliver(block);
                waitForStop(stop);
            });
    });
    return options;
}

TEST(NeededSignals, OfTheSameScanAreTakenSampleBySampleAndTheRunHasTheReadings) {
    ScriptedDevice::Log log;
    std::atomic<int> step{0};
    TempFolder folder;
    auto engine = Engine::startRecorded(benchWith("box"), folder.file("a.run"), delivering(log, step));
    ASSERT_TRUE(engine.ok());
    step = 2;
    ASSERT_TRUE(eventually([&] { return engine.value()->source().at("share", engine.value()->now()).value == 12.5; }));
    // The stages are shown with the same.
    const auto stages = engine.value()->source().stagesAt("share", engine.value()->now());
    ASSERT_EQ(stages.size(), 3U);
    EXPECT_EQ(stages[2], 12.5);
    engine.value()->stop();
    auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    const RunSignal* signal = reader.value()->info().signal("share");
    ASSERT_TRUE(signal);
    RunReader::Part part;
    part.signals = {signal->id};
    RunReplay replay(*reader.value(), signal->group, part);
    RunReplay::Step read;
    ASSERT_TRUE(replay.next(read));
    EXPECT_EQ(read.readings[0].values, (std::vector<double>{50, 25, 20, 12.5}));
    EXPECT_EQ(signal->current().unit(), "%");
}

TEST(NeededSignals, OfAnotherDeviceAreHeldAndWithoutThemThereIsNoReading) {
    ScriptedDevice::Log log;
    std::atomic<int> step{0};
    const auto engine = Engine::start(benchWith("other"), delivering(log, step));
    step = 1;
    ASSERT_TRUE(eventually([&] { return engine->source().at("supply", engine->now()).value == 8000; }));
    step = 2;
    ASSERT_TRUE(eventually([&] { return engine->source().at("share", engine->now()).value == 12.5; }));

    std::atomic<int> alone{2};
    Bench without = benchWith("nobody");
    const auto second = Engine::start(without, delivering(log, alone));
    ASSERT_TRUE(eventually([&] { return second->source().at("share", second->now()).quality == Quality::stale; }));
    EXPECT_TRUE(std::isnan(second->source().at("share", second->now()).value));
}

TEST(NeededSignals, AreKnownByTheirUnitAlsoAfterAnEdit) {
    ScriptedDevice::Log log;
    std::atomic<int> step{2};
    Bench bench = benchWith("box");
    const auto engine = Engine::start(bench, delivering(log, step));
    ASSERT_TRUE(eventually([&] { return engine->source().at("share", engine->now()).value == 12.5; }));
    EXPECT_EQ(neededUnits(bench, *bench.signal("share")), (std::vector<std::string>{"mV"}));
    SignalSpec supply = *bench.signal("supply");
    supply.chain = {slopeOffset(1, 0, "V")};
    bench = withSignal(bench, supply);
    EXPECT_EQ(neededUnits(bench, *bench.signal("share")), (std::vector<std::string>{"V"}));
    EXPECT_TRUE(checkNeeded(bench, *bench.signal("share")));
    supply.chain = {slopeOffset(1, 0, "bar")};
    EXPECT_FALSE(checkNeeded(withSignal(bench, supply), *bench.signal("share")));
}

}  // namespace
}  // namespace cruscotto
