#include "engine/engine.h"

#include <sys/wait.h>
#include <unistd.h>

#include <cmath>
#include <condition_variable>

#include "core/csv_export.h"
#include "core/run_reader.h"
#include "engine/run_source.h"
#include "support.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::TempFolder;

EngineOptions fast(double s) {
    EngineOptions o;
    o.pace = Pace::asFastAsPossible;
    o.until = seconds(s);
    return o;
}

/// A device that does what the test says: hands over blocks from a list, remembers what its outputs were set to.
class ScriptedDevice : public Device {
public:
    struct Log {
        std::mutex mutex;
        std::vector<std::string> said;
        void say(const std::string& s) {
            const std::lock_guard lock(mutex);
            said.push_back(s);
        }
        std::vector<std::string> all() {
            const std::lock_guard lock(mutex);
            return said;
        }
    };
    ScriptedDevice(Log& log, std::function<void(DeviceSink&, std::stop_token)> script)
        : log_(log), script_(std::move(script)) {}
    void run(DeviceSink& sink, std::stop_token stop) override {
        log_.say("run");
        script_(sink, stop);
        log_.say("end");
    }
    void setOutput(const std::string& terminal, double value) override {
        log_.say(terminal + "=" + exactNumber(value));
    }
    bool reconfigure(const JsonText&, const std::vector<TerminalRequest>&) override { return true; }

private:
    Log& log_;
    std::function<void(DeviceSink&, std::stop_token)> script_;
};

void waitForStop(const std::stop_token& stop) {
    std::mutex m;
    std::condition_variable_any c;
    std::unique_lock lock(m);
    c.wait(lock, stop, [] { return false; });
}

EngineOptions scripted(ScriptedDevice::Log& log, std::function<void(DeviceSink&, std::stop_token)> script) {
    EngineOptions o;
    o.makeDevice = [&log, script](const DeviceSpec&, const DeviceContext&, const std::vector<TerminalRequest>&) {
        return std::make_unique<ScriptedDevice>(log, script);
    };
    return o;
}

Bench oneOutput() {
    Bench b;
    b.name = "Test";
    b = withDevice(b, {"box", "Box", "scripted", "", ""});
    SignalSpec s;
    s.id = "drive";
    s.name = "Drive";
    s.device = "box";
    s.terminal = "AO0";
    s.kind = ChannelKind::analogOutput;
    s.output = OutputSpec{0, 10, 3, 0.5};
    b = withSignal(b, s);
    s = {};
    s.id = "in";
    s.name = "In";
    s.device = "box";
    s.terminal = "AI0";
    return withSignal(b, s);
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
    changed.chain = {SlopeOffset{10, 0, "bar"}};
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
        const bool counter = s.current().kind == ChannelKind::counterInput;
        if (!isOutput(s.current().kind)) EXPECT_EQ(s.samples, counter ? 1000U : 10'000U) << s.key;
    }
    EXPECT_EQ(info.signals.size(), bench.signals.size());

    RunSource run(folder.file("a.run"));
    ASSERT_TRUE(eventually([&] { return run.state().done; }));
    EXPECT_FALSE(run.state().error);
    EXPECT_FALSE(run.state().samplesSince);
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
    changed.chain.emplace_back(SlopeOffset{1000, 0, "mV"});
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

TEST(Recording, AKilledRecorderLosesLessThanASecondAndTheRunOpens) {
    TempFolder folder;
    for (int round = 0; round < 3; ++round) {
        const std::string path = folder.file("kill" + std::to_string(round) + ".run");
        int ready[2];
        ASSERT_EQ(pipe(ready), 0);
        const pid_t child = fork();
        if (child == 0) {
            const auto engine = Engine::start(test::exampleBench("pump-bench"));
            if (!engine->startRecording(path).ok()) _exit(1);
            // tell the parent how far the bench is, ten times a second or so
            for (;;) {
                const std::int64_t now = engine->now().ns;
                if (write(ready[1], &now, sizeof now) != sizeof now) _exit(1);
                usleep(20'000);
            }
        }
        close(ready[1]);
        std::int64_t now = 0;
        while (now < 1'300'000'000 + round * 170'000'000 && read(ready[0], &now, sizeof now) == sizeof now) {
        }
        kill(child, SIGKILL);
        int status = 0;
        waitpid(child, &status, 0);
        close(ready[0]);
        ASSERT_TRUE(WIFSIGNALED(status));
        const auto reader = RunReader::open(path);
        ASSERT_TRUE(reader.ok()) << reader.error().english();
        const RunInfo& info = reader.value()->info();
        EXPECT_FALSE(info.closed);
        EXPECT_GT(info.span.to.ns, now - 1'000'000'000) << "less than a second is lost";
        for (const RunGroup& g : info.groups) {
            auto blocks = reader.value()->blocks(g.id);
            std::optional<std::uint64_t> next;
            while (const BlockPtr b = blocks.next()) {
                if (next) EXPECT_EQ(b->firstIndex, *next);
                next = b->firstIndex + b->size();
            }
            EXPECT_EQ(blocks.damaged(), 0U);
        }
    }
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

TEST(RunSource, WithLittleMemoryTheNewestSamplesStayAndTheRestIsSummed) {
    TempFolder folder;
    auto engine = Engine::startRecorded(test::exampleBench("pump-bench"), folder.file("a.run"), fast(30));
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    engine.value()->stop();
    RunSource run(folder.file("a.run"), 1 << 20);
    ASSERT_TRUE(eventually([&] { return run.state().done; }));
    ASSERT_TRUE(run.state().samplesSince);
    EXPECT_TRUE(run.at("vibration", {1'000'000'000}).summary);
    EXPECT_FALSE(run.at("vibration", *run.state().samplesSince + milliseconds(500)).summary);
    std::vector<Column> columns;
    run.columns("vibration", {{0}, seconds(3), 10}, columns);
    for (const Column& c : columns) EXPECT_NEAR(c.summary.count, 3000, 1100) << "whole buckets, none left out";
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
