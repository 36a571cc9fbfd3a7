#include "engine/engine.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <condition_variable>

#include "core/export/run_export.h"
#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "engine/run_source.h"
#include "scripted_device.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::oneOutput;
using test::scripted;
using test::ScriptedDevice;
using test::TempFolder;
using test::waitForStop;

EngineOptions fast(double s) {
    EngineOptions o;
    o.pace = Pace::asFastAsPossible;
    o.until = seconds(s);
    return o;
}

TEST(Engine, AllSignalsOfThePumpBenchMeanSomething) {
    const Bench bench = test::exampleBench("pump-bench");
    const auto engine = Engine::start(bench, fast(20));
    engine->wait();
    EXPECT_EQ(engine->now(), (Instant{20'000'000'000}));
    const auto value = [&](const char* s) { return engine->source().at(s, engine->now()).value; };
    EXPECT_NEAR(value("shaft-speed"), 2030, 30);
    EXPECT_NEAR(value("flow"), 44, 12);
    EXPECT_NEAR(value("outlet-pressure"), 1.8, 0.5);
    EXPECT_NEAR(value("water-temperature"), 21.5, 0.5);
    EXPECT_NEAR(value("bearing-temperature"), 26, 2.5);
    EXPECT_NEAR(value("box-temperature"), 24, 0.3);
    EXPECT_EQ(value("valve-is-open"), 1);
    EXPECT_EQ(value("drive"), 7);
    EXPECT_EQ(engine->lostSamples(), 0U);
}

TEST(Engine, OutputsComeFirstAndAreSafeAtTheEnd) {
    ScriptedDevice::Log log;
    {
        const auto engine = Engine::start(
            oneOutput(), scripted(log, [](DeviceSink&, const std::stop_token& stop) { waitForStop(stop); }));
        ASSERT_TRUE(eventually([&] { return log.all().size() == 2; }));
        EXPECT_TRUE(engine->setOutput("drive", 7));
        EXPECT_TRUE(engine->setOutput("drive", 99)) << "clamped to the output's own limit";
        EXPECT_FALSE(engine->setOutput("in", 1));
        EXPECT_FALSE(engine->setOutput("drive", std::nan("")));
    }
    EXPECT_EQ(log.all(), (std::vector<std::string>{"AO0=3", "run", "AO0=7", "AO0=10", "AO0=0.5", "end"}));
}

TEST(Engine, ADeviceIsToldWhatIsAskedOfItAndMadeAnewWhereItCannotTakeThat) {
    for (const bool takes : {true, false}) {
        ScriptedDevice::Log log;
        EngineOptions options;
        options.kinds = test::kindsThatAre([&](const auto&, const std::vector<TerminalRequest>& asked) {
            log.say("made for " + std::to_string(asked.size()));
            auto device = std::make_unique<ScriptedDevice>(
                log, [](DeviceSink&, const std::stop_token& stop) { waitForStop(stop); });
            device->takesRequests = takes;
            return device;
        });
        const auto engine = Engine::start(oneOutput(), options);
        ASSERT_TRUE(eventually([&] { return log.all().size() == 3; }));
        SignalSpec another;
        another.id = "more";
        another.device = "box";
        another.terminal = "AI1";
        const Bench more = withSignal(oneOutput(), another);
        engine->apply(more);
        engine->apply(more);
        // The engine does not wait for the one that goes; its successor does, before it begins.
        std::vector<std::string> expected{"made for 2", "AO0=3", "run", "asked for 3"};
        if (!takes) expected.insert(expected.end(), {"end", "run"});
        const auto but = [&] {
            auto all = log.all();
            if (!takes && all.size() == 8) {
                const auto made = std::ranges::find(all, "made for 3");
                if (made != all.end() && *(made + 1) != "AO0=3") std::iter_swap(made + 1, made + 2);
                if (made != all.end()) all.erase(made, made + 2);
            }
            return all;
        };
        EXPECT_TRUE(eventually([&] { return but() == expected; })) << testing::PrintToString(log.all());
    }
}

TEST(Engine, AnOutputThatNoSignalHasAnyMoreIsSafe) {
    ScriptedDevice::Log log;
    const auto engine =
        Engine::start(oneOutput(), scripted(log, [](DeviceSink&, const std::stop_token& stop) { waitForStop(stop); }));
    ASSERT_TRUE(eventually([&] { return log.all().size() == 2; }));
    EXPECT_TRUE(engine->setOutput("drive", 7));
    ASSERT_TRUE(eventually([&] { return log.all().back() == "AO0=7"; }));
    engine->apply(withoutSignal(oneOutput(), "drive"));
    EXPECT_TRUE(eventually([&] { return log.all().size() == 5; }));
    EXPECT_EQ(log.all(), (std::vector<std::string>{"AO0=3", "run", "AO0=7", "AO0=0.5", "asked for 1"}));
}

TEST(Engine, OutputsAreSafeWhenTheDeviceIsLost) {
    ScriptedDevice::Log log;
    const auto engine = Engine::start(oneOutput(), scripted(log, [](DeviceSink& sink, const std::stop_token& stop) {
                                          sink.report({LinkState::live, "fine", 0, 0, 0, {}});
                                          sink.report({LinkState::lost, "gone", 0, 0, 0, {}});
                                          waitForStop(stop);
                                      }));
    ASSERT_TRUE(eventually([&] {
        const auto all = log.all();
        return std::find(all.begin(), all.end(), "AO0=0.5") != all.end();
    }));
    EXPECT_TRUE(eventually([&] { return engine->source().at("drive", engine->now()).value == 0.5; }))
        << "and the screen shows it";
    EXPECT_EQ(engine->deviceStatus().at("box").state, LinkState::lost);
}

TEST(Engine, OutputsOfADeviceThatIsBackAreBroughtToWhatTheBenchSays) {
    using OnReturn = OutputSpec::OnReturn;
    struct Case {
        OnReturn choice;
        bool setMeanwhile;
        std::vector<std::string> said;
    };
    for (const Case& c : {Case{OnReturn::safe, false, {"AO0=3", "AO0=7", "AO0=0.5"}},
                          Case{OnReturn::start, false, {"AO0=3", "AO0=7", "AO0=0.5", "AO0=3"}},
                          Case{OnReturn::before, false, {"AO0=3", "AO0=7", "AO0=0.5", "AO0=7"}},
                          Case{OnReturn::before, true, {"AO0=3", "AO0=7", "AO0=0.5", "AO0=4"}}}) {
        ScriptedDevice::Log log;
        std::atomic<int> step{0};
        Bench bench = oneOutput();
        SignalSpec drive = *bench.signal("drive");
        drive.output->onReturn = c.choice;
        bench = withSignal(bench, drive);
        const auto engine = Engine::start(bench, scripted(log, [&](DeviceSink& sink, const std::stop_token& stop) {
                                              const auto reach = [&](int n, LinkState state, const char* words) {
                                                  eventually([&] { return step >= n || stop.stop_requested(); });
                                                  sink.report({state, words, 0, 0, 0, {}});
                                              };
                                              reach(0, LinkState::live, "fine");
                                              reach(1, LinkState::lost, "gone");
                                              reach(2, LinkState::live, "back");
                                              reach(3, LinkState::silent, "done");
                                              waitForStop(stop);
                                          }));
        const auto outputs = [&] {
            std::vector<std::string> out;
            for (const auto& s : log.all())
                if (s.starts_with("AO0")) out.push_back(s);
            return out;
        };
        engine->setOutput("drive", 7);
        ASSERT_TRUE(eventually([&] { return outputs().size() == 2; }));
        step = 1;
        ASSERT_TRUE(eventually([&] { return outputs().size() == 3; })) << "safe while it is away";
        if (c.setMeanwhile) engine->setOutput("drive", 4);
        if (c.setMeanwhile) EXPECT_EQ(outputs().size(), 3U) << "it waits until somebody watches over it again";
        const auto held = engine->outputState("drive");
        ASSERT_TRUE(held);
        EXPECT_EQ(held->holder, OutputHolder::safe);
        EXPECT_NE(held->why.english().find("Box is out of reach"), std::string::npos) << held->why.english();
        EXPECT_EQ(held->waits, c.setMeanwhile ? std::optional(4.0) : std::nullopt);
        step = 2;
        ASSERT_TRUE(eventually([&] { return outputs().size() >= c.said.size(); }));
        const auto sure = [&] { return engine->source().at("drive", engine->now()).quality == Quality::good; };
        ASSERT_TRUE(eventually(sure)) << "it is back, and has what it was told";
        step = 3;
        ASSERT_TRUE(eventually([&] { return engine->deviceStatus().at("box").state == LinkState::silent; }));
        EXPECT_EQ(outputs(), c.said);
        ASSERT_TRUE(eventually([&] { return !sure(); })) << "nobody knows what it does";
        engine->setOutput("drive", 6);
        ASSERT_TRUE(eventually([&] { return engine->source().at("drive", engine->now()).value == 6; }));
        ASSERT_TRUE(eventually([&] { return !sure(); })) << "nor whether it heard this";
    }
}

TEST(Engine, WhatItCannotTakeIsAGapWithItsExactNumber) {
    ScriptedDevice::Log log;
    TempFolder folder;
    constexpr std::size_t blocks = 30'000;
    auto group = test::oneChannelGroup(100'000);
    group->device = "box";
    std::atomic<bool> done{false};
    const auto engine =
        Engine::start(oneOutput(), scripted(log, [&](DeviceSink& sink, const std::stop_token& stop) {
                          for (std::uint64_t i = 0; i < blocks; ++i)
                              sink.deliver(test::clockedBlock(group, i * 4, {static_cast<std::int64_t>(i) * 40'000},
                                                              std::vector<double>{1, 2, 3, 4}));
                          done = true;
                          waitForStop(stop);
                      }));
    ASSERT_TRUE(eventually([&] { return done.load(); }));
    engine->stop();
    std::vector<Column> columns;
    engine->source().columns("in", {{0}, seconds(10), 1}, columns);
    EXPECT_EQ(columns[0].summary.count + engine->lostSamples(), blocks * 4);
}

TEST(Engine, SamplesThatAreStampedOutOfOrderArePutIntoOrderAndNoted) {
    ScriptedDevice::Log log;
    TempFolder folder;
    auto group = std::make_shared<ScanGroup>(*test::oneChannelGroup(0));
    group->device = "box";
    const auto block = [&](std::uint64_t first, std::vector<std::int64_t> ms, std::vector<double> v) {
        auto b = std::make_shared<Block>();
        b->group = group;
        b->firstIndex = first;
        for (const auto t : ms) b->times.push_back({t * 1'000'000});
        b->t0 = b->times.front();
        b->columns.emplace_back(std::move(v));
        b->quality = {{{1, 2, Quality::clipped}}};
        return b;
    };
    std::atomic<bool> done{false};
    auto engine = Engine::startRecorded(oneOutput(), folder.file("a.run"),
                                        scripted(log, [&](DeviceSink& sink, const std::stop_token& stop) {
                                            sink.deliver(block(0, {10, 40, 30, 20}, {1, 4, 3, 2}));
                                            sink.deliver(block(4, {35, 50}, {5, 6}));
                                            done = true;
                                            waitForStop(stop);
                                        }));
    ASSERT_TRUE(engine.ok());
    ASSERT_TRUE(eventually([&] { return done.load(); }));
    engine.value()->stop();
    auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    const RunInfo& info = reader.value()->info();
    auto blocks = reader.value()->blocks(info.signal("in")->group);
    std::vector<double> values;
    std::vector<std::int64_t> times;
    while (const BlockPtr b = blocks.next()) {
        const auto& v = std::get<std::vector<double>>(b->columns[0]);
        values.insert(values.end(), v.begin(), v.end());
        for (const Instant t : b->times) times.push_back(t.ns / 1'000'000);
        if (b->firstIndex == 0) {
            ASSERT_EQ(b->quality[0].size(), 2U);
            EXPECT_EQ(b->quality[0][0].begin, 3U) << "its quality goes along with the sample";
        }
    }
    EXPECT_EQ(values, (std::vector<double>{1, 2, 3, 4, 5, 6}));
    EXPECT_EQ(times, (std::vector<std::int64_t>{10, 20, 30, 40, 40, 50}))
        << "one that comes too late stands where it can";
    const auto noted = std::count_if(info.events.begin(), info.events.end(), [](const RunEvent& e) {
        return e.words.find("out of order") != std::string::npos;
    });
    EXPECT_EQ(noted, 2);
}

TEST(Engine, AChainEditTakesHoldBetweenTwoSamplesWithoutAStop) {
    ScriptedDevice::Log log;
    auto group = test::oneChannelGroup(1000);
    group->device = "box";
    std::atomic<int> phase{0};
    Bench bench = oneOutput();
    const auto engine =
        Engine::start(bench, scripted(log, [&](DeviceSink& sink, const std::stop_token& stop) {
                          sink.deliver(test::clockedBlock(group, 0, {0}, std::vector<double>{1, 2}));
                          phase = 1;
                          while (phase == 1 && !stop.stop_requested()) std::this_thread::yield();
                          sink.deliver(test::clockedBlock(group, 2, {2'000'000}, std::vector<double>{3, 4}));
                          phase = 3;
                          waitForStop(stop);
                      }));
    ASSERT_TRUE(eventually([&] { return phase == 1 && engine->source().at("in", {9'000'000}).value == 2; }));
    SignalSpec changed = *bench.signal("in");
    changed.chain = {slopeOffset(10, 0, "bar")};
    engine->apply(withSignal(bench, changed));
    EXPECT_TRUE(engine->setOutput("drive", 1)) << "waits until the edit has been taken";
    phase = 2;
    ASSERT_TRUE(eventually([&] { return engine->source().at("in", {9'000'000}).value == 40; }));
    EXPECT_EQ(engine->source().at("in", {1'000'000}).value, 2) << "what was is not changed";
    const auto all = log.all();
    EXPECT_EQ(std::count(all.begin(), all.end(), "run"), 1) << "the device went on";
}

TEST(Engine, DevicesAndSignalsComeAndGoWhileItRuns) {
    Bench bench = test::exampleBench("pump-bench");
    const auto engine = Engine::start({});
    engine->apply(bench);
    ASSERT_TRUE(eventually([&] { return !std::isnan(engine->source().at("vibration", engine->now()).value); }));
    bench = withoutSignal(bench, "vibration");
    engine->apply(bench);
    ASSERT_TRUE(eventually([&] { return std::isnan(engine->source().at("vibration", engine->now()).value); }));
    EXPECT_FALSE(std::isnan(engine->source().at("spare", engine->now()).value));
    engine->apply(withoutDevice(bench, "box"));
    ASSERT_TRUE(eventually([&] { return engine->deviceStatus().empty(); }));
}

TEST(Engine, FirstReadingInLessThanASecond) {
    const auto begin = std::chrono::steady_clock::now();
    const auto engine = Engine::start(test::exampleBench("pump-bench"));
    ASSERT_TRUE(eventually([&] { return !std::isnan(engine->source().at("inlet-pressure", engine->now()).value); }));
    if (!SANITIZED) EXPECT_LT(std::chrono::steady_clock::now() - begin, std::chrono::seconds(1));
}

TEST(Recording, HoldsEverySampleAndTheReadingsComeOutTheSame) {
    TempFolder folder;
    const Bench bench = test::exampleBench("pump-bench");
    auto started = Engine::startRecorded(bench, folder.file("a.run"), fast(10));
    ASSERT_TRUE(started.ok());
    started.value()->wait();
    std::map<std::string, double> live;
    for (const auto& s : bench.signals) live[s->id] = started.value()->source().at(s->id, {9'999'000'000}).value;
    started.value()->stop();
    const auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    const RunInfo& info = reader.value()->info();
    EXPECT_TRUE(info.closed);
    EXPECT_EQ(info.lostSamples(), 0U);
    for (const RunSignal& s : info.signals) {
        const ChannelKind kind = s.current().kind;
        const bool counter = kind == ChannelKind::counterInput || kind == ChannelKind::computed;
        if (!isOutput(s.current().kind)) EXPECT_EQ(s.samples, counter ? 1000U : 10'000U) << s.key;
    }
    EXPECT_EQ(info.signals.size(), bench.signals.size());

    RunSource run(folder.file("a.run"));
    ASSERT_TRUE(eventually([&] { return run.state().done; }));
    EXPECT_FALSE(run.state().error);
    EXPECT_FALSE(run.state().inParts);
    for (const auto& s : bench.signals) EXPECT_EQ(run.at(s->id, {9'999'000'000}).value, live[s->id]) << s->id;
    EXPECT_EQ(run.anchor().unixNs, info.anchors.front().unixNs);
}

TEST(Recording, BeginsAndEndsInTheMiddleWithMarks) {
    TempFolder folder;
    const auto engine = Engine::start(test::exampleBench("pump-bench"));
    ASSERT_TRUE(eventually([&] { return engine->now() > Instant{100'000'000}; }));
    ASSERT_TRUE(engine->startRecording(folder.file("a.run")).ok());
    EXPECT_FALSE(engine->startRecording(folder.file("b.run")).ok()) << "one at a time";
    EXPECT_FALSE(std::filesystem::exists(folder.file("b.run")));
    engine->mark(engine->now(), "valve half closed");
    ASSERT_TRUE(eventually([&] { return engine->recording().samples > 2000; }));
    const RecordingStatus status = engine->stopRecording();
    EXPECT_FALSE(status.active);
    EXPECT_EQ(status.lost, 0U);
    EXPECT_TRUE(status.problem.empty()) << status.problem.english();
    ASSERT_EQ(engine->recordedSpans().size(), 1U);
    const auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    const RunInfo& info = reader.value()->info();
    ASSERT_EQ(info.marks.size(), 1U);
    EXPECT_EQ(info.marks[0].words, "valve half closed");
    std::uint64_t total = 0;
    for (const RunSignal& s : info.signals) total += s.samples;
    EXPECT_EQ(total, status.samples);
    EXPECT_EQ(info.signal("drive")->samples, 1U) << "an output's value is there from the start";
}

TEST(Recording, AChainChangedWhileRecordingKeepsBoth) {
    TempFolder folder;
    Bench bench = test::exampleBench("pump-bench");
    const auto engine = Engine::start(bench);
    ASSERT_TRUE(engine->startRecording(folder.file("a.run")).ok());
    ASSERT_TRUE(eventually([&] { return engine->recording().samples > 2000; }));
    SignalSpec changed = *bench.signal("spare");
    changed.chain.emplace_back(slopeOffset(1000, 0, "mV"));
    engine->apply(withSignal(bench, changed));
    const auto before = engine->recording().samples;
    ASSERT_TRUE(eventually([&] { return engine->recording().samples > before + 4000; }));
    engine->stop();
    const auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    const RunSignal* s = reader.value()->info().signal("spare");
    ASSERT_EQ(s->definitions.size(), 2U);
    EXPECT_EQ(s->current().unit(), "mV");
    EXPECT_EQ(reader.value()->info().signal("flow")->definitions.size(), 1U);
}

TEST(Recording, AStepOfTheWallClockBendsNoTraceAndStandsInTheAnchors) {
    TempFolder folder;
    std::atomic<std::int64_t> step{0};
    EngineOptions options;
    const auto began = std::chrono::steady_clock::now();
    options.wallClock = [&step, began] {
        return 1'768'467'600'000'000'000 + step + (std::chrono::steady_clock::now() - began).count();
    };
    auto engine = Engine::startRecorded(test::exampleBench("pump-bench"), folder.file("a.run"), options);
    ASSERT_TRUE(engine.ok());
    const auto until = [&](double t) { return eventually([&, t] { return engine.value()->now().seconds() > t; }); };
    ASSERT_TRUE(until(0.5));
    step = 3'600'000'000'000;
    ASSERT_TRUE(until(1.5));
    step = -7'000'000'000;
    ASSERT_TRUE(until(2.5));
    engine.value()->stop();
    const auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    const RunInfo& info = reader.value()->info();
    ASSERT_EQ(info.anchors.size(), 3U) << "one at the start, one behind each step";
    const auto offset = [&](std::size_t i) {
        return static_cast<double>(info.anchors[i].unixNs - info.anchors[i].at.ns -
                                   (info.anchors[0].unixNs - info.anchors[0].at.ns)) *
               1e-9;
    };
    EXPECT_NEAR(offset(1), 3600, 0.2);
    EXPECT_NEAR(offset(2), -7, 0.2);
    EXPECT_EQ(
        std::count_if(info.events.begin(), info.events.end(), [](const RunEvent& e) { return e.kind == "clock"; }), 2);
    auto blocks = reader.value()->blocks(info.signal("vibration")->group);
    std::optional<Instant> next;
    while (const BlockPtr b = blocks.next()) {
        if (next) EXPECT_NEAR(static_cast<double>((b->timeOf(0) - *next).ns), 0, 2) << "sample follows sample";
        next = b->timeOf(b->size());
    }
    EXPECT_LT(next->seconds(), 60);
}

TEST(Recording, WhileTheComputerSleepsIsAGapOfItsLengthAndTheTimeOfDayStaysRight) {
    TempFolder folder;
    std::atomic<std::int64_t> slept{0};
    EngineOptions options;
    options.asleep = [&slept] { return slept.load(); };
    const auto began = std::chrono::steady_clock::now();
    options.wallClock = [&slept, began] {
        return 1'768'467'600'000'000'000 + slept + (std::chrono::steady_clock::now() - began).count();
    };
    auto engine = Engine::startRecorded(test::exampleBench("pump-bench"), folder.file("a.run"), options);
    ASSERT_TRUE(engine.ok());
    Engine& running = *engine.value();
    const auto until = [&](double t) { return eventually([&, t] { return running.now().seconds() > t; }); };
    ASSERT_TRUE(until(0.5));
    for (const char* signal : {"vibration", "shaft-speed"})
        ASSERT_TRUE(eventually([&] { return !std::isnan(running.source().at(signal, running.now()).value); }));
    EXPECT_FALSE(running.lastSleep());
    const Instant fellAsleep = running.now();
    slept = 3'600'000'000'000;
    ASSERT_TRUE(eventually([&] { return running.lastSleep().has_value(); }));
    const Span sleep = *running.lastSleep();
    EXPECT_NEAR((sleep.to - sleep.from).seconds(), 3600, 1e-6);
    EXPECT_GE(sleep.from, fellAsleep) << "it is never dated back";
    EXPECT_LE(sleep.to, running.now());
    ASSERT_TRUE(until(3601.5));
    running.stop();
    ASSERT_EQ(running.marks().size(), 1U);
    EXPECT_EQ(running.marks()[0].words, "The computer slept for 1 h 0 min");

    const auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    const RunInfo& info = reader.value()->info();
    for (const WallAnchor& a : info.anchors)
        EXPECT_NEAR(static_cast<double>((a.unixNs - a.at.ns) - (info.anchors[0].unixNs - info.anchors[0].at.ns)), 0,
                    5e7)
            << "the time of day goes on as the axis does";
    EXPECT_TRUE(std::ranges::none_of(info.events, [](const RunEvent& e) { return e.kind == "clock"; }));
    ASSERT_EQ(info.marks.size(), 1U);
    EXPECT_EQ(info.marks[0].words, running.marks()[0].words);
    for (const char* signal : {"vibration", "shaft-speed"}) {
        ASSERT_NE(info.signal(signal), nullptr) << signal;
        auto blocks = reader.value()->blocks(info.signal(signal)->group);
        std::optional<Instant> end;
        std::uint64_t next = 0;
        std::vector<Gap> gaps;
        while (const BlockPtr b = blocks.next()) {
            if (b->gapBefore) {
                gaps.push_back(*b->gapBefore);
                EXPECT_EQ(gaps.back().from.ns, end->ns) << "it begins behind the last sample";
                EXPECT_EQ(gaps.back().to.ns, b->timeOf(0).ns);
                EXPECT_EQ(gaps.back().lostSamples, b->firstIndex - next);
            } else if (end) {
                EXPECT_NEAR(static_cast<double>((b->timeOf(0) - *end).ns), 0, 2);
            }
            end = b->timeOf(b->size());
            next = b->firstIndex + b->size();
        }
        ASSERT_EQ(gaps.size(), 1U) << signal;
        EXPECT_EQ(gaps[0].cause, "The computer slept.");
        // The box itself holds two seconds; and on a machine that stands still, something had come before it slept.
        EXPECT_GT((gaps[0].to - gaps[0].from).seconds(), 3597);
        EXPECT_LT((gaps[0].to - gaps[0].from).seconds(), 3630);
    }
}

TEST(Engine, AfterASleepTheFirstSampleOfADeviceThatIsAskedHasTheGapBeforeItEvenAmidABlock) {
    // A device that delivers when it is told to, at the engine's own time.
    struct Asked : Device {
        struct Orders {
            std::atomic<int> wanted{0}, taken{0};
            std::atomic<bool> together{false};  // hand nothing over until it is false again, and then all in one
        };
        std::shared_ptr<Orders> orders;
        explicit Asked(std::shared_ptr<Orders> o) : orders(std::move(o)) {}
        void run(DeviceSink& sink, std::stop_token stop) override {
            auto group = std::make_shared<ScanGroup>();
            group->device = "device";
            group->name = "scan";
            group->channels = {{"AI0", SampleType::float64, ChannelKind::analogInput}};
            std::vector<Instant> times;
            std::vector<double> values;
            for (int given = 0; !stop.stop_requested();) {
                if (orders->taken < orders->wanted) {
                    times.push_back(sink.now());
                    values.push_back(1.0 + orders->taken++);
                } else if (!values.empty() && !orders->together) {
                    auto block = std::make_shared<Block>();
                    block->group = group;
                    block->firstIndex = static_cast<std::uint64_t>(given);
                    given += static_cast<int>(values.size());
                    block->times = std::exchange(times, {});
                    block->columns.emplace_back(std::exchange(values, {}));
                    sink.deliver(std::move(block));
                } else {
                    std::this_thread::yield();
                }
            }
        }
        void setOutput(const std::string&, double) override {}
        bool reconfigure(const JsonText&, const std::vector<TerminalRequest>&) override { return true; }
    };
    const auto orders = std::make_shared<Asked::Orders>();
    std::atomic<int>& wanted = orders->wanted;
    std::atomic<std::int64_t> slept{0};
    EngineOptions options;
    options.asleep = [&slept] { return slept.load(); };
    options.kinds = test::kindsThatAre([&](const auto&, const auto&) { return std::make_unique<Asked>(orders); });
    const auto engine = Engine::start(test::oneSignal(), options);
    const auto arrives = [&](double v) {
        return eventually([&] { return engine->source().at("in", engine->now()).value == v; });
    };
    wanted = 1;
    ASSERT_TRUE(arrives(1));
    slept = 60'000'000'000;
    wanted = 2;
    ASSERT_TRUE(arrives(2));
    wanted = 3;
    ASSERT_TRUE(arrives(3));
    const auto gaps = [&] {
        std::vector<Column> columns;
        const auto all = static_cast<std::size_t>(engine->now().seconds() / 2) + 1;
        engine->source().columns("in", {{0}, seconds(2), all}, columns);
        return std::ranges::count_if(columns, [](const Column& c) { return c.gapBefore; });
    };
    EXPECT_EQ(gaps(), 1);
    // Shorter than anybody would call a sleep.
    slept += 20'000'000;
    wanted = 4;
    ASSERT_TRUE(arrives(4));
    EXPECT_NEAR((engine->lastSleep()->to - engine->lastSleep()->from).seconds(), 60, 1e-6);
    EXPECT_EQ(gaps(), 1);
    // What was taken before and after comes in one block: the gap lies within it.
    orders->together = true;
    wanted = 5;
    ASSERT_TRUE(eventually([&] { return orders->taken == 5; }));
    slept += 120'000'000'000;
    wanted = 6;
    ASSERT_TRUE(eventually([&] { return orders->taken == 6; }));
    orders->together = false;
    ASSERT_TRUE(arrives(6));
    EXPECT_EQ(gaps(), 2);
    EXPECT_EQ(engine->source().at("in", {engine->now().ns - 60'000'000'000}).value, 5);
}

TEST(Recording, EachFileOfASplitRecordingTellsWhatTheOutputsStandAt) {
    TempFolder folder;
    Bench bench = test::exampleBench("pump-bench");
    bench.recording.splitMinutes = 1 / 60.0;
    auto engine = Engine::start(bench);
    engine->setOutput("drive", 4);
    ASSERT_TRUE(eventually([&] { return engine->source().at("drive", engine->now()).value == 4; }));
    ASSERT_TRUE(engine->startRecording(folder.file("a.run")).ok());
    ASSERT_TRUE(eventually([&] { return engine->recording().parts == 3; }));
    engine->stopRecording();
    for (const char* part : {"a.run", "a.part2.run", "a.part3.run"}) {
        auto reader = RunReader::open(folder.file(part));
        ASSERT_TRUE(reader.ok());
        const RunSignal* drive = reader.value()->info().signal("drive");
        ASSERT_TRUE(drive) << part;
        RunReplay replay(*reader.value(), drive->group, {RunReader::Part{}.span, {drive->id}});
        RunReplay::Step step;
        ASSERT_TRUE(replay.next(step)) << part;
        EXPECT_EQ(step.readings[0].values.front(), 4) << part;
        if (part != std::string("a.run")) {
            EXPECT_LE((step.block->timeOf(0) - reader.value()->info().span.from).seconds(), 0.1) << part;
        }
    }
}

TEST(KeepPast, WritesWhatIsInMemoryAsIfItHadBeenRecorded) {
    TempFolder folder;
    EngineOptions options = fast(20);
    options.history.samples = std::size_t{1} << 13;
    options.wallClock = [] { return std::int64_t{1'768'467'600'000'000'000}; };
    auto engine = Engine::startRecorded(test::exampleBench("pump-bench"), folder.file("all.run"), options);
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    const Instant since = engine.value()->heldSince();
    EXPECT_GT(since, Instant{20'000'000'000 - 8'300'000'000});
    EXPECT_LT(since, Instant{20'000'000'000 - 7'000'000'000});
    const auto kept = engine.value()->keepPast(folder.file("kept.run"), seconds(5));
    ASSERT_TRUE(kept.ok()) << kept.error().english();
    EXPECT_NEAR((kept.value().to - Instant{15'000'000'000}).seconds(), 5, 0.02);
    EXPECT_FALSE(engine.value()->keepPast(folder.file("kept.run"), seconds(5)).ok()) << "never over another run";
    engine.value()->stop();
    auto all = RunReader::open(folder.file("all.run")), part = RunReader::open(folder.file("kept.run"));
    ASSERT_TRUE(all.ok() && part.ok());
    EXPECT_TRUE(part.value()->info().closed);
    EXPECT_EQ(part.value()->info().signal("vibration")->samples, 5000U);
    EXPECT_EQ(part.value()->info().signal("flow")->samples, 500U);
    EXPECT_EQ(part.value()->info().signal("drive")->samples, 1U) << "what the output stood at";
    EXPECT_EQ(part.value()->summaries(part.value()->info().signal("vibration")->id, 2).size(), 4U);
    const auto rawOf = [](RunReader& reader, Instant from) {
        std::vector<std::pair<std::int64_t, std::int16_t>> out;
        const RunSignal* s = reader.info().signal("vibration");
        auto blocks = reader.blocks(s->group, {RunReader::Part{}.span, {s->id}});
        while (const BlockPtr b = blocks.next())
            for (std::size_t i = 0; i < b->size(); ++i)
                if (b->timeOf(i) >= from)
                    out.emplace_back(b->timeOf(i).ns, std::get<std::vector<std::int16_t>>(b->columns[0])[i]);
        return out;
    };
    EXPECT_TRUE(rawOf(*part.value(), {}) == rawOf(*all.value(), {15'000'000'000})) << "sample by sample";
    EXPECT_EQ(part.value()->info().anchors.front().unixNs - all.value()->info().anchors.front().unixNs, 15'000'000'000);
}

TEST(RunSource, ShowsGapsWhereTheDeviceWasAway) {
    TempFolder folder;
    Bench bench = test::exampleBench("pump-bench");
    DeviceSpec box = *bench.device("box");
    box.settings = R"({"seed":1,"rate-hz":1000,"faults":[{"fault":"away","from-s":3,"to-s":5}]})";
    bench = withDevice(bench, box);
    auto engine = Engine::startRecorded(bench, folder.file("a.run"), fast(8));
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    engine.value()->stop();
    RunSource run(folder.file("a.run"));
    ASSERT_TRUE(eventually([&] { return run.state().done; }));
    EXPECT_EQ(run.info()->signal("vibration")->samples, 6000U);
    EXPECT_EQ(run.info()->lostSamples(), 2000U * 12 + 200U * 2) << "twelve analog and digital signals, two counters";
    std::vector<Column> columns;
    run.columns("vibration", {{0}, seconds(1), 8}, columns);
    EXPECT_NEAR(columns[2].summary.count, 1000, 64) << "whole buckets";
    EXPECT_EQ(columns[3].summary.count, 0U);
    EXPECT_EQ(columns[4].summary.count, 0U);
    EXPECT_NEAR(columns[5].summary.count, 1000, 64);
    EXPECT_TRUE(columns[5].gapBefore);
    EXPECT_EQ(run.at("drive", {3'900'000'000}).value, 0) << "outputs were brought to safe when the box went away";
}

TEST(RunSource, ALongRunIsShownAtOnceAndReadWhereSomebodyLooks) {
    TempFolder folder;
    auto engine = Engine::startRecorded(test::exampleBench("pump-bench"), folder.file("a.run"), fast(120));
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    engine.value()->stop();
    RunSource whole(folder.file("a.run"));
    ASSERT_TRUE(eventually([&] { return whole.state().done; }));
    RunSource run(folder.file("a.run"), std::size_t{4} << 20);
    ASSERT_TRUE(eventually([&] { return run.state().opened; }));
    ASSERT_TRUE(run.state().inParts);
    std::vector<Column> columns, expected;
    run.columns("vibration", {{0}, seconds(12), 10}, columns);
    for (std::size_t i = 0; i < 9; ++i) EXPECT_NEAR(columns[i].summary.count, 12'000, 1100) << "whole buckets";
    // a narrow look: coarse at once, then as if everything were in memory
    const ColumnRequest narrow{{40'000'000'000}, milliseconds(10), 200};
    run.columns("vibration", narrow, columns);
    for (const Column& c : columns) EXPECT_GT(c.summary.count, 0U) << "something to see at once";
    ASSERT_TRUE(eventually([&] {
        run.columns("vibration", narrow, columns);
        return columns[100].summary.count == 10;
    }));
    whole.columns("vibration", narrow, expected);
    for (std::size_t i = 0; i < columns.size(); ++i) {
        EXPECT_EQ(columns[i].summary.count, expected[i].summary.count);
        EXPECT_EQ(columns[i].summary.min, expected[i].summary.min);
        EXPECT_EQ(columns[i].summary.max, expected[i].summary.max);
    }
    // every kind of chain, also those that look back
    for (const char* id : {"outlet-pressure", "flow", "shaft-speed", "bearing-temperature", "guard-door"}) {
        const Instant t{77'123'000'000};
        ASSERT_TRUE(eventually([&] { return !run.at(id, t).summary; })) << id;
        EXPECT_NEAR(run.at(id, t).value, whole.at(id, t).value, 1e-9) << id;
        const auto known = whole.stagesAt(id, t);
        std::vector<double> stages;
        ASSERT_TRUE(eventually([&] {
            stages = run.stagesAt(id, t);
            return stages.size() == known.size();
        })) << id;
        for (std::size_t i = 0; i < stages.size(); ++i) EXPECT_NEAR(stages[i], known[i], 1e-9) << id << " " << i;
    }
    std::vector<Point> points;
    EXPECT_FALSE(run.points("vibration", {{5'000'000'000}, {5'100'000'000}}, 1000, points)) << "not read yet: columns";
}

TEST(RunSource, SaysWhyItCannotOpen) {
    TempFolder folder;
    test::writeFile(folder.file("x.run"), "no");
    RunSource run(folder.file("x.run"));
    ASSERT_TRUE(eventually([&] { return run.state().done; }));
    ASSERT_TRUE(run.state().error);
    EXPECT_NE(run.state().error->english().find("x.run"), std::string::npos);
}

}  // namespace
}  // namespace cruscotto
