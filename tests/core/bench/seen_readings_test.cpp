#include "core/bench/seen_readings.h"

#include "core/base/number_text.h"
#include "core/history/history_source.h"
#include "core/history/signal_history.h"
#include "core/history/timeline.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

SignalSpec signal(ChainSpec chain, ChannelKind kind = ChannelKind::analogInput) {
    SignalSpec s;
    s.id = s.name = "a";
    s.kind = kind;
    s.chain = std::move(chain);
    return s;
}

TEST(ExpectedScale, IsWhatConverterSensorOrOutputCanGive) {
    EXPECT_EQ(expectedScale(signal({countsToVolts(12, 0, 5)})), (Scale{0, 5}));
    EXPECT_EQ(expectedScale(signal({countsToVolts(16, -10, 10), movingMean(1000)})), (Scale{-10, 10}));
    EXPECT_EQ(expectedScale(signal({countsToVolts(12, 0, 5), slopeOffset(-2, 4, "bar")})), (Scale{-6, 4}))
        << "a falling line turns the ends around";
    EXPECT_EQ(expectedScale(signal({countsToVolts(12, -2, 2), formula("x*x", "bar")})), (Scale{0, 4}))
        << "a formula is not highest at an end alone";
    EXPECT_EQ(expectedScale(signal({countsToVolts(12, 0, 2), slopeOffset(1, 0, "V"), convertUnit("mV")})),
              (Scale{0, 2000}));
    EXPECT_EQ(expectedScale(signal({countsToVolts(12, 0, 5), slopeOffset(100, 0, "Cel"), validRange(0, 300)})),
              (Scale{0, 300}))
        << "where the scaling holds";
    EXPECT_EQ(expectedScale(signal({countsToVolts(12, 0, 1), slopeOffset(3.14159, 0.001, "bar")})), (Scale{0, 3.5}))
        << "ends that nobody would write are rounded outwards";
    EXPECT_EQ(expectedScale(signal({}, ChannelKind::digitalInput)), (Scale{0, 1}));
    SignalSpec output = signal({}, ChannelKind::analogOutput);
    output.output = OutputSpec{2, 8, 2, 2};
    EXPECT_EQ(expectedScale(output), (Scale{2, 8}));
    SignalSpec own = signal({countsToVolts(12, 0, 5)});
    own.scale = Scale{1, 2};
    EXPECT_EQ(expectedScale(own), (Scale{1, 2}));
    EXPECT_FALSE(expectedScale(signal({slopeOffset(1, 0, "1")}))) << "a number as a board says it";
    EXPECT_FALSE(expectedScale(signal({pulseCounter()}, ChannelKind::counterInput)));
    EXPECT_FALSE(expectedScale(signal({countsToVolts(12, 0, 5), formula("1/0", "1")})));
}

/// One signal's readings, as they come.
struct Live {
    HistorySource source;
    std::shared_ptr<ScanGroup> group = test::oneChannelGroup(1);
    std::shared_ptr<Timeline> timeline = std::make_shared<Timeline>(1024);
    std::shared_ptr<SignalHistory> history =
        std::make_shared<SignalHistory>(timeline, SampleType::float64, HistorySize{1024, 64});
    SeenReadings seen;
    SignalSpec spec = signal({slopeOffset(1, 0, "1")});
    std::uint64_t index = 0;

    Live() { source.set("a", history, spec.chain, spec.kind); }
    void take(double v) {
        Block block;
        block.group = group;
        block.firstIndex = index;
        block.t0 = {static_cast<std::int64_t>(index++) * 1'000'000'000};
        block.dtNs = 1e9;
        block.columns.emplace_back(std::vector<double>{v});
        timeline->append(block);
        history->append(block.columns[0], {{v}, {}});
        source.setExtent({{0}, block.t0});
        seen.look(spec, source, v);
    }
};

TEST(SeenReadings, TheScaleIsRoundedOutwardsWhileItLearnsAndThenStays) {
    Live live;
    EXPECT_EQ(live.seen.scaleOf(live.spec), (Scale{0, 1}));
    live.take(23.4);
    const Scale first = live.seen.scaleOf(live.spec);
    EXPECT_LT(first.low, 23.4);
    EXPECT_GT(first.high, 23.4);
    live.take(23.5);
    EXPECT_EQ(live.seen.scaleOf(live.spec), first) << "what lies within moves nothing";
    live.take(61.2);
    const Scale wider = live.seen.scaleOf(live.spec);
    EXPECT_LE(wider.low, 23.4);
    EXPECT_GE(wider.high, 61.2);
    for (int i = 0; i < 5; ++i) live.take(30);
    live.take(100);
    EXPECT_EQ(live.seen.scaleOf(live.spec), wider) << "five seconds after the first it stays";
    live.spec.chain = {slopeOffset(10, 0, "kg")};
    live.take(5);
    EXPECT_NE(live.seen.scaleOf(live.spec), wider) << "another chain is another quantity";
}

TEST(SeenReadings, WholeReadingsHaveNoDecimalsUntilOneIsNotWhole) {
    Live live;
    EXPECT_EQ(live.seen.decimalsOf(live.spec), 2);
    live.take(409);
    live.take(411);
    EXPECT_EQ(live.seen.decimalsOf(live.spec), 0);
    live.take(410.5);
    const int decimals = live.seen.decimalsOf(live.spec);
    EXPECT_GT(decimals, 0);
    live.take(410);
    EXPECT_EQ(live.seen.decimalsOf(live.spec), decimals) << "digits do not come and go";
}

TEST(SeenReadings, RawNumbersThatAreNotWholeAreNotRounded) {
    Live live;
    live.spec.chain = {};
    live.take(23.5);
    EXPECT_GT(live.seen.decimalsOf(live.spec), 0) << "a board says them as they are";
}

TEST(SeenReadings, ABoardsTextHasNoMoreDecimalsThanItSays) {
    Live live;
    for (const double v : {23.4, 23.9, 23.0, 24.1}) live.take(v);
    EXPECT_EQ(live.seen.decimalsOf(live.spec), 1);
    live.take(23.55);
    EXPECT_EQ(live.seen.decimalsOf(live.spec), 2);
    live.take(1.0 / 3);
    EXPECT_EQ(live.seen.decimalsOf(live.spec),
              decimalsFor(live.seen.scaleOf(live.spec).low, live.seen.scaleOf(live.spec).high))
        << "never more than suit the scale";
}

TEST(SeenReadings, CountsAreWholeByNatureAndWhatIsScaledHasTheDecimalsOfItsScale) {
    const SeenReadings seen;
    EXPECT_EQ(seen.decimalsOf(signal({})), 0) << "a converter's raw counts";
    EXPECT_EQ(seen.decimalsOf(signal({pulseCounter("count")}, ChannelKind::counterInput)), 0);
    EXPECT_EQ(seen.decimalsOf(signal({countsToVolts(12, 0, 5)})), 2);
    EXPECT_EQ(seen.decimalsOf(signal({countsToVolts(12, 0, 5), slopeOffset(200, 0, "mm")})), 0);
}

}  // namespace
}  // namespace cruscotto
