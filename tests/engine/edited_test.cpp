// Chains that are edited while it is recorded: what is replayed from the run is what was seen live, to the sample.
#include <cmath>
#include <random>

#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "scripted_device.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::ScriptedDevice;
using test::TempFolder;

/// Delivers as many blocks as it is let, of all lengths, gaps now and then among them.
void deliverBlocks(DeviceSink& sink, const std::stop_token& stop, std::uint64_t seed, std::atomic<int>& blocks,
                   const std::atomic<int>& allowed) {
    std::mt19937_64 random(seed);
    auto group = test::oneChannelGroup(10'000);
    group->device = "box";
    std::uint64_t index = 0;
    Instant t = sink.now();
    while (!stop.stop_requested()) {
        if (blocks >= allowed) {
            std::this_thread::yield();
            continue;
        }
        std::vector<double> samples(1 + random() % 40);
        for (double& v : samples) v = static_cast<double>(random() % 4096);
        const std::size_t n = samples.size();
        auto block = std::make_shared<Block>(*test::clockedBlock(group, index, t, std::move(samples)));
        if (random() % 20 == 0) {
            const Instant from = t;
            t = t + milliseconds(3);
            block->t0 = t;
            block->gapBefore = Gap{from, t, 30, "as it happens"};
        }
        index += n;
        t = block->timeOf(n);
        sink.deliver(std::move(block));
        ++blocks;
    }
}

ChainSpec chainOf(std::mt19937_64& random) {
    ChainSpec out{slopeOffset(static_cast<double>(1 + random() % 9), static_cast<double>(random() % 5), "V")};
    if (random() % 2) out.push_back(movingMean(static_cast<int>(2 + random() % 30)));
    return out;
}

TEST(EditedWhileRecording, TheReplayIsWhatWasLiveToTheSample) {
    for (const bool shots : {false, true}) {
        TempFolder folder(TempFolder::Where::memory);
        ScriptedDevice::Log log;
        std::atomic<int> blocks{0}, allowed{0};
        std::mt19937_64 random(shots ? 5 : 4);
        Bench bench = test::oneOutput();
        auto options = test::scripted(
            log, [&](DeviceSink& sink, const std::stop_token& stop) { deliverBlocks(sink, stop, 7, blocks, allowed); });
        options.history.samples = std::size_t{1} << 20;
        std::optional<ShotPlan> plan;
        if (shots) {
            plan.emplace();
            plan->onMark = true;
            plan->before = seconds(0.3);
            plan->after = seconds(0.05);
            plan->most = 1;
        }
        auto started = Engine::startRecorded(bench, folder.file("a.run"), options, plan);
        ASSERT_TRUE(started.ok());
        Engine& engine = *started.value();
        const ChainSpec first = chainOf(random);
        for (int edit = 0; edit < 120; ++edit) {
            // Every other edit waits for at least one block of the one before it, so that this one is surely in the
            // run; the others come while blocks do.
            const bool afterBlocks = edit % 2;
            allowed += static_cast<int>(random() % 6) + afterBlocks;
            if (afterBlocks) ASSERT_TRUE(eventually([&] { return blocks >= allowed; }));
            SignalSpec in = *bench.signal("in");
            in.chain = edit % 7 == 3 ? first : chainOf(random);
            if (edit % 11 == 0) in.name = "renamed " + std::to_string(edit);
            bench = withSignal(bench, in);
            engine.apply(bench);
            if (edit % 13 == 0) {  // there and back between two blocks, as an undo is
                in.chain = chainOf(random);
                engine.apply(withSignal(bench, in));
                engine.apply(bench);
            }
        }
        // The samples have a time of their own, which runs as fast as they are taken.
        ASSERT_TRUE(eventually([&] { return blocks >= allowed; }));
        engine.setOutput("drive", 1);  // behind all of them
        engine.mark(engine.source().at("in", engine.now() + seconds(1000)).taken, "shot");
        allowed += 60;
        ASSERT_TRUE(eventually([&] { return blocks >= allowed; }));
        engine.stop();
        std::vector<Point> live;
        ASSERT_TRUE(engine.source().points("in", {Instant{}, engine.now() + seconds(100)}, 1 << 21, live));
        std::map<std::int64_t, double> byTime;
        for (const Point& p : live)
            if (!std::isnan(p.value)) byTime[p.t.ns] = p.value;
        auto reader = RunReader::open(folder.file("a.run"));
        ASSERT_TRUE(reader.ok());
        const RunSignal* signal = reader.value()->info().signal("in");
        ASSERT_TRUE(signal && signal->samples > 500) << shots;
        // A shot keeps the last 0.3 s only: about a quarter of the edits.
        EXPECT_GT(signal->definitions.size(), shots ? 10U : 50U);
        RunReplay replay(*reader.value(), signal->group);
        std::size_t compared = 0, wrong = 0, warming = 0;
        bool begun = !shots;
        for (RunReplay::Step step; replay.next(step);)
            for (std::size_t i = 0; i < step.block->size(); ++i) {
                const auto it = byTime.find(step.block->timeOf(i).ns);
                ASSERT_NE(it, byTime.end());
                ++compared;
                const bool same = it->second == step.readings[0].values[i];
                // What lies before a shot is not in the run: a mean that looked back there is another one at first.
                if (!begun && compared > 40) begun = true;
                if (!begun)
                    warming += !same;
                else
                    wrong += !same;
            }
        EXPECT_EQ(wrong, 0U) << "of " << compared;
        EXPECT_LE(warming, 40U);
    }
}

TEST(EditedWhileRecording, AChainThatCannotBeMadeGivesNoReadingAndNeverRawCounts) {
    ScriptedDevice::Log log;
    std::atomic<int> blocks{0}, allowed{50};
    Bench bench = test::oneOutput();
    SignalSpec in = *bench.signal("in");
    in.chain = {formula("no such thing (", "V")};
    bench = withSignal(bench, in);
    const auto engine = Engine::start(bench, test::scripted(log, [&](DeviceSink& sink, const std::stop_token& stop) {
                                          deliverBlocks(sink, stop, 1, blocks, allowed);
                                      }));
    ASSERT_TRUE(eventually([&] { return engine->source().at("in", engine->now()).taken > Instant{}; }));
    EXPECT_TRUE(std::isnan(engine->source().at("in", engine->now()).value));
    EXPECT_EQ(engine->source().at("in", engine->now()).quality, Quality::outOfRange);
}

}  // namespace
}  // namespace cruscotto
