#include "devices/fastbox/fast_box.h"

#include <cmath>
#include <mutex>

#include "core/run/run_reader.h"
#include "devices/device_kind.h"
#include "engine/engine.h"
#include "fast_bench.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto::fast_box_test {
namespace {

using test::eventually;
using test::fastBench;
using test::TempFolder;

TEST(FastBox, ChecksItsSettings) {
    const DeviceKind* kind = deviceKind("sim-fast-box");
    ASSERT_TRUE(kind);
    EXPECT_TRUE(kind->check(R"({"channels":64,"rate-hz":200000})").ok());
    for (const char* bad :
         {"[]", R"({"channels":0})", R"({"channels":65})", R"({"rate-hz":"fast"})", R"({"clock-ppm":5000})"})
        EXPECT_FALSE(kind->check(bad).ok()) << bad;
    EXPECT_EQ(kind->terminals(R"({"channels":7})").size(), 7U);
}

TEST(FastBox, AsFastAsPossibleEverySampleIsRecordedOnce) {
    TempFolder folder;
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = seconds(2);
    auto engine =
        Engine::startRecorded(fastBench(R"({"channels":8,"rate-hz":100000})", 8), folder.file("a.run"), options);
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    engine.value()->stop();
    const auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    for (const RunSignal& s : reader.value()->info().signals) EXPECT_EQ(s.samples, 200'000U);
    EXPECT_EQ(reader.value()->info().lostSamples(), 0U);
    auto blocks = reader.value()->blocks(1);
    std::uint64_t next = 0;
    while (const BlockPtr b = blocks.next()) {
        EXPECT_EQ(b->firstIndex, next);
        next += b->size();
    }
}

TEST(FastBox, WhatItsBufferCannotHoldIsAGapWithItsExactNumber) {
    TempFolder folder;
    const std::string settings = R"({"channels":2,"rate-hz":5000,"buffer-ms":100,"busy-from-s":0.3,"busy-to-s":0.9})";
    auto engine = Engine::startRecorded(fastBench(settings, 2), folder.file("a.run"));
    ASSERT_TRUE(engine.ok());
    // By the box's own clock, whenever it was that it began: something past the time in which nobody fetched.
    ASSERT_TRUE(eventually([&] { return engine.value()->recording().samples > 2U * 2000; }));
    engine.value()->stop();
    const auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    const RunInfo& info = reader.value()->info();
    const auto& gaps = info.groups[0].gaps;  // one, or more where the machine itself was held up
    ASSERT_GE(gaps.size(), 1U);
    auto blocks = reader.value()->blocks(info.groups[0].id);
    std::uint64_t recorded = 0, newest = 0, lost = 0, most = 0;
    std::size_t nextGap = 0;
    while (const BlockPtr b = blocks.next()) {
        if (b->gapBefore) {
            ASSERT_LT(nextGap, gaps.size());
            const Gap& gap = gaps[nextGap++];
            EXPECT_NE(gap.cause.find("buffer ran over"), std::string::npos);
            EXPECT_EQ(b->firstIndex - newest, gap.lostSamples) << "to the sample";
            EXPECT_NEAR((b->timeOf(0) - gap.from).seconds(), static_cast<double>(gap.lostSamples) / 5000, 0.02);
            lost += gap.lostSamples;
            most = std::max(most, gap.lostSamples);
        }
        recorded += b->size();
        newest = b->firstIndex + b->size();
    }
    EXPECT_EQ(nextGap, gaps.size());
    EXPECT_EQ(recorded + lost, newest) << "each sample is there or accounted for";
    EXPECT_EQ(info.lostSamples(), lost * 2) << "over both channels";
    EXPECT_EQ(engine.value()->recording().lost, lost * 2) << "and told so, with its cause";
    EXPECT_NE(engine.value()->recording().lostTo.find("buffer ran over"), std::string::npos);
    EXPECT_EQ(engine.value()->lostSamples(), lost * 2);
    EXPECT_GE(most, 2499U) << "0.6 s at 5 kHz, of which the buffer holds 0.1 s";
}

TEST(FastBox, WhatTheEnginesQueueCannotHoldIsAGapWithItsExactNumber) {
    // A device that hands over more than a chain of formulas can take, until it has been told that it is too much.
    constexpr std::size_t n = 1 << 17;  // 1 MiB a block
    static std::atomic<bool> enough, done;
    static std::atomic<std::uint64_t> delivered;
    struct Flood : Device {
        void run(DeviceSink& sink, std::stop_token stop) override {
            auto group = test::oneChannelGroup(1e6, SampleType::float64);
            std::uint64_t next = 0;
            const auto deliver = [&](std::size_t samples) {
                sink.deliver(test::clockedBlock(group, next, {static_cast<std::int64_t>(next) * 1000},
                                                std::vector<double>(samples, 7)));
                delivered = next += samples;
            };
            while (!enough && !stop.stop_requested()) deliver(n);
            done = true;
            test::waitForStop(stop);
            deliver(1000);  // so that what was lost last has a block behind it
        }
        void setOutput(const std::string&, double) override {}
        bool reconfigure(const JsonText&, const std::vector<TerminalRequest>&) override { return true; }
    };
    TempFolder folder;
    Bench bench;
    bench.name = "Flood";
    bench = withDevice(bench, {"device", "Device", "flood", "", ""});
    SignalSpec s;
    s.id = s.name = "in";
    s.device = "device";
    s.terminal = "AI0";
    s.chain = {formula("sin(x) + cos(x)")};
    bench = withSignal(bench, s);
    EngineOptions options;
    DeviceKind flood;
    flood.key = "flood";
    flood.check = [](const JsonText&) -> Result<void> { return {}; };
    flood.make = [](const auto&, const auto&, const auto&) { return std::unique_ptr<Device>(new Flood); };
    options.kinds = std::make_shared<const DeviceKinds>(std::vector{flood});
    options.recorder.queueBytes = std::size_t{1} << 30;
    auto engine = Engine::startRecorded(bench, folder.file("a.run"), options);
    ASSERT_TRUE(engine.ok());
    ASSERT_TRUE(eventually([&] { return engine.value()->lostSamples() > 0; })) << "it was meant to be too much";
    enough = true;
    ASSERT_TRUE(eventually([] { return done.load(); }));
    engine.value()->stop();
    const std::uint64_t lost = engine.value()->lostSamples();
    const auto reader = RunReader::open(folder.file("a.run"));
    ASSERT_TRUE(reader.ok());
    EXPECT_EQ(reader.value()->info().lostSamples(), lost);
    EXPECT_EQ(engine.value()->recording().lostTo, "The computer could not follow.");
    EXPECT_EQ(reader.value()->info().signal("in")->samples + lost, delivered);
}

TEST(FastBox, AClockThatIsOffIsShownOnTheBenchsAxis) {
    auto engine = Engine::start(fastBench(R"({"channels":1,"rate-hz":2000,"clock-ppm":900})", 1));
    ASSERT_TRUE(eventually([&] { return engine->now() > Instant{2'000'000'000}; }));
    const auto age = [&] {
        const Instant now = engine->now();
        const Reading r = engine->source().at("in0", now);
        EXPECT_LE(r.taken, now + milliseconds(5)) << "nothing was taken in the future";
        return now - r.taken;
    };
    EXPECT_TRUE(eventually([&] { return age() < milliseconds(100); }));
}

}  // namespace
}  // namespace cruscotto::fast_box_test
