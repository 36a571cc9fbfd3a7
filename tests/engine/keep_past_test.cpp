// What is kept after the fact has the gaps that were there, each group its own.
#include "core/run/run_reader.h"
#include "scripted_device.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::ScriptedDevice;
using test::TempFolder;
using test::waitForStop;

TEST(KeepPast, EachGroupHasItsOwnGapsAndBeginsWhereItIsStillHeld) {
    TempFolder folder;
    ScriptedDevice::Log log;
    Bench bench = test::oneOutput();
    for (const char* terminal : {"slow", "fast"}) {
        SignalSpec s;
        s.id = s.name = s.terminal = terminal;
        s.device = "box";
        bench = withSignal(bench, s);
    }
    const auto group = [](const char* terminal, double rate) {
        auto g = test::oneChannelGroup(rate);
        g->device = "box";
        g->name = terminal;
        g->channels[0].terminal = terminal;
        return g;
    };
    std::atomic<bool> done{false};
    auto options = test::scripted(log, [&](DeviceSink& sink, const std::stop_token& stop) {
        const Instant t0 = sink.now();
        const auto fast = group("fast", 10'000), slow = group("slow", 0);
        // Of the fast one more than is held, with a gap of 50 ms in what is; of the slow one everything, with another.
        std::uint64_t index = 0;
        for (int b = 0; b < 30; ++b) {
            auto block = std::make_shared<Block>(*test::clockedBlock(fast, index, t0 + milliseconds(100 * b),
                                                                     std::vector<double>(b == 24 ? 500 : 1000, b)));
            if (b == 25) block->gapBefore = Gap{t0 + milliseconds(2450), t0 + milliseconds(2500), 500, "as it happens"};
            index += block->size();
            sink.deliver(std::move(block));
        }
        auto block = std::make_shared<Block>();
        block->group = slow;
        for (int i = 0; i < 10; ++i) block->times.push_back(t0 + milliseconds(100 * i));
        block->columns.emplace_back(std::vector<double>(10, 1));
        sink.deliver(block);
        block = std::make_shared<Block>();
        block->group = slow;
        block->firstIndex = 10;
        for (int i = 20; i < 30; ++i) block->times.push_back(t0 + milliseconds(100 * i));
        block->columns.emplace_back(std::vector<double>(10, 2));
        block->gapBefore = Gap{t0 + milliseconds(900), t0 + milliseconds(2000), 0, "away"};
        sink.deliver(block);
        done = true;
        waitForStop(stop);
    });
    options.history.samples = 16'384;
    const auto engine = Engine::start(bench, options);
    const auto reads = [&](const char* id) { return engine->source().at(id, engine->now()).value; };
    ASSERT_TRUE(eventually([&] { return done && reads("fast") == 29 && reads("slow") == 2; }));
    ASSERT_TRUE(engine->keepPast(folder.file("kept.run"), seconds(60)).ok());
    auto reader = RunReader::open(folder.file("kept.run"));
    ASSERT_TRUE(reader.ok());
    for (const RunGroup& g : reader.value()->info().groups) {
        if (g.name.starts_with("output")) continue;
        std::vector<Gap> inner;
        for (const Gap& gap : g.gaps)
            if (gap.cause == "Nothing was measured.") inner.push_back(gap);
        ASSERT_EQ(inner.size(), 1U) << g.name;
        const Duration length = inner[0].to - inner[0].from;
        EXPECT_EQ(length.ns, g.name == "fast" ? 50'000'000 : 1'100'000'000) << g.name;
        EXPECT_EQ(g.gaps.size(), g.name == "fast" ? 2U : 1U) << "the fast one's beginning is no longer held";
    }
}

}  // namespace
}  // namespace cruscotto
