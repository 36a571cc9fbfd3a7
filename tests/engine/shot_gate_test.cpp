#include "engine/shot_gate.h"

#include <algorithm>

#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "engine/engine.h"
#include "support.h"

namespace cruscotto {
namespace {

using test::TempFolder;

/// A gate fed with a signal of 1 kHz whose sample i has the value that `shape` gives; remembers what came through.
struct Fed {
    std::shared_ptr<ScanGroup> group = test::oneChannelGroup(1000);
    Recorder::Columns columns = std::make_shared<std::vector<RecordedColumn>>(1, RecordedColumn{0, "in"});
    std::vector<std::uint64_t> through;  // sample numbers
    std::vector<Gap> gaps;
    ShotGate gate;
    std::uint64_t next = 0;

    explicit Fed(const ShotPlan& plan)
        : gate(plan, [this](const ShotGate::Part& part) {
              if (part.block->gapBefore) gaps.push_back(*part.block->gapBefore);
              for (std::size_t i = 0; i < part.block->size(); ++i) {
                  through.push_back(part.block->firstIndex + i);
                  EXPECT_EQ(std::get<std::vector<double>>(part.block->columns[0])[i],
                            static_cast<double>(part.block->firstIndex + i))
                      << "the sample itself";
              }
          }) {}
    template <class Shape>
    void feed(std::uint64_t to, std::size_t n, Shape&& shape) {
        while (next < to) {
            std::vector<double> raw, readings;
            for (std::size_t i = 0; i < n; ++i) {
                raw.push_back(static_cast<double>(next + i));
                readings.push_back(shape(next + i));
            }
            const BlockPtr block = test::clockedBlock(group, next, {static_cast<std::int64_t>(next) * 1'000'000}, raw);
            gate.look("in", {readings, {}}, *block);
            gate.pass({block, columns, {}});
            next += n;
        }
    }
};

std::vector<std::uint64_t> range(std::uint64_t from, std::uint64_t to) {
    std::vector<std::uint64_t> out;
    for (; from < to; ++from) out.push_back(from);
    return out;
}

ShotPlan plan(double level) {
    ShotPlan p;
    p.signal = "in";
    p.level = level;
    p.before = milliseconds(200);
    p.after = milliseconds(100);
    return p;
}

TEST(ShotGate, TakesTheTimeBeforeAndAfterToTheSample) {
    for (const std::size_t blockSize : {1U, 7U, 64U, 1000U, 5000U}) {
        Fed fed(plan(0.5));
        fed.feed(5000, blockSize, [](std::uint64_t i) { return i >= 3210 ? 1.0 : 0.0; });
        EXPECT_EQ(fed.through, range(3010, 3310)) << blockSize;
        EXPECT_EQ(fed.gate.shots(), 1);
        EXPECT_EQ(fed.gate.triggeredAt(), (Instant{3'210'000'000}));
        ASSERT_TRUE(fed.gate.completeFrom());
        EXPECT_LT(*fed.gate.completeFrom(), Instant{9'000'000'000});
    }
}

TEST(ShotGate, TakesAgainAndAgainWithAGapThatIsNoLoss) {
    ShotPlan p = plan(0.5);
    p.most = 3;
    Fed fed(p);
    fed.feed(10'000, 50, [](std::uint64_t i) { return i % 1000 >= 600 ? 1.0 : 0.0; });
    auto expected = range(400, 700);
    for (const std::uint64_t more : {1000U, 2000U}) {
        const auto shot = range(400 + more, 700 + more);
        expected.insert(expected.end(), shot.begin(), shot.end());
    }
    EXPECT_EQ(fed.through, expected);
    ASSERT_EQ(fed.gaps.size(), 2U);
    EXPECT_EQ(fed.gaps[0].from, (Instant{700'000'000}));
    EXPECT_EQ(fed.gaps[0].to, (Instant{1'400'000'000}));
    EXPECT_EQ(fed.gaps[0].lostSamples, 0U) << "nobody wanted them";
}

TEST(ShotGate, ShotsThatFollowCloselyDoNotRepeatASample) {
    ShotPlan p = plan(0.5);
    p.most = 0;
    Fed fed(p);
    fed.feed(3000, 25, [](std::uint64_t i) { return i >= 1000 && i % 150 >= 100 ? 1.0 : 0.0; });
    for (std::size_t i = 1; i < fed.through.size(); ++i) ASSERT_LT(fed.through[i - 1], fed.through[i]);
    EXPECT_GT(fed.gate.shots(), 8);
    EXPECT_FALSE(fed.gate.completeFrom()) << "until it is stopped";
}

TEST(ShotGate, TriggersOnTheWayDownAndNotWithinTheHysteresis) {
    ShotPlan p = plan(10);
    p.falling = true;
    p.hysteresis = 4;
    Fed fed(p);
    fed.feed(4000, 100, [](std::uint64_t i) { return i < 1000 ? 12 : i < 2000 ? 7 : i < 3000 ? 12 : 5; });
    EXPECT_EQ(fed.gate.triggeredAt(), (Instant{3'000'000'000}));
    EXPECT_EQ(fed.through.size(), 300U);
}

TEST(ShotGate, WithLittleMemoryTheShotBeginsLater) {
    ShotPlan p = plan(0.5);
    p.memoryBytes = 50 * 8 + 600;
    Fed fed(p);
    fed.feed(4000, 10, [](std::uint64_t i) { return i >= 3000 ? 1.0 : 0.0; });
    EXPECT_EQ(fed.through.back(), 3099U);
    EXPECT_LT(fed.through.size(), 200U);
    EXPECT_GE(fed.through.size(), 110U);
}

TEST(ShotGate, ARecordingOfShotsHoldsThemAndSaysWhatTriggered) {
    TempFolder folder;
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = seconds(20);
    ShotPlan p;
    p.signal = "shaft-speed";
    p.level = 1000;
    p.before = milliseconds(500);
    p.after = seconds(2);
    auto engine = Engine::startRecorded(test::exampleBench("pump-bench"), folder.file("a.run"), options, p);
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    EXPECT_TRUE(test::eventually([&] { return engine.value()->recording().complete; }));
    EXPECT_EQ(engine.value()->recording().shots, 1);
    engine.value()->stop();
    const auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    const RunInfo& info = reader.value()->info();
    EXPECT_EQ(info.signal("vibration")->samples, 2500U);
    EXPECT_EQ(info.signal("shaft-speed")->samples, 250U);
    EXPECT_EQ(info.lostSamples(), 0U);
    const auto trigger =
        std::find_if(info.events.begin(), info.events.end(), [](const RunEvent& e) { return e.kind == "trigger"; });
    ASSERT_NE(trigger, info.events.end());
    EXPECT_EQ(trigger->words, "Shot 1");
    RunReplay replay(*reader.value(), info.signal("shaft-speed")->group);
    RunReplay::Step step;
    double atTrigger = 0;
    while (replay.next(step))
        for (std::size_t i = 0; i < step.block->size(); ++i)
            if (step.block->timeOf(i) == trigger->at)
                for (std::size_t c = 0; c < replay.signals().size(); ++c)
                    if (replay.signals()[c]->key == "shaft-speed") atTrigger = step.readings[c].values[i];
    EXPECT_GE(atTrigger, 900) << "the reading that triggered (its chain began later in the run)";
}

}  // namespace
}  // namespace cruscotto
