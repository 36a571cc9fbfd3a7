#include "core/chain/chain.h"

#include <cmath>
#include <random>

#include "support.h"

namespace cruscotto {
namespace {

using test::clockedBlock;
using test::oneChannelGroup;

Readings run(const ChainSpec& chain, const std::vector<double>& raw, ChannelKind kind = ChannelKind::analogInput,
             double rate = 1000) {
    auto made = ChainEvaluator::make(chain, kind);
    EXPECT_TRUE(made.ok()) << (made.ok() ? "" : made.error().english());
    Readings out;
    if (!made) return out;
    std::vector<Instant> times;
    for (std::size_t i = 0; i < raw.size(); ++i) times.push_back({std::llround(static_cast<double>(i) * 1e9 / rate)});
    made.value().process(raw, times, out);
    return out;
}

TEST(CountsToVolts, HasTwoToTheNLevels) {
    // 16 bits over -10 to 10 V: one count is 20/65536 V, and the highest code stops one count short of 10 V.
    const Readings r =
        run({CountsToVolts{16, -10, 10, CountsToVolts::Coding::twosComplement}}, {0, 1, -1, 16384, -32768, 32767});
    const double count = 20.0 / 65536;
    EXPECT_DOUBLE_EQ(r.values[0], 0);
    EXPECT_DOUBLE_EQ(r.values[1], count);
    EXPECT_DOUBLE_EQ(r.values[2], -count);
    EXPECT_DOUBLE_EQ(r.values[3], 5);
    EXPECT_DOUBLE_EQ(r.values[4], -10);
    EXPECT_DOUBLE_EQ(r.values[5], 10 - count);
    EXPECT_EQ(r.quality, (std::vector<QualityInterval>{{4, 6, Quality::clipped}}));
}

TEST(CountsToVolts, UnipolarTenBitsOfFiveVolts) {
    const Readings r = run({CountsToVolts{10, 0, 5, CountsToVolts::Coding::unipolar}}, {0, 512, 1023, 1});
    EXPECT_DOUBLE_EQ(r.values[1], 2.5);
    EXPECT_DOUBLE_EQ(r.values[2], 5 - 5.0 / 1024);
    EXPECT_DOUBLE_EQ(r.values[3], 5.0 / 1024);
    EXPECT_EQ(r.quality, (std::vector<QualityInterval>{{0, 1, Quality::clipped}, {2, 3, Quality::clipped}}));
}

TEST(Scaling, LineTwoPointsFormulaAndUnit) {
    EXPECT_DOUBLE_EQ(run({SlopeOffset{2, 1, "bar"}}, {3}).values[0], 7);
    EXPECT_DOUBLE_EQ(run({TwoPoints{1, 0, 5, 10, "bar", ""}}, {2}).values[0], 2.5);
    EXPECT_DOUBLE_EQ(run({Formula{"x^2+sqrt(x)", "1"}}, {4}).values[0], 18);
    EXPECT_DOUBLE_EQ(run({SlopeOffset{1, 0, "bar"}, ConvertUnit{"kPa"}}, {1.5}).values[0], 150);
}

TEST(Formula, MarksWhatHasNoValueAndKeepsGoing) {
    const Readings r = run({Formula{"1/x", "1"}}, {2, 0, 4});
    EXPECT_DOUBLE_EQ(r.values[0], 0.5);
    EXPECT_TRUE(std::isnan(r.values[1]));
    EXPECT_DOUBLE_EQ(r.values[2], 0.25);
    EXPECT_EQ(r.quality, (std::vector<QualityInterval>{{1, 2, Quality::outOfRange}}));
}

TEST(Formula, IsDataAndSaysWhatIsWrongWithIt) {
    for (const char* wrong : {"", "2*", "y+1", "system(1)", "x;x", "\"a\"", "sin("}) {
        const auto made = ChainEvaluator::make({Formula{wrong, "1"}}, ChannelKind::analogInput);
        ASSERT_FALSE(made.ok()) << wrong;
        EXPECT_NE(made.error().english().find("formula"), std::string::npos) << made.error().english();
    }
    EXPECT_FALSE(checkStage(Formula{std::string(2000, '('), "1"}, "1").ok());
    EXPECT_FALSE(checkStage(Formula{std::string(900, '('), "1"}, "1").ok());
}

TEST(MovingMean, AveragesTheLastSamplesFewerAtTheStart) {
    const Readings r = run({MovingMean{3}}, {3, 5, 7, 9, 11});
    EXPECT_EQ(r.values, (std::vector<double>{3, 4, 5, 7, 9}));
}

TEST(MovingMean, LeavesOutWhatIsNoNumber) {
    const Readings r = run({Formula{"1/(x-5)+x*0+x", "1"}, MovingMean{2}}, {4, 5, 6});
    EXPECT_DOUBLE_EQ(r.values[1], r.values[0]);  // of two, one has no value
    EXPECT_DOUBLE_EQ(r.values[2], 7);
}

TEST(MovingMean, IsTheSameHoweverTheSamplesAreCutIntoBlocks) {
    std::vector<double> raw;
    for (int i = 0; i < 1000; ++i) raw.push_back(std::sin(i * 0.1) * 1000);
    const std::vector<double> whole = run({MovingMean{37}}, raw).values;
    auto made = ChainEvaluator::make({MovingMean{37}}, ChannelKind::analogInput);
    const auto group = oneChannelGroup(1000);
    Readings part;
    std::vector<double> joined;
    for (std::size_t i = 0, n = 1; i < raw.size(); i += n, n = n % 13 + 1) {
        n = std::min(n, raw.size() - i);
        const std::vector<double> piece(raw.begin() + static_cast<std::ptrdiff_t>(i),
                                        raw.begin() + static_cast<std::ptrdiff_t>(i + n));
        made.value().process(*clockedBlock(group, i, {static_cast<std::int64_t>(i) * 1'000'000}, piece), 0, part);
        joined.insert(joined.end(), part.values.begin(), part.values.end());
    }
    ASSERT_EQ(joined.size(), whole.size());
    for (std::size_t i = 0; i < whole.size(); ++i) EXPECT_NEAR(joined[i], whole[i], 1e-9);
}

TEST(MovingMean, ForgetsAcrossAGap) {
    auto made = ChainEvaluator::make({MovingMean{4}}, ChannelKind::analogInput);
    const auto group = oneChannelGroup(1000);
    Readings out;
    made.value().process(*clockedBlock(group, 0, {0}, std::vector<double>{100, 100, 100}), 0, out);
    auto after = std::make_shared<Block>(*clockedBlock(group, 9, {9'000'000}, std::vector<double>{1, 3}));
    after->gapBefore = Gap{{3'000'000}, {9'000'000}, 6, "away"};
    made.value().process(*after, 0, out);
    EXPECT_EQ(out.values, (std::vector<double>{1, 2}));
}

TEST(ValidRange, MarksAndKeepsTheNumber) {
    const Readings r = run({ValidRange{0, 10}}, {-1, 0, 10, 10.5});
    EXPECT_EQ(r.values, (std::vector<double>{-1, 0, 10, 10.5}));
    EXPECT_EQ(r.quality, (std::vector<QualityInterval>{{0, 1, Quality::outOfRange}, {3, 4, Quality::outOfRange}}));
}

TEST(Invert, ASwitchToGroundReadsOnWhenLow) {
    EXPECT_EQ(run({Invert{}}, {0, 1, 0}, ChannelKind::digitalInput).values, (std::vector<double>{1, 0, 1}));
}

/// A running count of pulses at `hz`, read `rate` times a second.
std::vector<double> pulses(double hz, double rate, double from, double to, double start = 0) {
    std::vector<double> out;
    for (double t = from; t < to - 1e-9; t += 1 / rate) out.push_back(std::floor(start + (t - from) * hz));
    return out;
}

TEST(PulseCounter, FrequencyAndTurnsAMinute) {
    const auto counts = pulses(193.3333, 100, 0, 3);
    EXPECT_NEAR(run({PulseCounter{PulseCounter::Mode::frequency, 1, 2, 0.3}}, counts, ChannelKind::counterInput, 100)
                    .values.back(),
                193.33, 2.5);
    EXPECT_NEAR(
        run({PulseCounter{PulseCounter::Mode::rpm, 4, 2, 0.3}}, counts, ChannelKind::counterInput, 100).values.back(),
        2900, 40);
}

TEST(PulseCounter, IsFinerThanOneSampleOfTheEdgesTimes) {
    // Edges are known to 10 ms only; over half a second the first and last alone would be off by up to 4 %.
    const auto counts = pulses(135.337, 100, 0, 4);
    const Readings r =
        run({PulseCounter{PulseCounter::Mode::frequency, 1, 2, 0.5}}, counts, ChannelKind::counterInput, 100);
    for (std::size_t i = 100; i < r.values.size(); ++i) ASSERT_NEAR(r.values[i], 135.337, 0.007 * 135.337) << i;
}

TEST(PulseCounter, IsTheLineThroughTheEdgesOfItsGateAfterAnyTime) {
    // A counter that jumps as it likes, months after the bench began: what has left the gate leaves nothing behind.
    std::mt19937_64 random(7);
    constexpr std::int64_t begin = 10'000'000'000'000'000, step = 1'000'000, gate = 100 * step;
    std::vector<std::pair<std::int64_t, double>> edges;
    std::vector<double> counts{0};
    double total = 0;
    for (std::int64_t i = 1; i < 20'000; ++i) {
        if (random() % 3 == 0 || i == 19'999)
            edges.emplace_back(begin + i * step, total += static_cast<double>(random() % 2'000'000'000));
        counts.push_back(std::fmod(total, 4294967296.0));
    }
    auto made =
        ChainEvaluator::make({PulseCounter{PulseCounter::Mode::frequency, 1, 2, 0.1}}, ChannelKind::counterInput);
    ASSERT_TRUE(made);
    Readings out;
    made.value().process(*clockedBlock(oneChannelGroup(1000), 0, {begin}, counts), 0, out);
    while (edges[1].first <= edges.back().first - gate) edges.erase(edges.begin());
    long double meanTime = 0, meanCount = 0, both = 0, squares = 0;
    for (const auto& [ns, count] : edges) meanTime += ns - begin, meanCount += count;
    meanTime /= edges.size(), meanCount /= edges.size();
    for (const auto& [ns, count] : edges) {
        both += (ns - begin - meanTime) * (count - meanCount);
        squares += (ns - begin - meanTime) * (ns - begin - meanTime);
    }
    const auto expected = static_cast<double>(1e9L * both / squares);
    EXPECT_NEAR(out.values.back(), expected, 1e-12 * expected);
}

TEST(PulseCounter, TheFirstReadingsAreAsTrueAsTheLaterOnes) {
    // Two edges of a pulse train that is read 100 times a second would say 100 or 150 pulses a second.
    for (const double hz : {12.3, 68.2, 135.337, 1900.}) {
        const Readings r = run({PulseCounter{PulseCounter::Mode::frequency, 1, 2, 0.5}}, pulses(hz, 100, 0, 2, 0.4),
                               ChannelKind::counterInput, 100);
        const auto first = std::ranges::find_if(r.values, [](double v) { return std::isfinite(v); });
        EXPECT_LT(first - r.values.begin(), 26) << hz << ": a quarter of a second is enough for a first reading";
        for (auto v = first; v != r.values.end(); ++v) ASSERT_NEAR(*v, hz, 0.06 * hz) << v - r.values.begin();
    }
}

TEST(PulseCounter, SlowPulsesAreTimedFromEdgeToEdge) {
    // 0.8 pulses a second, read 100 times a second: counting in a window would say 0 or 3.
    const Readings r = run({PulseCounter{PulseCounter::Mode::frequency, 1, 5, 0.25}}, pulses(0.8, 100, 0, 10),
                           ChannelKind::counterInput, 100);
    EXPECT_NEAR(r.values.back(), 0.8, 0.01);
}

TEST(PulseCounter, SilenceBecomesZeroInsteadOfFreezing) {
    auto counts = pulses(50, 100, 0, 2);
    counts.resize(500, counts.back());  // three seconds without a pulse
    const Readings r =
        run({PulseCounter{PulseCounter::Mode::frequency, 1, 1, 0.2}}, counts, ChannelKind::counterInput, 100);
    EXPECT_NEAR(r.values[199], 50, 1.5);
    EXPECT_LE(r.values[250], 2.1) << "half a second without a pulse cannot be faster than two a second";
    EXPECT_GT(r.values[250], 0);
    EXPECT_EQ(r.values[310], 0);
    EXPECT_EQ(r.values.back(), 0);
}

TEST(PulseCounter, GoesOnAfterASilenceWithoutASpike) {
    std::vector<double> counts(300, 7);
    for (const double c : pulses(50, 100, 0, 1, 8)) counts.push_back(c);
    const Readings r =
        run({PulseCounter{PulseCounter::Mode::frequency, 1, 1, 0.2}}, counts, ChannelKind::counterInput, 100);
    EXPECT_EQ(r.values[299], 0);
    for (std::size_t i = 300; i < r.values.size(); ++i) EXPECT_LT(r.values[i], 56) << i;
    EXPECT_NEAR(r.values.back(), 50, 1.5);
}

TEST(PulseCounter, CountsAcrossTheWrapOfThirtyTwoBits) {
    const Readings r = run({PulseCounter{PulseCounter::Mode::count, 1, 2, 0}}, {4294967290.0, 4294967295.0, 3, 10},
                           ChannelKind::counterInput);
    EXPECT_EQ(r.values, (std::vector<double>{0, 5, 9, 16}));
}

TEST(PulseCounter, PassesOverWhatCannotBeACount) {
    const Readings r = run({PulseCounter{PulseCounter::Mode::count, 1, 2, 0}}, {1, std::nan(""), -5, 1e300, 3},
                           ChannelKind::counterInput);
    EXPECT_EQ(r.values, (std::vector<double>{0, 0, 0, 0, 2}));
}

TEST(StageValues, TraceANumberThroughTheChain) {
    auto made = ChainEvaluator::make({CountsToVolts{16, -10, 10}, SlopeOffset{2.5, -2.5, "bar"}, ConvertUnit{"kPa"}},
                                     ChannelKind::analogInput);
    Readings out;
    EXPECT_TRUE(std::isnan(made.value().stageValues()[0]));
    made.value().process({16384}, {Instant{}}, out);
    EXPECT_EQ(made.value().stageValues(), (std::vector<double>{16384, 5, 10, 1000}));
}

TEST(CheckStage, EachMistakeHasItsSentence) {
    struct Case {
        Stage stage;
        const char* says;
    };
    for (const Case& c :
         {Case{CountsToVolts{0, -1, 1}, "bits"}, Case{CountsToVolts{33, -1, 1}, "bits"},
          Case{CountsToVolts{16, 5, 5}, "begin below"}, Case{SlopeOffset{std::nan(""), 0, "1"}, "finite"},
          Case{TwoPoints{2, 0, 2, 1, "1", ""}, "move the signal"}, Case{MovingMean{0}, "moving mean"},
          Case{ConvertUnit{"Cel"}, "different things"}, Case{ValidRange{1, 0}, "valid range"},
          Case{PulseCounter{PulseCounter::Mode::rpm, 0, 2, 0}, "more than 0"},
          Case{PulseCounter{PulseCounter::Mode::rpm, 4, 0, 0}, "silence"}}) {
        const auto checked = checkStage(c.stage, "bar");
        ASSERT_FALSE(checked.ok()) << stageKey(c.stage);
        EXPECT_NE(checked.error().english().find(c.says), std::string::npos) << checked.error().english();
    }
}

TEST(DescribeStage, SaysWhatItDoesInOneSentence) {
    EXPECT_EQ(describeStage(CountsToVolts{10, 0, 5, CountsToVolts::Coding::unipolar}).english(),
              "10 bits make 1024 levels over 0 to 5 V: one count is 4.88281 mV.");
    EXPECT_EQ(describeStage(CountsToVolts{16, -0.02, 0.02}).english(),
              "16 bits make 65536 levels over \u22120.02 to 0.02 V: one count is 0.610352 µV.");
    EXPECT_EQ(describeStage(MovingMean{50}).english(), "Averages the last 50 samples: calmer, but later.");
    EXPECT_EQ(readingUnit({CountsToVolts{}, SlopeOffset{1, 0, "bar"}, MovingMean{5}}, ChannelKind::analogInput), "bar");
    EXPECT_EQ(readingUnit({PulseCounter{PulseCounter::Mode::rpm, 4, 1, 0}}, ChannelKind::counterInput), "{rpm}");
}

}  // namespace
}  // namespace cruscotto
