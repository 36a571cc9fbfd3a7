// Outputs when things go wrong: nothing holds their safe values up, and nothing drives them afterwards.
#include <algorithm>
#include <atomic>
#include <latch>

#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"
#include "core/run/run_reader.h"
#include "scripted_device.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::oneOutput;
using test::scripted;
using test::ScriptedDevice;
using test::TempFolder;
using test::waitForStop;

DeviceStatus statusOf(LinkState state, std::set<std::string> fallen = {}, std::uint64_t times = 0) {
    DeviceStatus s;
    s.state = state;
    s.fallen = std::move(fallen);
    s.fellSafe = times;
    return s;
}

std::size_t timesSaid(ScriptedDevice::Log& log, const std::string& words) {
    const auto all = log.all();
    return static_cast<std::size_t>(std::ranges::count(all, words));
}

/// Hands what a test says to the sink to the device's thread.
struct Steps {
    std::mutex mutex;
    std::condition_variable_any changed;
    std::vector<std::function<void(DeviceSink&)>> steps;
    void say(std::function<void(DeviceSink&)> step) {
        const std::lock_guard lock(mutex);
        steps.push_back(std::move(step));
        changed.notify_all();
    }
    void run(DeviceSink& sink, const std::stop_token& stop) {
        while (!stop.stop_requested()) {
            std::vector<std::function<void(DeviceSink&)>> now;
            {
                std::unique_lock lock(mutex);
                changed.wait(lock, stop, [&] { return !steps.empty(); });
                now.swap(steps);
            }
            for (const auto& step : now) step(sink);
        }
    }
};

TEST(Outputs, TheSafeValueDoesNotWaitForAnEngineThatIsBusy) {
    TempFolder folder;
    ScriptedDevice::Log log;
    auto options = scripted(log, [](DeviceSink&, const std::stop_token& stop) { waitForStop(stop); });
    // The engine's thread looks at the wall clock while it records: there it is held, as behind a long queue.
    std::atomic<bool> hold{false};
    std::latch busy(1), entered(1);
    options.wallClock = [&] {
        if (hold.exchange(false)) {
            entered.count_down();
            busy.wait();
        }
        return std::int64_t{0};
    };
    auto started = Engine::startRecorded(oneOutput(), folder.file("a.run"), options);
    ASSERT_TRUE(started.ok());
    Engine& engine = *started.value();
    ASSERT_TRUE(eventually([&] { return timesSaid(log, "run") == 1; }));
    ASSERT_TRUE(engine.setOutput("drive", 7));
    hold = true;
    engine.mark(engine.now(), "something to do");
    entered.wait();
    engine.endOutputs();
    EXPECT_EQ(log.all().back(), "AO0=0.5");
    busy.count_down();
    EXPECT_FALSE(engine.setOutput("drive", 9)) << "they are safe for good";
    EXPECT_EQ(log.all().back(), "AO0=0.5");
    EXPECT_EQ(engine.source().at("drive", engine.now()).value, 0.5) << "and that is what is shown";
}

TEST(Outputs, AFaultOfTheEngineItselfPutsThemSafeAndIsSaid) {
    TempFolder folder;
    ScriptedDevice::Log log;
    auto options = scripted(log, [](DeviceSink&, const std::stop_token& stop) { waitForStop(stop); });
    std::atomic<bool> noMemory{false};
    options.wallClock = [&]() -> std::int64_t {  // the engine's thread looks at it while it records
        if (noMemory.exchange(false)) throw std::bad_alloc();
        return 0;
    };
    auto started = Engine::startRecorded(oneOutput(), folder.file("a.run"), options);
    ASSERT_TRUE(started.ok());
    Engine& engine = *started.value();
    ASSERT_TRUE(eventually([&] { return timesSaid(log, "run") == 1; }));
    ASSERT_TRUE(engine.setOutput("drive", 7));
    EXPECT_TRUE(engine.problem().empty());
    noMemory = true;
    engine.mark(engine.now(), "something to do");
    ASSERT_TRUE(eventually([&] { return !engine.problem().empty(); }));
    EXPECT_NE(engine.problem().english().find("not enough memory"), std::string::npos);
    EXPECT_TRUE(eventually([&] { return log.all().back() == "AO0=0.5"; }));
    engine.stop();
    auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    EXPECT_TRUE(reader.value()->info().closed);
}

TEST(Outputs, NothingReactsBehindTheEnd) {
    ScriptedDevice::Log log;
    Steps steps;
    const Bench bench =
        withRule(oneOutput(), ruleFromText(oneOutput(), R"({"id": "r", "when": {"is": "above", "signal": "in",
        "level": 5}, "then": [{"do": "set", "output": "drive", "value": 9}]})")
                                  .value());
    const auto engine = Engine::start(
        bench, scripted(log, [&](DeviceSink& sink, const std::stop_token& stop) { steps.run(sink, stop); }));
    ASSERT_TRUE(eventually([&] { return timesSaid(log, "run") == 1; }));
    engine->endOutputs();
    auto group = test::oneChannelGroup(100);
    group->device = "box";
    steps.say([&](DeviceSink& sink) {
        sink.deliver(test::clockedBlock(group, 0, sink.now(), std::vector<double>{8, 8, 8}));
        sink.report(statusOf(LinkState::lost));
        sink.report(statusOf(LinkState::live));
    });
    ASSERT_TRUE(eventually([&] { return engine->source().at("in", engine->now()).value == 8; }));
    ASSERT_TRUE(eventually([&] { return engine->deviceStatus()["box"].state == LinkState::live; }));
    engine->setOutput("drive", 1);  // behind all of it
    EXPECT_EQ(timesSaid(log, "AO0=9"), 0U);
    EXPECT_EQ(log.all().back(), "AO0=0.5");
}

TEST(Outputs, ADeviceThatDoesNotEndHoldsNobodyUp) {
    ScriptedDevice::Log log;
    std::latch stuck(1);
    std::atomic<int> made{0};
    EngineOptions options;
    options.kinds = test::kindsThatAre([&](const DeviceContext& context, const auto&) {
        const bool first = context.id == "box" && made++ == 0;
        return std::make_unique<ScriptedDevice>(
            log,
            [&, first](DeviceSink&, const std::stop_token& stop) {
                waitForStop(stop);
                if (first) stuck.wait();  // as in a call that nothing can interrupt
            },
            false);
    });
    Bench bench = withDevice(oneOutput(), {"other", "Other", "scripted", "", ""});
    SignalSpec lamp = *bench.signal("drive");
    lamp.id = "lamp";
    lamp.device = "other";
    lamp.terminal = "DO0";
    bench = withSignal(bench, lamp);
    const auto engine = Engine::start(bench, options);
    ASSERT_TRUE(eventually([&] { return timesSaid(log, "run") == 2; }));
    Bench edited = withDevice(bench, {"box", "Box", "scripted", R"({"a": 1})", ""});
    engine->apply(edited);
    EXPECT_TRUE(engine->setOutput("lamp", 4)) << "the engine's thread takes this only when it is free";
    EXPECT_EQ(timesSaid(log, "DO0=4"), 1U);
    EXPECT_EQ(timesSaid(log, "run"), 2U) << "the new one waits for the old one's end";
    stuck.count_down();
    EXPECT_TRUE(eventually([&] { return timesSaid(log, "run") == 3; }));
}

TEST(Outputs, ADeviceThatThrowsEndsWithASentenceAndTheOthersGoOn) {
    ScriptedDevice::Log log;
    auto options = scripted(log, [](DeviceSink&, const std::stop_token&) { throw std::runtime_error("no such luck"); });
    const auto engine = Engine::start(oneOutput(), options);
    ASSERT_TRUE(eventually([&] { return engine->deviceStatus()["box"].state == LinkState::failed; }));
    EXPECT_NE(engine->deviceStatus()["box"].sentence.english().find("no such luck"), std::string::npos);
    EXPECT_EQ(timesSaid(log, "sends what is ready"), 1U);
    EXPECT_TRUE(eventually([&] { return engine->source().at("drive", engine->now()).value == 0.5; }));
}

TEST(Outputs, WhatADevicePutsSafeByItselfIsToldAndComesBackAsTheBenchSays) {
    for (const auto onReturn :
         {OutputSpec::OnReturn::safe, OutputSpec::OnReturn::start, OutputSpec::OnReturn::before}) {
        ScriptedDevice::Log log;
        Steps steps;
        Bench bench = oneOutput();
        SignalSpec drive = *bench.signal("drive");
        drive.output->onReturn = onReturn;
        bench = withSignal(bench, drive);
        const auto engine = Engine::start(
            bench, scripted(log, [&](DeviceSink& sink, const std::stop_token& stop) { steps.run(sink, stop); }));
        ASSERT_TRUE(engine->setOutput("drive", 7));
        // A part of it is out of reach; the device itself stays live.
        steps.say([](DeviceSink& sink) {
            sink.report(statusOf(LinkState::live));
            sink.report(statusOf(LinkState::live, {"AO0"}, 1));
        });
        ASSERT_TRUE(eventually([&] { return timesSaid(log, "allowed 1") > 0; }));
        EXPECT_EQ(timesSaid(log, "AO0=0.5"), 1U);
        EXPECT_EQ(engine->source().at("drive", engine->now()).value, 0.5);
        steps.say([](DeviceSink& sink) { sink.report(statusOf(LinkState::live, {}, 1)); });
        const std::string then = onReturn == OutputSpec::OnReturn::start ? "AO0=3" : "AO0=7";
        if (onReturn != OutputSpec::OnReturn::safe)
            EXPECT_TRUE(eventually([&] { return log.all().back() == then || timesSaid(log, then) == 2; }));
        else
            EXPECT_EQ(timesSaid(log, "AO0=7"), 1U);
    }
}

TEST(Outputs, AtRestNothingIsDrivenUntilThePersonSaysSo) {
    ScriptedDevice::Log log;
    auto options = scripted(log, [](DeviceSink&, const std::stop_token& stop) { waitForStop(stop); });
    options.outputsAtRest = true;
    const auto engine = Engine::start(oneOutput(), options);
    ASSERT_TRUE(eventually([&] { return timesSaid(log, "run") == 1; }));
    EXPECT_TRUE(engine->outputsAtRest());
    EXPECT_FALSE(engine->setOutput("drive", 7));
    EXPECT_EQ(log.all(), (std::vector<std::string>{"run"}));
    engine->driveOutputs();
    ASSERT_TRUE(eventually([&] { return timesSaid(log, "run") == 2; }));
    EXPECT_FALSE(engine->outputsAtRest());
    EXPECT_EQ(timesSaid(log, "AO0=3"), 1U) << "the start value";
    EXPECT_TRUE(engine->setOutput("drive", 7));
    engine->stop();
    EXPECT_EQ(timesSaid(log, "AO0=0.5"), 1U);
}

TEST(Outputs, ABenchThatEndsAtRestSendsNotEvenSafeValues) {
    ScriptedDevice::Log log;
    auto options = scripted(log, [](DeviceSink&, const std::stop_token& stop) { waitForStop(stop); });
    options.outputsAtRest = true;
    Engine::start(oneOutput(), options)->stop();
    for (const std::string& said : log.all()) EXPECT_FALSE(said.starts_with("AO0")) << said;
}

TEST(Outputs, ARefusalIsAnEventOfTheRunEachTimeAndStaysUntilItGoesThrough) {
    TempFolder folder;
    ScriptedDevice::Log log;
    Steps steps;
    auto started = Engine::startRecorded(
        oneOutput(), folder.file("a.run"),
        scripted(log, [&](DeviceSink& sink, const std::stop_token& stop) { steps.run(sink, stop); }));
    ASSERT_TRUE(started.ok());
    Engine& engine = *started.value();
    const auto say = [&](const std::string& refused) {
        steps.say([refused](DeviceSink& sink) {
            DeviceStatus s = statusOf(LinkState::live);
            if (!refused.empty()) s.outputProblems["AO0"] = Text(refused);
            sink.report(s);
        });
        ASSERT_TRUE(eventually([&] { return engine.outputProblem("box", "AO0").english() == refused; }));
    };
    say("reads back 3");
    say("reads back 4");
    say("");
    say("reads back 3");
    engine.stop();
    auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    std::vector<std::string> refused;
    for (const RunEvent& e : reader.value()->info().events)
        if (e.kind == "output refused") refused.push_back(e.words);
    EXPECT_EQ(refused,
              (std::vector<std::string>{"box: AO0: reads back 3", "box: AO0: reads back 4", "box: AO0: reads back 3"}));
}

}  // namespace
}  // namespace cruscotto
