#include "core/bench/keep.h"

#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "engine/engine.h"
#include "engine/keep_filter.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using What = KeepSpec::What;
using test::TempFolder;

SignalSpec keeping(KeepSpec keep, const std::string& id = "in") {
    SignalSpec s = *test::oneSignal().signal("in");
    s.id = id;
    s.chain = {slopeOffset(2, 1, "bar")};
    s.keep = keep;
    s.keep = resolvedKeep(s);
    return s;
}

/// Passes samples through a filter, in blocks of a few.
struct Kept {
    explicit Kept(const SignalSpec& signal)
        : filter(signal), evaluator(std::move(ChainEvaluator::make(signal.chain, signal.kind).value())) {}
    void feed(const std::vector<double>& raw, std::size_t blockSize, std::optional<Gap> gap = {}) {
        for (std::size_t i = 0; i < raw.size(); i += blockSize) {
            const std::size_t n = std::min(blockSize, raw.size() - i);
            auto block = std::const_pointer_cast<Block>(
                test::clockedBlock(group, next, {static_cast<std::int64_t>(next) * 10'000'000},
                                   std::vector<double>(raw.begin() + static_cast<std::ptrdiff_t>(i),
                                                       raw.begin() + static_cast<std::ptrdiff_t>(i + n))));
            if (i == 0) block->gapBefore = gap;
            next += n;
            Readings readings;
            evaluator.process(*block, 0, readings);
            take(filter.look(*block, 0, readings));
        }
    }
    void take(std::optional<ShotGate::Part> part) {
        if (!part) return;
        const Block& b = *part->block;
        for (std::size_t i = 0; i < b.size(); ++i) {
            times.push_back(b.timeOf(i).ns / 1'000'000);
            indexes.push_back(b.firstIndex + i);
            for (std::size_t c = 0; c < b.columns.size(); ++c) {
                values.resize(std::max(values.size(), c + 1));
                values[c].push_back(std::get<std::vector<double>>(b.columns[c])[i]);
            }
        }
        if (b.gapBefore) gaps.push_back(*b.gapBefore);
    }
    KeepFilter filter;
    ChainEvaluator evaluator;
    std::shared_ptr<const ScanGroup> group = test::oneChannelGroup(100);
    std::uint64_t next = 0;
    std::vector<std::int64_t> times;  // milliseconds
    std::vector<std::uint64_t> indexes;
    std::vector<std::vector<double>> values;
    std::vector<Gap> gaps;
};

std::vector<double> ramp(int n, double from = 0) {
    std::vector<double> out;
    for (int i = 0; i < n; ++i) out.push_back(from + i);
    return out;
}

TEST(KeepFilter, OneInNIsCountedFromTheFirstSampleHoweverTheBlocksFall) {
    for (const std::size_t blockSize : {1U, 3U, 7U, 100U}) {
        KeepSpec keep;
        keep.what = What::oneInN;
        keep.every = 4;
        Kept kept(keeping(keep));
        kept.feed(ramp(21), blockSize);
        EXPECT_EQ(kept.values[0], (std::vector<double>{0, 4, 8, 12, 16, 20})) << "raw";
        EXPECT_EQ(kept.indexes, (std::vector<std::uint64_t>{0, 1, 2, 3, 4, 5}));
        EXPECT_EQ(kept.times[3], 120);
    }
}

TEST(KeepFilter, AGapCostsExactlyWhatWouldHaveBeenKept) {
    KeepSpec keep;
    keep.what = What::oneInN;
    keep.every = 10;
    Kept kept(keeping(keep));
    kept.feed(ramp(25), 25);  // 0, 10, 20
    kept.next = 58;
    kept.feed(ramp(12), 12, Gap{{250'000'000}, {580'000'000}, 33, "away"});  // 60
    ASSERT_EQ(kept.gaps.size(), 1U);
    EXPECT_EQ(kept.gaps[0].lostSamples, 3U) << "samples 30, 40 and 50";
    EXPECT_EQ(kept.gaps[0].cause, "away");
    EXPECT_EQ(kept.indexes.back(), 6U);
    EXPECT_EQ(kept.values[0].back(), 2);
}

TEST(KeepFilter, AGapIsToldWithTheNextSampleThatIsKept) {
    KeepSpec keep;
    keep.what = What::oneInN;
    keep.every = 100;
    Kept kept(keeping(keep));
    kept.feed(ramp(10), 10);
    kept.next = 20;
    kept.feed(ramp(10), 10, Gap{{100'000'000}, {200'000'000}, 10, "first"});
    EXPECT_TRUE(kept.gaps.empty()) << "nothing of that block is kept";
    kept.feed(ramp(100), 100);
    ASSERT_EQ(kept.gaps.size(), 1U);
    EXPECT_EQ(kept.gaps[0].cause, "first");
    EXPECT_EQ(kept.gaps[0].lostSamples, 0U) << "no hundredth sample was among them";
}

TEST(KeepFilter, ASummaryIsOfWholeIntervals) {
    KeepSpec keep;
    keep.what = What::summary;
    keep.intervalSeconds = 0.05;
    for (const std::size_t blockSize : {1U, 4U, 5U, 100U}) {
        Kept kept(keeping(keep));
        kept.feed(ramp(13), blockSize);
        ASSERT_EQ(kept.values.size(), 3U);
        EXPECT_EQ(kept.values[0], (std::vector<double>{5, 15})) << "mean of readings 1, 3 .. 9 and 11 .. 19";
        EXPECT_EQ(kept.values[1], (std::vector<double>{1, 11}));
        EXPECT_EQ(kept.values[2], (std::vector<double>{9, 19}));
        kept.take(kept.filter.rest());
        EXPECT_EQ(kept.values[0].back(), 23) << "what the end cuts short counts for what there is";
        EXPECT_EQ(kept.times, (std::vector<std::int64_t>{0, 50, 100}));
        kept.take(kept.filter.rest());
        EXPECT_EQ(kept.times.size(), 3U);
    }
}

TEST(KeepFilter, WhatChangesIsKeptWithTheSampleBeforeIt) {
    KeepSpec keep;
    keep.what = What::changes;
    keep.deadBand = 3;  // bar: 1.5 of the raw value
    keep.atLeastEvery = 0;
    for (const std::size_t blockSize : {1U, 2U, 100U}) {
        Kept kept(keeping(keep));
        kept.feed({0, 1, 1.5, 1, 2, 2, 2, 3.5, 3.6, 9}, blockSize);
        EXPECT_EQ(kept.values[0], (std::vector<double>{0, 1, 2, 3.5, 3.6, 9}));
        EXPECT_EQ(kept.times, (std::vector<std::int64_t>{0, 30, 40, 70, 80, 90}));
    }
}

TEST(KeepFilter, NothingNewIsSaidNowAndThenAndAtTheEnd) {
    KeepSpec keep;
    keep.what = What::changes;
    keep.deadBand = 1;
    keep.atLeastEvery = 0.1;
    Kept kept(keeping(keep));
    kept.feed(std::vector<double>(26, 7.0), 4);
    EXPECT_EQ(kept.indexes.size(), 3U);
    EXPECT_EQ(kept.times, (std::vector<std::int64_t>{0, 100, 200}));
    kept.take(kept.filter.rest());
    EXPECT_EQ(kept.times.back(), 250);
}

TEST(Keep, AChainThatLooksBackIsThinnedAsReadings) {
    KeepSpec keep;
    keep.what = What::oneInN;
    SignalSpec s = keeping(keep);
    EXPECT_FALSE(resolvedKeep(s).asReadings);
    s.chain.push_back(movingMean(5));
    EXPECT_TRUE(resolvedKeep(s).asReadings);
    EXPECT_NE(describeKeep(s).english().find("several samples"), std::string::npos);
    s.keep = {};
    EXPECT_FALSE(resolvedKeep(s).asReadings) << "every sample: the mean can be worked out again";
    s.kind = ChannelKind::analogOutput;
    s.keep.what = What::summary;
    EXPECT_EQ(resolvedKeep(s), KeepSpec{}) << "outputs are always recorded";
}

TEST(Keep, AReadingThatTakesAnotherSignalIsKeptWithItsRawSample) {
    SignalSpec s = keeping({});
    s.chain = {
        slopeOffset(1, 0, "V"),
        Stage::of("ratiometric", {{"supply", StageSource{"supply"}}, {"low", 0.0}, {"high", 100.0}, {"unit", "%"}})};
    KeepSpec keep = resolvedKeep(s);
    EXPECT_TRUE(keep.asReadings && keep.rawBeside);
    EXPECT_NE(describeKeep(s).english().find("can be mended"), std::string::npos);
    s.keep = keep;
    EXPECT_EQ(resolvedKeep(s), keep) << "what is resolved stays so";
    const auto recorded = asRecorded(s);
    ASSERT_EQ(recorded.size(), 2U);
    EXPECT_EQ(recorded[0].chain.size(), 1U) << "its unit";
    EXPECT_EQ(recorded[1].id, s.id + "-raw");
    EXPECT_EQ(recorded[1].chain, s.chain);
    s.keep = {};
    s.keep.asReadings = true;
    EXPECT_FALSE(resolvedKeep(s).rawBeside) << "who asks for readings gets them";
    s.keep.asReadings = false;
    s.keep.what = What::oneInN;
    EXPECT_FALSE(resolvedKeep(s).rawBeside);
    const auto again = signalFromJson(signalToJson(recorded[0]));
    ASSERT_TRUE(again.ok());
    EXPECT_EQ(again.value().keep, keep);
}

// ---- the whole way

Bench pumpBench() {
    Bench bench = test::exampleBench("pump-bench");
    DeviceSpec box = *bench.device("box");
    box.settings = R"({"seed":1,"rate-hz":1000,"faults":[{"fault":"away","from-s":3,"to-s":5}]})";
    return withDevice(bench, box);
}

Bench with(Bench bench, const std::string& id, KeepSpec keep, const std::string& as = {}) {
    SignalSpec s = *bench.signal(id);
    s.keep = keep;
    if (!as.empty()) s.id = as;
    return withSignal(std::move(bench), s);
}

std::unique_ptr<RunReader> recorded(const Bench& bench, const std::string& path, std::optional<ShotPlan> plan = {}) {
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = seconds(8);
    auto engine = Engine::startRecorded(bench, path, options, plan);
    if (!engine) throw std::runtime_error(engine.error().english());
    engine.value()->wait();
    engine.value()->stop();
    auto reader = RunReader::open(path);
    if (!reader) throw std::runtime_error(reader.error().english());
    return std::move(reader.value());
}

using Series = std::map<std::int64_t, double>;  ///< readings by time

Series readings(RunReader& reader, const std::string& id) {
    const RunSignal* signal = reader.info().signal(id);
    if (!signal) throw std::runtime_error("no signal " + id);
    Series out;
    RunReplay replay(reader, signal->group, {RunReader::Part{}.span, {signal->id}});
    for (RunReplay::Step step; replay.next(step);)
        for (std::size_t i = 0; i < step.block->size(); ++i) out[step.block->timeOf(i).ns] = step.readings[0].values[i];
    return out;
}

TEST(Keep, EachSignalOfARunIsKeptAsItWasAskedFor) {
    TempFolder folder;
    KeepSpec nth, summary, changes, reading, counter;
    nth.what = counter.what = What::oneInN;
    nth.every = 10;
    counter.every = 5;
    summary.what = What::summary;
    summary.intervalSeconds = 0.5;
    changes.what = What::changes;
    changes.deadBand = 0.05;
    reading.asReadings = true;
    // Each beside the same terminal recorded whole.
    Bench bench = with(pumpBench(), "vibration", nth, "nth");
    bench = with(bench, "inlet-pressure", summary, "summary");
    bench = with(bench, "outlet-pressure", changes, "changes");
    bench = with(bench, "motor-current", reading, "reading");
    bench = with(bench, "flow", counter, "counter");
    const auto run = recorded(bench, folder.file("a.run"));
    const RunInfo& info = run->info();
    EXPECT_EQ(info.signal("vibration")->samples, 6000U);

    EXPECT_EQ(readings(*run, "reading"), readings(*run, "motor-current"));
    EXPECT_EQ(info.signal("reading")->current().unit(), bench.signal("motor-current")->unit());
    const auto part = [&](const std::string& thinned, const std::string& id, std::size_t n) {
        const Series whole = readings(*run, id), kept = readings(*run, thinned);
        EXPECT_EQ(kept.size(), (whole.size() + n - 1) / n) << id;
        for (const auto& [t, v] : kept) {
            const auto it = whole.find(t);
            ASSERT_TRUE(it != whole.end()) << id << " at " << t;
            EXPECT_TRUE(it->second == v || (std::isnan(v) && std::isnan(it->second))) << id << " at " << t;
        }
    };
    part("nth", "vibration", 10);
    part("counter", "flow", 5);
    EXPECT_EQ(info.signal("nth")->type, SampleType::int16) << "raw";
    EXPECT_EQ(info.signal("counter")->type, SampleType::float64);
    const auto group = *std::find_if(info.groups.begin(), info.groups.end(),
                                     [&](const RunGroup& g) { return g.id == info.signal("nth")->group; });
    EXPECT_DOUBLE_EQ(group.rateHz, 100);
    ASSERT_EQ(group.gaps.size(), 1U);
    EXPECT_EQ(group.gaps[0].lostSamples, 200U);

    // Each interval's numbers are those of its samples.
    const Series whole = readings(*run, "inlet-pressure"), mean = readings(*run, "summary");
    const Series low = readings(*run, "summary-min"), high = readings(*run, "summary-max");
    EXPECT_EQ(mean.size(), 12U) << "eight seconds less the two that the box was away";
    for (const auto& [t, v] : mean) {
        Summary of;
        for (auto it = whole.lower_bound(t); it != whole.end() && it->first < t + 500'000'000; ++it) of.add(it->second);
        EXPECT_EQ(of.count, 500U);
        EXPECT_NEAR(v, of.mean, 1e-9);
        EXPECT_EQ(low.at(t), of.min);
        EXPECT_EQ(high.at(t), of.max);
    }
    ASSERT_NE(info.bench.signal("summary-max"), nullptr) << "to be shown beside the mean";
    EXPECT_EQ(info.bench.signal("summary-max")->unit(), bench.signal("inlet-pressure")->unit());

    // The last one kept is never further off than the dead band.
    const Series outlet = readings(*run, "outlet-pressure"), kept = readings(*run, "changes");
    EXPECT_LT(kept.size(), outlet.size());
    EXPECT_EQ(kept.rbegin()->first, outlet.rbegin()->first) << "the end is known";
    for (const auto& [t, v] : outlet) EXPECT_LE(std::fabs(std::prev(kept.upper_bound(t))->second - v), 0.05) << t;
}

TEST(Keep, ShotsAreThinnedToo) {
    TempFolder folder;
    KeepSpec nth;
    nth.what = What::oneInN;
    nth.every = 10;
    ShotPlan plan;
    plan.at = Instant{2'000'000'000};
    plan.before = plan.after = seconds(0.5);
    const auto run = recorded(with(pumpBench(), "vibration", nth), folder.file("a.run"), plan);
    EXPECT_EQ(run->info().signal("spare")->samples, 1000U);
    EXPECT_EQ(run->info().signal("vibration")->samples, 100U);
}

TEST(Keep, ARecordingKeepsToWhatWasAskedForWhenItBegan) {
    TempFolder folder;
    KeepSpec nth;
    nth.what = What::oneInN;
    nth.every = 2;
    Bench bench = test::exampleBench("pump-bench");
    auto engine = Engine::start(with(bench, "vibration", nth));
    ASSERT_TRUE(engine->startRecording(folder.file("a.run")).ok());
    const auto reached = [&](std::initializer_list<const char*> signals) {
        const Instant now = engine->now();
        return test::eventually([&] {
            return std::ranges::all_of(signals, [&](const char* id) {
                return engine->source().at(id, engine->now()).taken > now + milliseconds(300);
            });
        });
    };
    ASSERT_TRUE(reached({"vibration"}));
    nth.every = 7;
    Bench next = with(bench, "vibration", nth);
    SignalSpec again = *bench.signal("spare");
    again.id = "spare-again";
    again.keep.asReadings = true;
    engine->apply(withSignal(next, again));
    ASSERT_TRUE(reached({"vibration", "spare-again"}));
    engine->stopRecording();
    ASSERT_TRUE(engine->startRecording(folder.file("b.run")).ok());
    ASSERT_TRUE(reached({"vibration"}));
    engine->stop();
    const auto rate = [&](const char* file, const std::string& id) {
        auto reader = RunReader::open(folder.file(file)).value()->info();
        const auto group = std::ranges::find(reader.groups, reader.signal(id)->group, &RunGroup::id);
        return group == reader.groups.end() ? std::nan("") : group->rateHz;
    };
    EXPECT_DOUBLE_EQ(rate("a.run", "vibration"), 500);
    EXPECT_NEAR(rate("b.run", "vibration"), 1000 / 7.0, 1e-9);
    EXPECT_DOUBLE_EQ(rate("a.run", "spare-again"), 1000);
    const auto a = RunReader::open(folder.file("a.run"));
    EXPECT_EQ(a.value()->info().bench.signal("vibration")->keep.every, 2) << "the run tells what was done";
    EXPECT_EQ(a.value()->info().signal("spare-again")->type, SampleType::float64);
}

TEST(Keep, WhatIsKeptAfterTheFactIsWhole) {
    TempFolder folder;
    KeepSpec nth;
    nth.what = What::oneInN;
    nth.every = 1000;
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = seconds(8);
    auto engine = Engine::start(with(pumpBench(), "vibration", nth), options);
    engine->wait();
    ASSERT_TRUE(engine->keepPast(folder.file("a.run"), seconds(2)).ok());
    const auto reader = RunReader::open(folder.file("a.run"));
    EXPECT_EQ(reader.value()->info().signal("vibration")->samples, 2000U);
    EXPECT_EQ(reader.value()->info().signal("vibration")->type, SampleType::int16);
}

}  // namespace
}  // namespace cruscotto
