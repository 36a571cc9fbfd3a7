// Computed signals in a bench that measures, in its runs, and in a run that is played again.
#include <cmath>
#include <random>

#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "core/run/run_version.h"
#include "devices/replay/replay_device.h"
#include "engine/run_source.h"
#include "integrity.h"
#include "scripted_device.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::ScriptedDevice;
using test::TempFolder;

struct AllReadings {
    std::vector<double> values;
    std::vector<Quality> quality;  // one for each
};
AllReadings readingsOf(const std::string& path, const std::string& id) {
    auto reader = RunReader::open(path);
    EXPECT_TRUE(reader.ok());
    if (!reader) return {};
    const RunSignal* signal = reader.value()->info().signal(id);
    EXPECT_NE(signal, nullptr) << id;
    if (!signal) return {};
    RunReader::Part part;
    part.signals = {signal->id};
    RunReplay replay(*reader.value(), signal->group, part);
    AllReadings out;
    for (RunReplay::Step step; replay.next(step);) {
        const Readings& r = step.readings[0];
        out.values.insert(out.values.end(), r.values.begin(), r.values.end());
        std::vector<Quality> each(r.values.size(), Quality::good);
        for (const QualityInterval& q : r.quality)
            for (std::size_t i = q.begin; i < q.end; ++i) each[i] = worse(each[i], q.quality);
        out.quality.insert(out.quality.end(), each.begin(), each.end());
    }
    return out;
}
std::vector<double> valuesOf(const std::string& path, const std::string& id) {
    return readingsOf(path, id).values;
}

Bench exampleBench() {
    auto loaded = loadBench(test::example("pump-bench"));
    EXPECT_TRUE(loaded.ok());
    return loaded ? loaded.value() : Bench{};
}

EngineOptions quick(double secondsOf) {
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = seconds(secondsOf);
    return options;
}

/// Records it as fast as possible.
void recordAll(const Bench& bench, const std::string& path, double secondsOf) {
    auto engine = Engine::startRecorded(bench, path, quick(secondsOf));
    ASSERT_TRUE(engine.ok()) << engine.error().english();
    engine.value()->wait();
    engine.value()->stop();
}

TEST(Computed, IsRecordedLikeAnyOtherAndFitsItsInputs) {
    TempFolder folder;
    recordAll(exampleBench(), folder.file("a.run"), 5);
    const auto flow = valuesOf(folder.file("a.run"), "flow"), rise = valuesOf(folder.file("a.run"), "pressure-rise"),
               power = valuesOf(folder.file("a.run"), "hydraulic-power");
    ASSERT_EQ(power.size(), 500U);
    ASSERT_EQ(flow.size(), power.size());
    std::size_t compared = 0;
    for (std::size_t i = 0; i < power.size(); ++i) {
        if (std::isnan(flow[i]) || std::isnan(rise[i])) continue;
        ASSERT_NEAR(power[i], rise[i] * 1e5 * flow[i] * 1e-3 / 60, 1e-9 * std::fabs(power[i]) + 1e-12);
        ++compared;
    }
    EXPECT_GT(compared, 300U);
}

TEST(Computed, ARunPlayedAgainGivesExactlyTheSame) {
    TempFolder folder;
    recordAll(exampleBench(), folder.file("a.run"), 5);
    auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    recordAll(replayBench(reader.value()->info(), folder.file("a.run"), {}), folder.file("b.run"), 5);
    for (const char* id : {"pressure-rise", "hydraulic-power", "electrical-power", "efficiency", "volume"}) {
        const auto once = valuesOf(folder.file("a.run"), id), again = valuesOf(folder.file("b.run"), id);
        ASSERT_EQ(once.size(), 500U) << id;
        ASSERT_EQ(again.size(), once.size()) << id;
        for (std::size_t i = 0; i < once.size(); ++i)
            ASSERT_TRUE(once[i] == again[i] || (std::isnan(once[i]) && std::isnan(again[i])))
                << id << " at " << i << ": " << once[i] << " and " << again[i];
    }
}

struct Patient : Progress {
    void advance(std::uint64_t, std::uint64_t) override {}
    [[nodiscard]] bool cancelled() const override { return false; }
};

/// Works the run's readings out again with these, with nothing left as it was.
void workOutAgain(const std::string& run, const std::vector<SignalSpec>& with) {
    Patient progress;
    std::vector<Text> left;
    const auto version = addRunVersion(run, with, "mended", 1, progress, &left);
    ASSERT_TRUE(version.ok()) << version.error().english();
    EXPECT_TRUE(left.empty());
}

void expectSame(const AllReadings& a, const AllReadings& b, const std::string& id) {
    ASSERT_EQ(a.values.size(), b.values.size()) << id;
    for (std::size_t i = 0; i < a.values.size(); ++i)
        ASSERT_TRUE(a.values[i] == b.values[i] || (std::isnan(a.values[i]) && std::isnan(b.values[i])))
            << id << " at " << i << ": " << a.values[i] << " and " << b.values[i];
    EXPECT_EQ(a.quality, b.quality) << id;
}

TEST(Computed, ComesAgainExactlyAsItWouldHaveBeenWhenAnInputsChainIsCorrected) {
    TempFolder folder;
    const Bench wrong = exampleBench();
    SignalSpec outlet = *wrong.signal("outlet-pressure");
    outlet.chain.push_back(slopeOffset(1.02, -0.03, "bar"));
    recordAll(wrong, folder.file("a.run"), 5);
    recordAll(withSignal(wrong, outlet), folder.file("right.run"), 5);
    workOutAgain(folder.file("a.run"), {outlet});
    auto reader = RunReader::open(folder.file("a.run"));
    EXPECT_EQ(reader.value()->info().versions.at(0).signals,
              (std::vector<std::string>{"outlet-pressure", "pressure-rise", "hydraulic-power", "efficiency"}));
    for (const char* id : {"outlet-pressure", "pressure-rise", "hydraulic-power", "efficiency", "electrical-power"}) {
        const auto again = readingsOf(folder.file("a.run"), id), right = readingsOf(folder.file("right.run"), id);
        expectSame(right, again, id);
        EXPECT_EQ(
            summaryOf(*reader.value(), *reader.value()->info().signal(id)).count,
            static_cast<std::uint64_t>(std::ranges::count_if(right.values, [](double v) { return !std::isnan(v); })))
            << id;
    }
    const auto before = RunReader::open(folder.file("a.run"), 0);
    EXPECT_NE(summaryOf(*before.value(), *before.value()->info().signal("hydraulic-power")).mean,
              summaryOf(*reader.value(), *reader.value()->info().signal("hydraulic-power")).mean);
    EXPECT_EQ(test::integrity(folder.file("a.run")), "ok");
}

// ---- measured signals that take others: a thermocouple with its cold junction

SignalSpec withThermocouple(SignalSpec s, const char* type) {
    for (Stage& stage : s.chain)
        if (stage.kind().key == "thermocouple") stage = stage.with("type", std::string(type));
    return s;
}

TEST(RawBeside, AThermocoupleOfTheWrongTypeIsMendedInTheRun) {
    TempFolder folder;
    const Bench wrong = exampleBench();
    const SignalSpec right = withThermocouple(*wrong.signal("bearing-temperature"), "K");
    recordAll(wrong, folder.file("a.run"), 5);
    recordAll(withSignal(wrong, right), folder.file("right.run"), 5);
    const RunInfo before = RunReader::open(folder.file("a.run")).value()->info();
    EXPECT_TRUE(before.signal("bearing-temperature")->raw);
    EXPECT_FALSE(before.signal("bearing-temperature-raw")) << "it is no signal of its own";
    EXPECT_EQ(before.bench.signal("bearing-temperature")->chain, wrong.signal("bearing-temperature")->chain);
    EXPECT_TRUE(correctedSignals(before, wrong).empty());
    const auto corrected = correctedSignals(before, withSignal(wrong, right));
    ASSERT_EQ(corrected.size(), 1U);
    workOutAgain(folder.file("a.run"), corrected);
    expectSame(readingsOf(folder.file("a.run"), "bearing-temperature"),
               readingsOf(folder.file("right.run"), "bearing-temperature"), "bearing-temperature");
    const auto reader = RunReader::open(folder.file("a.run"));
    EXPECT_EQ(reader.value()->info().versions.at(0).signals, std::vector<std::string>{"bearing-temperature"});
    EXPECT_EQ(reader.value()->info().bench.signal("bearing-temperature")->chain, right.chain);
    EXPECT_TRUE(correctedSignals(reader.value()->info(), withSignal(wrong, right)).empty());
    const auto asItWas = RunReader::open(folder.file("a.run"), 0);
    EXPECT_EQ(asItWas.value()->info().bench.signal("bearing-temperature")->chain,
              wrong.signal("bearing-temperature")->chain);
    EXPECT_NE(summaryOf(*asItWas.value(), *asItWas.value()->info().signal("bearing-temperature")).mean,
              summaryOf(*reader.value(), *reader.value()->info().signal("bearing-temperature")).mean);
    EXPECT_EQ(test::integrity(folder.file("a.run")), "ok");
}

TEST(RawBeside, ComesAgainWhenItsColdJunctionIsCorrected) {
    TempFolder folder;
    const Bench wrong = exampleBench();
    SignalSpec junction = *wrong.signal("box-temperature");
    junction.chain.push_back(slopeOffset(1, 1.5, "Cel"));
    recordAll(wrong, folder.file("a.run"), 5);
    recordAll(withSignal(wrong, junction), folder.file("right.run"), 5);
    workOutAgain(folder.file("a.run"), {junction});
    for (const char* id : {"box-temperature", "bearing-temperature"})
        expectSame(readingsOf(folder.file("a.run"), id), readingsOf(folder.file("right.run"), id), id);
}

TEST(RawBeside, EachStageIsToldInTheRunAsItWasLive) {
    TempFolder folder;
    auto engine = Engine::startRecorded(exampleBench(), folder.file("a.run"), quick(5));
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    engine.value()->stopRecording();
    const RunSource run(folder.file("a.run"));
    ASSERT_TRUE(eventually([&] { return run.state().done; }));
    const Instant at = Instant{} + seconds(4.2);
    const auto live = engine.value()->source().stagesAt("bearing-temperature", at),
               recorded = run.stagesAt("bearing-temperature", at);
    ASSERT_EQ(live.size(), exampleBench().signal("bearing-temperature")->chain.size() + 1);
    EXPECT_EQ(recorded, live);
    engine.value()->stop();
}

TEST(RawBeside, WhatIsKeptAfterTheFactHasItAndWhatIsComputed) {
    TempFolder folder;
    auto engine = Engine::start(exampleBench(), quick(5));
    engine->wait();
    ASSERT_TRUE(engine->keepPast(folder.file("kept.run"), seconds(3)).ok());
    const RunSource run(folder.file("kept.run"));
    ASSERT_TRUE(eventually([&] { return run.state().done; }));
    const Instant at = Instant{} + seconds(4.2);
    for (const char* id : {"bearing-temperature", "hydraulic-power", "efficiency", "box-temperature"}) {
        const Reading live = engine->source().at(id, at), kept = run.at(id, at);
        ASSERT_FALSE(std::isnan(live.value)) << id;
        EXPECT_EQ(kept.value, live.value) << id;
        EXPECT_EQ(kept.quality, live.quality) << id;
    }
    EXPECT_EQ(run.stagesAt("bearing-temperature", at), engine->source().stagesAt("bearing-temperature", at));
    EXPECT_TRUE(run.info()->signal("bearing-temperature")->raw);
    engine->stop();
}

TEST(RawBeside, PlayedAgainGivesTheReadingsThatWereRecorded) {
    TempFolder folder;
    recordAll(exampleBench(), folder.file("a.run"), 5);
    const RunInfo run = RunReader::open(folder.file("a.run")).value()->info();
    recordAll(replayBench(run, folder.file("a.run"), {}), folder.file("again.run"), 5.5);
    expectSame(readingsOf(folder.file("again.run"), "bearing-temperature"),
               readingsOf(folder.file("a.run"), "bearing-temperature"), "bearing-temperature");
}

// ---- two devices with clocks of their own

SignalSpec inputOf(const char* id, const char* device) {
    SignalSpec s;
    s.id = s.name = id;
    s.device = device;
    s.terminal = "AI0";
    s.chain = {slopeOffset(1, 0, "V")};
    return s;
}

SignalSpec differenceOf(const char* id, const char* a, const char* b, ComputedSpec how) {
    SignalSpec s;
    s.id = s.name = id;
    s.kind = ChannelKind::computed;
    s.computed = how;
    s.chain = {Stage::of("combine", {{"how", "difference"}, {"of", StageSources{{a, 0, "V", "a"}, {b, 0, "V", "b"}}}})};
    return s;
}

Bench twoClocks(ComputedSpec how) {
    Bench b;
    b.name = "Test";
    b = withDevice(b, {"fast", "Fast", "scripted", "", ""});
    b = withDevice(b, {"slow", "Slow", "scripted", "", ""});
    b = withSignal(b, inputOf("a", "fast"));
    b = withSignal(b, inputOf("b", "slow"));
    return withSignal(b, differenceOf("d", "a", "b", std::move(how)));
}

/// 1,000 Hz from "fast" and 70 samples a second or so, with times of their own, from "slow"; cut at random.
void measure(DeviceSink& sink, const std::stop_token& stop, const std::string& id, unsigned seed) {
    std::mt19937 cut(seed), random(7);
    auto group = std::make_shared<ScanGroup>();
    group->device = id;
    group->name = "all";
    group->rateHz = id == "fast" ? 1000 : 0;
    group->channels.push_back({"AI0", SampleType::float64, ChannelKind::analogInput});
    const std::size_t all = id == "fast" ? 2000 : 140;
    std::int64_t t = 0;
    for (std::size_t i = 0; i < all && !stop.stop_requested();) {
        const std::size_t n = std::min<std::size_t>(all - i, 1 + cut() % 60);
        auto block = std::make_shared<Block>();
        block->group = group;
        block->firstIndex = i;
        std::vector<double> values;
        if (id == "fast") {
            block->t0 = {static_cast<std::int64_t>(i) * 1'000'000};
            block->dtNs = 1e6;
        }
        for (std::size_t k = 0; k < n; ++k) {
            values.push_back(static_cast<double>(random() % 10'000));
            if (id == "slow") block->times.push_back({t += 1 + static_cast<std::int64_t>(random() % 28'000'000)});
        }
        block->columns.emplace_back(std::move(values));
        sink.deliver(block);
        i += n;
    }
}

std::vector<double> recordedWith(const ComputedSpec& how, unsigned seed, const std::string& path) {
    ScriptedDevice::Log log;
    EngineOptions options = quick(2);
    options.kinds = test::kindsThatAre([&](const DeviceContext& context, const auto&) {
        return std::make_unique<ScriptedDevice>(
            log, [id = context.id, seed](DeviceSink& sink, std::stop_token stop) { measure(sink, stop, id, seed); });
    });
    auto engine = Engine::startRecorded(twoClocks(how), path, options);
    EXPECT_TRUE(engine.ok());
    if (!engine) return {};
    engine.value()->wait();
    engine.value()->stop();
    return valuesOf(path, "d");
}

TEST(Computed, OverDevicesWithClocksOfTheirOwnIsTheSameForEveryCut) {
    TempFolder folder(TempFolder::Where::memory);
    using Between = ComputedSpec::Between;
    for (const ComputedSpec& how :
         {ComputedSpec{.clock = "a", .between = Between::held},
          ComputedSpec{.clock = "a", .between = Between::interpolated},
          ComputedSpec{.clock = "b", .between = Between::held}, ComputedSpec{.clock = "", .rateHz = 250}}) {
        const auto once = recordedWith(how, 1, folder.file("1.run"));
        ASSERT_GT(once.size(), 130U);
        for (unsigned seed = 2; seed < 8; ++seed) {
            auto again = recordedWith(how, seed, folder.file(std::to_string(seed) + how.clock + ".run"));
            std::filesystem::remove(folder.file(std::to_string(seed) + how.clock + ".run"));
            // A rate of its own begins with the first that comes, of whichever input.
            const std::size_t skip = how.clock.empty() ? 40 : 0;
            ASSERT_GT(again.size(), once.size() - skip - 1);
            const std::size_t common = std::min(once.size(), again.size()) - skip;
            for (std::size_t i = 1; i <= common; ++i) {
                const double x = once[once.size() - i], y = again[again.size() - i];
                ASSERT_TRUE(x == y || (std::isnan(x) && std::isnan(y))) << how.clock << " seed " << seed << " " << i;
            }
        }
        std::filesystem::remove(folder.file("1.run"));
    }
}

TEST(Computed, TakesTheWorstQualityAndIsStaleWhereAnInputIsOlderThanIsSaid) {
    TempFolder folder(TempFolder::Where::memory);
    ScriptedDevice::Log log;
    EngineOptions options = quick(2);
    options.kinds = test::kindsThatAre([&](const DeviceContext& context, const auto&) {
        return std::make_unique<ScriptedDevice>(log, [id = context.id](DeviceSink& sink, std::stop_token) {
            auto group = std::make_shared<ScanGroup>();
            group->device = id;
            group->name = "all";
            group->rateHz = id == "fast" ? 10 : 0;
            group->channels.push_back({"AI0", SampleType::float64, ChannelKind::analogInput});
            auto block = std::make_shared<Block>();
            block->group = group;
            if (id == "fast") {
                block->dtNs = 1e8;
                block->columns.emplace_back(std::vector<double>(10, 5.0));
                block->quality = {{{2, 3, Quality::clipped}}};
            } else {
                block->times = {{0}};
                block->columns.emplace_back(std::vector<double>{2});
            }
            sink.deliver(block);
        });
    });
    ComputedSpec how{.clock = "a"};
    how.oldestSeconds = 0.55;
    const auto engine = Engine::start(twoClocks(how), options);
    engine->wait();
    const auto at = [&](double t) { return engine->source().at("d", Instant{} + seconds(t)); };
    EXPECT_EQ(at(0.1).value, 3);
    EXPECT_EQ(at(0.1).quality, Quality::good);
    EXPECT_EQ(at(0.2).quality, Quality::clipped);
    EXPECT_EQ(at(0.5).quality, Quality::good);
    EXPECT_EQ(at(0.6).quality, Quality::stale);
    EXPECT_EQ(at(0.6).value, 3) << "the value is told all the same";
}

TEST(Computed, FollowsAnOutputAtOnceAndGoesOnThroughEdits) {
    ScriptedDevice::Log log;
    std::atomic<int> allowed{0}, sent{0};
    Bench bench = test::oneOutput();
    SignalSpec twice;
    twice.id = twice.name = "twice";
    twice.kind = ChannelKind::computed;
    twice.computed = ComputedSpec{.clock = "in"};
    twice.chain = {
        Stage::of("combine", {{"how", "sum"}, {"of", StageSources{{"drive", 0, "V", ""}, {"drive", 0, "V", ""}}}})};
    bench = withSignal(bench, twice);
    auto options = test::scripted(log, [&](DeviceSink& sink, const std::stop_token& stop) {
        auto group = test::oneChannelGroup(0);
        group->device = "box";
        while (!stop.stop_requested()) {
            if (sent >= allowed) {
                std::this_thread::yield();
                continue;
            }
            auto block = std::make_shared<Block>();
            block->group = group;
            block->firstIndex = static_cast<std::uint64_t>(sent.load());
            block->times = {sink.now()};
            block->columns.emplace_back(std::vector<double>{1});
            sink.deliver(block);
            ++sent;
        }
    });
    const auto engine = Engine::start(bench, options);
    const auto reads = [&] { return engine->source().at("twice", engine->now()).value; };
    engine->setOutput("drive", 2);
    ++allowed;
    EXPECT_TRUE(eventually([&] { return reads() == 4; })) << reads();
    SignalSpec more = twice;
    more.chain.push_back(slopeOffset(10, 0, "V"));
    engine->apply(withSignal(bench, more));
    ++allowed;
    EXPECT_TRUE(eventually([&] { return reads() == 40; })) << reads();
    // Made anew by an edit, it knows what the output stands at although nothing is set meanwhile.
    more.computed->oldestSeconds = 0;
    engine->apply(withSignal(bench, more));
    ++allowed;
    EXPECT_TRUE(eventually([&] { return reads() == 40; })) << reads();
    // At a rate of its own the time goes by with what else is measured, though the output stands.
    more.computed = ComputedSpec{.clock = "", .rateHz = 1000};
    engine->apply(withSignal(bench, more));
    EXPECT_TRUE(eventually([&] {
        ++allowed;
        return engine->source().at("twice", engine->now()).taken > Instant{} + milliseconds(20) && reads() == 40;
    })) << reads();
    engine->setOutput("drive", 3);
    EXPECT_TRUE(eventually([&] {
        ++allowed;
        return reads() == 60;
    })) << reads();
    engine->apply(withoutSignal(bench, "twice"));
    ++allowed;
    EXPECT_TRUE(eventually([&] { return std::isnan(reads()); }));
}

TEST(Computed, ABenchRefusesACircleAndWhatIsNotThere) {
    const Bench bench = twoClocks({.clock = "a"});
    const auto told = [&](SignalSpec s) {
        const auto fine = checkNeeded(withSignal(bench, s), s);
        return fine ? std::string() : fine.error().english();
    };
    EXPECT_EQ(told(*bench.signal("d")), "");
    EXPECT_NE(told(differenceOf("d", "d", "a", {.clock = "a"})).find("itself"), std::string::npos);
    EXPECT_NE(told(differenceOf("d", "a", "b", {.clock = "d"})).find("itself"), std::string::npos);
    EXPECT_NE(told(differenceOf("d", "a", "nobody", {.clock = "a"})).find("not there"), std::string::npos);
    EXPECT_NE(told(differenceOf("d", "a", "b", {.clock = "nobody"})).find("not there"), std::string::npos);
    SignalSpec empty = *bench.signal("d");
    empty.chain = {slopeOffset(1, 0, "V")};
    EXPECT_NE(told(empty).find("begins with a computation"), std::string::npos);
    const Bench without = withoutSignal(bench, "b");
    ASSERT_NE(without.signal("d"), nullptr);
    EXPECT_EQ(neededSignals(without.signal("d")->chain).size(), 1U);
    EXPECT_EQ(withoutDevice(withoutDevice(bench, "fast"), "slow").signals.size(), 0U);
}

TEST(Computed, IsWrittenIntoTheFileAndReadBack) {
    ComputedSpec how{.clock = "", .rateHz = 50, .between = ComputedSpec::Between::interpolated, .oldestSeconds = 3};
    const Bench bench = twoClocks(how);
    const BenchReading read = readBench(writeBench(bench));
    ASSERT_TRUE(read.bench) << read.problems.front().english();
    EXPECT_EQ(*read.bench->signal("d"), *bench.signal("d"));
}

}  // namespace
}  // namespace cruscotto
