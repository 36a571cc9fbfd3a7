#include "core/chain/chain.h"
#include "core/bench/bench.h"
#include "core/chain/stage_kind.h"

#include <cmath>
#include <random>
#include <set>

#include "support.h"
#include "test_stages.h"

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
    const Readings r = run({countsToVolts(16, -10, 10)}, {0, 1, -1, 16384, -32768, 32767});
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
    const Readings r = run({countsToVolts(10, 0, 5, "unipolar")}, {0, 512, 1023, 1});
    EXPECT_DOUBLE_EQ(r.values[1], 2.5);
    EXPECT_DOUBLE_EQ(r.values[2], 5 - 5.0 / 1024);
    EXPECT_DOUBLE_EQ(r.values[3], 5.0 / 1024);
    EXPECT_EQ(r.quality, (std::vector<QualityInterval>{{0, 1, Quality::clipped}, {2, 3, Quality::clipped}}));
}

TEST(Scaling, LineTwoPointsFormulaAndUnit) {
    EXPECT_DOUBLE_EQ(run({slopeOffset(2, 1, "bar")}, {3}).values[0], 7);
    EXPECT_DOUBLE_EQ(run({twoPoints(1, 0, 5, 10, "bar", "")}, {2}).values[0], 2.5);
    EXPECT_DOUBLE_EQ(run({formula("x^2+sqrt(x)", "1")}, {4}).values[0], 18);
    EXPECT_DOUBLE_EQ(run({slopeOffset(1, 0, "bar"), convertUnit("kPa")}, {1.5}).values[0], 150);
}

TEST(Formula, MarksWhatHasNoValueAndKeepsGoing) {
    const Readings r = run({formula("1/x", "1")}, {2, 0, 4});
    EXPECT_DOUBLE_EQ(r.values[0], 0.5);
    EXPECT_TRUE(std::isnan(r.values[1]));
    EXPECT_DOUBLE_EQ(r.values[2], 0.25);
    EXPECT_EQ(r.quality, (std::vector<QualityInterval>{{1, 2, Quality::outOfRange}}));
}

TEST(Formula, IsDataAndSaysWhatIsWrongWithIt) {
    for (const char* wrong : {"", "2*", "y+1", "system(1)", "x;x", "\"a\"", "sin("}) {
        const auto made = ChainEvaluator::make({formula(wrong, "1")}, ChannelKind::analogInput);
        ASSERT_FALSE(made.ok()) << wrong;
        EXPECT_NE(made.error().english().find("formula"), std::string::npos) << made.error().english();
    }
    EXPECT_FALSE(checkStage(formula(std::string(2000, '('), "1"), "1").ok());
    EXPECT_FALSE(checkStage(formula(std::string(900, '('), "1"), "1").ok());
}

TEST(MovingMean, AveragesTheLastSamplesFewerAtTheStart) {
    const Readings r = run({movingMean(3)}, {3, 5, 7, 9, 11});
    EXPECT_EQ(r.values, (std::vector<double>{3, 4, 5, 7, 9}));
}

TEST(MovingMean, LeavesOutWhatIsNoNumber) {
    const Readings r = run({formula("1/(x-5)+x*0+x", "1"), movingMean(2)}, {4, 5, 6});
    EXPECT_DOUBLE_EQ(r.values[1], r.values[0]);  // of two, one has no value
    EXPECT_DOUBLE_EQ(r.values[2], 7);
}

TEST(MovingMean, IsTheSameHoweverTheSamplesAreCutIntoBlocks) {
    std::vector<double> raw;
    for (int i = 0; i < 1000; ++i) raw.push_back(std::sin(i * 0.1) * 1000);
    const std::vector<double> whole = run({movingMean(37)}, raw).values;
    auto made = ChainEvaluator::make({movingMean(37)}, ChannelKind::analogInput);
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
    auto made = ChainEvaluator::make({movingMean(4)}, ChannelKind::analogInput);
    const auto group = oneChannelGroup(1000);
    Readings out;
    made.value().process(*clockedBlock(group, 0, {0}, std::vector<double>{100, 100, 100}), 0, out);
    auto after = std::make_shared<Block>(*clockedBlock(group, 9, {9'000'000}, std::vector<double>{1, 3}));
    after->gapBefore = Gap{{3'000'000}, {9'000'000}, 6, "away"};
    made.value().process(*after, 0, out);
    EXPECT_EQ(out.values, (std::vector<double>{1, 2}));
}

TEST(ValidRange, MarksAndKeepsTheNumber) {
    const Readings r = run({validRange(0, 10)}, {-1, 0, 10, 10.5});
    EXPECT_EQ(r.values, (std::vector<double>{-1, 0, 10, 10.5}));
    EXPECT_EQ(r.quality, (std::vector<QualityInterval>{{0, 1, Quality::outOfRange}, {3, 4, Quality::outOfRange}}));
}

TEST(Invert, ASwitchToGroundReadsOnWhenLow) {
    EXPECT_EQ(run({invert()}, {0, 1, 0}, ChannelKind::digitalInput).values, (std::vector<double>{1, 0, 1}));
}

/// A running count of pulses at `hz`, read `rate` times a second.
std::vector<double> pulses(double hz, double rate, double from, double to, double start = 0) {
    std::vector<double> out;
    for (double t = from; t < to - 1e-9; t += 1 / rate) out.push_back(std::floor(start + (t - from) * hz));
    return out;
}

TEST(PulseCounter, FrequencyAndTurnsAMinute) {
    const auto counts = pulses(193.3333, 100, 0, 3);
    EXPECT_NEAR(run({pulseCounter("frequency", 1, 2, 0.3)}, counts, ChannelKind::counterInput, 100).values.back(),
                193.33, 2.5);
    EXPECT_NEAR(run({pulseCounter("rpm", 4, 2, 0.3)}, counts, ChannelKind::counterInput, 100).values.back(), 2900, 40);
}

TEST(PulseCounter, IsFinerThanOneSampleOfTheEdgesTimes) {
    // Edges are known to 10 ms only; over half a second the first and last alone would be off by up to 4 %.
    const auto counts = pulses(135.337, 100, 0, 4);
    const Readings r = run({pulseCounter("frequency", 1, 2, 0.5)}, counts, ChannelKind::counterInput, 100);
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
    auto made = ChainEvaluator::make({pulseCounter("frequency", 1, 2, 0.1)}, ChannelKind::counterInput);
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
        const Readings r =
            run({pulseCounter("frequency", 1, 2, 0.5)}, pulses(hz, 100, 0, 2, 0.4), ChannelKind::counterInput, 100);
        const auto first = std::ranges::find_if(r.values, [](double v) { return std::isfinite(v); });
        EXPECT_LT(first - r.values.begin(), 26) << hz << ": a quarter of a second is enough for a first reading";
        for (auto v = first; v != r.values.end(); ++v) ASSERT_NEAR(*v, hz, 0.06 * hz) << v - r.values.begin();
    }
}

TEST(PulseCounter, SlowPulsesAreTimedFromEdgeToEdge) {
    // 0.8 pulses a second, read 100 times a second: counting in a window would say 0 or 3.
    const Readings r =
        run({pulseCounter("frequency", 1, 5, 0.25)}, pulses(0.8, 100, 0, 10), ChannelKind::counterInput, 100);
    EXPECT_NEAR(r.values.back(), 0.8, 0.01);
}

TEST(PulseCounter, SilenceBecomesZeroInsteadOfFreezing) {
    auto counts = pulses(50, 100, 0, 2);
    counts.resize(500, counts.back());  // three seconds without a pulse
    const Readings r = run({pulseCounter("frequency", 1, 1, 0.2)}, counts, ChannelKind::counterInput, 100);
    EXPECT_NEAR(r.values[199], 50, 1.5);
    EXPECT_LE(r.values[250], 2.1) << "half a second without a pulse cannot be faster than two a second";
    EXPECT_GT(r.values[250], 0);
    EXPECT_EQ(r.values[310], 0);
    EXPECT_EQ(r.values.back(), 0);
}

TEST(PulseCounter, GoesOnAfterASilenceWithoutASpike) {
    std::vector<double> counts(300, 7);
    for (const double c : pulses(50, 100, 0, 1, 8)) counts.push_back(c);
    const Readings r = run({pulseCounter("frequency", 1, 1, 0.2)}, counts, ChannelKind::counterInput, 100);
    EXPECT_EQ(r.values[299], 0);
    for (std::size_t i = 300; i < r.values.size(); ++i) EXPECT_LT(r.values[i], 56) << i;
    EXPECT_NEAR(r.values.back(), 50, 1.5);
}

TEST(PulseCounter, CountsAcrossTheWrapOfThirtyTwoBits) {
    const Readings r =
        run({pulseCounter("count", 1, 2, 0)}, {4294967290.0, 4294967295.0, 3, 10}, ChannelKind::counterInput);
    EXPECT_EQ(r.values, (std::vector<double>{0, 5, 9, 16}));
}

TEST(PulseCounter, PassesOverWhatCannotBeACount) {
    const Readings r =
        run({pulseCounter("count", 1, 2, 0)}, {1, std::nan(""), -5, 1e300, 3}, ChannelKind::counterInput);
    EXPECT_EQ(r.values, (std::vector<double>{0, 0, 0, 0, 2}));
}

TEST(StageValues, TraceANumberThroughTheChain) {
    auto made = ChainEvaluator::make({countsToVolts(16, -10, 10), slopeOffset(2.5, -2.5, "bar"), convertUnit("kPa")},
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
         {Case{countsToVolts(0, -1, 1), "Bits must be a whole number from 1 to 32"},
          Case{countsToVolts(33, -1, 1), "Bits must be a whole number from 1 to 32"},
          Case{countsToVolts(16, 5, 5), "begin below"}, Case{slopeOffset(std::nan(""), 0, "1"), "finite"},
          Case{twoPoints(2, 0, 2, 1, "1", ""), "move the signal"},
          Case{movingMean(0), "Samples must be a whole number from 1 to 1000000"},
          Case{convertUnit("Cel"), "different things"}, Case{validRange(1, 0), "valid range"},
          Case{pulseCounter("rpm", 0, 2, 0), "more than 0"},
          Case{pulseCounter("rpm", 4, 0, 0), "Silence must be more than 0 and at most 1000000 s"}}) {
        const auto checked = checkStage(c.stage, "bar");
        ASSERT_FALSE(checked.ok()) << stageKey(c.stage);
        EXPECT_NE(checked.error().english().find(c.says), std::string::npos) << checked.error().english();
    }
}

TEST(DescribeStage, SaysWhatItDoesInOneSentence) {
    EXPECT_EQ(describeStage(countsToVolts(10, 0, 5, "unipolar")).english(),
              "10 bits make 1024 levels over 0 to 5 V: one count is 4.88281 mV.");
    EXPECT_EQ(describeStage(countsToVolts(16, -0.02, 0.02)).english(),
              "16 bits make 65536 levels over \u22120.02 to 0.02 V: one count is 0.610352 µV.");
    EXPECT_EQ(describeStage(movingMean(50)).english(), "Averages the last 50 samples: calmer, but later.");
    EXPECT_EQ(readingUnit({countsToVolts(), slopeOffset(1, 0, "bar"), movingMean(5)}, ChannelKind::analogInput), "bar");
    EXPECT_EQ(readingUnit({pulseCounter("rpm", 4, 1, 0)}, ChannelKind::counterInput), "{rpm}");
}

TEST(StageKinds, HaveKeysOfTheirOwnAndValuesToBeginWithThatHold) {
    std::set<std::string> keys;
    for (const StageKind* kind : stageKinds()) {
        EXPECT_TRUE(keys.insert(kind->key).second) << kind->key;
        EXPECT_EQ(stageKind(kind->key), kind);
        std::set<std::string> fields{"stage", "switched-off"};  // what every stage has
        for (const StageField& f : kind->fields) EXPECT_TRUE(fields.insert(f.key).second) << kind->key << f.key;
        for (const StageCapture& c : kind->captures)
            EXPECT_TRUE(fields.contains(c.field) && (c.typedNext.empty() || fields.contains(c.typedNext)) &&
                        fields.contains(c.note));
        EXPECT_TRUE(kind->sentence && kind->make) << kind->key;
    }
    EXPECT_EQ(stageKind("no-such-stage"), nullptr);
}

TEST(StageKinds, WhatIsOfferedCanBePutBehindTheChainAsItIs) {
    for (const ChannelKind kind : {ChannelKind::analogInput, ChannelKind::digitalInput, ChannelKind::counterInput}) {
        const auto offered = offeredStages(kind, "bar");
        EXPECT_FALSE(offered.empty());
        for (const Stage& stage : offered) {
            const auto made = makeProcessor(stage, "bar");
            EXPECT_TRUE(made) << stageKey(stage) << ": " << made.error().english();
            EXPECT_FALSE(describeStage(stage).english().empty());
        }
    }
    EXPECT_TRUE(offeredStages(ChannelKind::digitalOutput, "1").empty());
}

TEST(Stage, IsAValueThatIsChangedInACopy) {
    const Stage first = slopeOffset(2, 1, "bar");
    const Stage second = first.with("slope", 3.0);
    EXPECT_EQ(first, slopeOffset(2, 1, "bar"));
    EXPECT_EQ(second, slopeOffset(3, 1, "bar"));
    EXPECT_NE(first, second);
    EXPECT_NE(first, twoPoints(0, 1, 1, 3, "bar")) << "another kind";
    EXPECT_THROW(static_cast<void>(first.number("gradient")), std::logic_error);
}

/// A stage that takes another signal's reading away from its own.
class Difference : public StageProcessor {
public:
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) s.values[i] -= s.inputs[0][i];
    }
};

const StageKind& differenceFrom() {
    static const StageKind kind{
        .key = "difference-from",
        .title = "Difference",
        .fields = {{.key = "other",
                    .title = "Other",
                    .type = StageField::Type::source,
                    .first = StageSource{},
                    .needed = true,
                    .unit = "mV"}},
        .sentence = [](const Stage&) { return Text("Less the other."); },
        .make = [](const Stage&, const std::string&) { return processor<Difference>(); },
    };
    return kind;
}

TEST(Stage, SwitchedOffLetsThroughWhatComesInTheUnitThatItHas) {
    const Stage scale = slopeOffset(10, 1, "bar"), off = scale.switched(false);
    EXPECT_NE(scale, off);
    EXPECT_EQ(off.switched(true), scale);
    EXPECT_EQ(run({slopeOffset(1, 0, "V"), off}, {3}).values[0], 3);
    EXPECT_EQ(readingUnit({slopeOffset(1, 0, "V"), off}, ChannelKind::analogInput), "V");
    EXPECT_NE(describeStage(off).english().find("Switched off"), std::string::npos);
    EXPECT_EQ(rememberedSamples({movingMean(50).switched(false)}), 0U);
    EXPECT_EQ(reachAfter(off, "V", Scale{0, 5}), (std::optional(Scale{0, 5})));
    // What it needs, and what does not fit, does not matter meanwhile.
    const ChainSpec chain{slopeOffset(1, 0, "V"),
                          Stage(differenceFrom(), {{"other", StageSource{"x"}}}).switched(false)};
    EXPECT_TRUE(neededSignals(chain).empty());
    EXPECT_TRUE(ChainEvaluator::make(chain, ChannelKind::analogInput, {}));
    EXPECT_TRUE(checkStage(formula("x +").switched(false), "V"));
    SignalSpec s;
    s.id = s.name = s.device = s.terminal = "a";
    s.chain = {slopeOffset(1, 0, "V"), off};
    EXPECT_EQ(signalFromJson(signalToJson(s)).value(), s);
}

TEST(Stage, FollowsTheTerminalsRange) {
    EXPECT_EQ(withRange(countsToVolts(12, -10, 10), {0, 5}), countsToVolts(12, 0, 5));
    EXPECT_EQ(withRange(validRange(0, 1), {0, 5}), validRange(0, 1)) << "a range, but not the terminal's";
}

TEST(Sensitivity, IsTheSlopeOfWhatComesOut) {
    EXPECT_NEAR(sensitivity(slopeOffset(-2.5, 7, "bar"), "V", 3), -2.5, 1e-9);
    EXPECT_NEAR(sensitivity(formula("x^3"), "V", 2), 12, 1e-8);
    EXPECT_TRUE(std::isnan(sensitivity(formula("x +"), "V", 2)));
}

TEST(Contributions, OfAConverterAreItsStepOverTheRootOfTwelve) {
    const Stage stage = countsToVolts(16, -10, 10);
    const auto parts = stage.kind().contributions(stage, 0, 0);
    ASSERT_EQ(parts.size(), 1u);
    EXPECT_DOUBLE_EQ(parts[0].standardUncertainty, 20.0 / 65536 / std::sqrt(12.0));
    EXPECT_DOUBLE_EQ(*stage.kind().resolution(stage), 20.0 / 65536);
}

TEST(NeededSignals, ReachTheStageThatNeedsThemInItsUnit) {
    const ChainSpec chain{Stage(differenceFrom(), {{"other", StageSource{"ambient"}}}), slopeOffset(10, 0, "mV"),
                          Stage(differenceFrom(), {{"other", StageSource{"", 0.5, "V"}}}),
                          Stage(differenceFrom(), {{"other", StageSource{"zero"}}})};
    EXPECT_EQ(neededSignals(chain), (std::vector<NeededSignal>{{"ambient", "mV"}, {"zero", "mV"}}));
    auto made = ChainEvaluator::make(chain, ChannelKind::analogInput, {"V", "mV"});
    ASSERT_TRUE(made);
    const std::vector<double> ambient{0.001, 0.002}, zero{100, 200};
    const std::vector<std::span<const double>> needed{ambient, zero};
    Readings out;
    made.value().process({5, 7}, {{0}, {1}}, out, needed);
    EXPECT_EQ(out.values, (std::vector<double>{-560, -650}));
    made.value().process({5, 7}, {{2}, {3}}, out);
    EXPECT_TRUE(std::isnan(out.values[0]) && std::isnan(out.values[1])) << "without them there is no reading";
    const auto wrong = ChainEvaluator::make(chain, ChannelKind::analogInput, {"bar", "mV"});
    ASSERT_FALSE(wrong);
    EXPECT_EQ(wrong.error().english(), "Difference: Other is wanted in mV, and ambient reads in bar.");
    EXPECT_FALSE(checkStage(Stage(differenceFrom(), {{"other", StageSource{"", 1, "bar"}}}), "V"));
}

}  // namespace
}  // namespace cruscotto
