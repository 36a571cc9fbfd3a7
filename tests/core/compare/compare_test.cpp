// Runs laid over each other: where they lie, what differs, and the band that several make.
#include <cmath>
#include <deque>
#include <numbers>
#include <random>

#include "core/compare/band.h"
#include "core/compare/difference.h"
#include "core/compare/run_table.h"
#include "read_signal.h"

namespace cruscotto {
namespace {

using test::ReadSignal;

/// A ramp up at `at` seconds to `top`, with noise of its own.
auto rampOf(double at, double top, double noise, unsigned seed) {
    std::mt19937 random(seed);
    std::normal_distribution<double> spread(0, 1);
    return [=](double t) mutable { return top * std::clamp(t - at, 0.0, 2.0) / 2 + noise * spread(random); };
}
ReadSignal ramp(double at, double top, double noise, unsigned seed, double lasts = 20) {
    return ReadSignal(1000, lasts, rampOf(at, top, noise, seed));
}
LaidOver laid(const ReadSignal& run, double shift = 0) {
    return {&run.source, seconds(shift)};
}
std::vector<DifferencePart> between(const ReadSignal& a, const ReadSignal& b, double shift = 0) {
    const LaidOver other = laid(b, shift);
    return differencesBetween(a.bench, a.source, b.bench, other, commonSpan(a.source, other)).front().parts;
}
const DifferencePart* part(const std::vector<DifferencePart>& parts, DifferenceKind kind) {
    const auto it = std::ranges::find(parts, kind, &DifferencePart::kind);
    return it == parts.end() ? nullptr : &*it;
}

TEST(Alignment, IsByTheFirstCrossingBetweenTwoReadings) {
    const ReadSignal a = ramp(5, 4, 0, 1), b = ramp(8.25, 4, 0, 2);
    const Crossing up{"in", 2.0005, true};
    const auto at = firstCrossing(a.source, up);
    ASSERT_TRUE(at);
    EXPECT_NEAR(at->seconds(), 6.00025, 1e-6) << "half way up, between two readings";
    const auto shift = shiftFor(Alignment::crossing, a.source, {}, b.source, {}, up);
    ASSERT_TRUE(shift);
    EXPECT_NEAR(shift.value().seconds(), -3.25, 1e-6);
    EXPECT_FALSE(firstCrossing(a.source, {"in", 2, false})) << "it never falls";
    EXPECT_FALSE(firstCrossing(a.source, {"in", 5, true})) << "nor gets there";
    EXPECT_FALSE(firstCrossing(a.source, {"nobody", 2, true}));
    const auto never = shiftFor(Alignment::crossing, a.source, {}, b.source, {}, {"in", 9, true});
    ASSERT_FALSE(never);
    EXPECT_NE(never.error().english().find("9"), std::string::npos);
}

TEST(Alignment, IsFoundInALongRunByItsSummariesFirst) {
    // Noise that nearly reaches the level must not be taken for it.
    const ReadSignal a = ramp(600.5, 4, 0.01, 3, 900);
    const auto at = firstCrossing(a.source, {"in", 2, true});
    ASSERT_TRUE(at);
    EXPECT_NEAR(at->seconds(), 601.5, 0.02);
}

TEST(Alignment, IsByMarksByBeginningsAndByTheTimeOfDay) {
    ReadSignal a = ramp(5, 4, 0, 1), b = ramp(5, 4, 0, 2);
    EXPECT_EQ(shiftFor(Alignment::beginning, a.source, {}, b.source, {}).value().ns, 0);
    EXPECT_EQ(
        shiftFor(Alignment::firstMark, a.source, Instant{} + seconds(3), b.source, Instant{} + seconds(1)).value(),
        seconds(2));
    EXPECT_FALSE(shiftFor(Alignment::firstMark, a.source, {}, b.source, Instant{}));
    EXPECT_FALSE(shiftFor(Alignment::firstMark, a.source, Instant{}, b.source, {}));
    constexpr std::int64_t noon = 1'800'000'000, day = 86'400, second = 1'000'000'000;
    a.source.setAnchor({{}, noon * second});
    b.source.setAnchor({{}, (noon + 3 * day + 7) * second});
    EXPECT_NEAR(shiftFor(Alignment::timeOfDay, a.source, {}, b.source, {}).value().seconds(), 7, 1e-6)
        << "three days later and seven seconds";
}

TEST(Difference, IsNoneBetweenTwoRunsOfTheSame) {
    for (unsigned seed = 1; seed < 40; ++seed) {
        const auto parts = between(ramp(5, 4, 0.05, seed), ramp(5, 4, 0.05, 100 + seed));
        EXPECT_TRUE(parts.empty()) << seed << ": " << parts.front().words.english();
    }
}

TEST(Difference, IsToldAsLevelNoiseTimingAndShape) {
    const ReadSignal a = ramp(5, 4, 0.05, 1);
    std::mt19937 random(9);
    std::normal_distribution<double> spread(0, 0.05);
    const ReadSignal higher(1000, 20, [&](double t) { return 0.3 + 2 * std::clamp(t - 5, 0.0, 2.0) + spread(random); });
    auto parts = between(a, higher);
    ASSERT_EQ(parts.size(), 1U);
    EXPECT_EQ(parts[0].kind, DifferenceKind::level);
    EXPECT_NEAR(parts[0].amount, 0.3, 0.005);
    EXPECT_NEAR(parts[0].size, 0.3 / 4.3, 0.01);

    parts = between(a, ramp(5, 4, 0.1, 2));
    ASSERT_EQ(parts.size(), 1U);
    EXPECT_EQ(parts[0].kind, DifferenceKind::noise);
    EXPECT_NEAR(parts[0].amount, 2, 0.06);

    parts = between(a, ramp(6.5, 4, 0.05, 3));
    const DifferencePart* timing = part(parts, DifferenceKind::timing);
    ASSERT_TRUE(timing);
    EXPECT_NEAR(timing->amount, 1.5, 0.02);
    EXPECT_EQ(part(parts, DifferenceKind::shape), nullptr) << "all of it is timing";
    EXPECT_EQ(part(between(a, ramp(6.5, 4, 0.05, 3), -1.5), DifferenceKind::timing), nullptr) << "once it is laid so";

    const ReadSignal bump(1000, 20, [&](double t) {
        return 2 * std::clamp(t - 5, 0.0, 2.0) + (t > 12 && t < 13 ? 1 : 0) + spread(random);
    });
    parts = between(a, bump);
    const DifferencePart* shape = part(parts, DifferenceKind::shape);
    ASSERT_TRUE(shape);
    EXPECT_NEAR(shape->amount, std::sqrt(0.05 * 0.95), 0.03) << "one in twenty seconds, about the mean";
}

struct Door : ReadSignal {
    Door(double closes, double opens)
        : ReadSignal(100, 20, [=](double t) { return t >= closes && t < opens ? 1.0 : 0.0; }) {
        SignalSpec s = *bench.signals.front();
        s.kind = ChannelKind::digitalInput;
        bench = withSignal(bench, s);
    }
};

TEST(Difference, IsToldOfStatesAndOfSignalsThatOnlyOneHas) {
    const Door a(5, 10), b(7, 14);
    const auto parts = between(a, b);
    const DifferencePart* longer = part(parts, DifferenceKind::level);
    ASSERT_TRUE(longer);
    EXPECT_NEAR(longer->amount, 0.1, 0.002) << "a tenth of the time more";
    EXPECT_TRUE(between(a, Door(5, 10)).empty());

    Bench without = b.bench;
    without.signals.clear();
    const LaidOver other = laid(b);
    const auto missing = differencesBetween(a.bench, a.source, without, other, commonSpan(a.source, other));
    ASSERT_EQ(missing.size(), 1U);
    EXPECT_EQ(missing[0].parts.at(0).kind, DifferenceKind::missing);
    EXPECT_EQ(differencesBetween(without, a.source, b.bench, other, commonSpan(a.source, other)).size(), 1U);
}

TEST(Difference, OfBenchesIsASentenceForEachPlace) {
    Bench a = test::exampleBench("pump-bench");
    EXPECT_TRUE(writtenDifferences(a, a).empty());
    Bench b = withoutSignal(a, "spare");
    SignalSpec flow = *b.signal("flow");
    flow.limits.high = 77;
    b = withSignal(b, flow);
    b.windowSeconds = 12;
    const auto told = writtenDifferences(a, b);
    const auto says = [&](const std::string& words) {
        return std::ranges::any_of(told, [&](const Text& t) { return t.english().find(words) != std::string::npos; });
    };
    EXPECT_TRUE(says("signals › spare: not in the other"));
    EXPECT_TRUE(says("77"));
    EXPECT_FALSE(says("window")) << "how it is shown measures nothing";
    EXPECT_EQ(writtenDifferences(RunNotes{"A", "", "", ""}, RunNotes{"B", "", "", ""}).size(), 1U);
}

struct GoodRuns {
    std::deque<ReadSignal> runs;
    std::vector<LaidOver> laidOver;
    explicit GoodRuns(unsigned n, double noise = 0.05) {
        std::mt19937 random(n);
        std::normal_distribution<double> between(0, 0.1);
        for (unsigned i = 0; i < n; ++i) runs.emplace_back(1000, 20, rampOf(5, 4 + between(random), noise, i));
        for (const ReadSignal& run : runs) laidOver.push_back(laid(run));
    }
};
constexpr std::size_t places = 400;
const ColumnRequest grid{{}, milliseconds(50), places};

TEST(Band, HoldsWhatIsLikeTheGoodRunsAndTellsWhatIsNot) {
    const GoodRuns good(6);
    const RunBand band = bandOf("in", good.laidOver, grid);
    EXPECT_EQ(band.at[200].runs, 6U);
    EXPECT_NEAR(band.at[300].mean, 4, 0.15);
    EXPECT_GT(band.at[300].spread, 0.05);
    EXPECT_LT(band.at[40].spread, 0.03) << "before the ramp there is only the noise of means";
    const BandVerdict like = judgedBy(band, {}, ramp(5, 4, 0.05, 77).source, "in");
    EXPECT_TRUE(like.fine) << like.outsideShare;
    EXPECT_EQ(like.judged, places);

    const ReadSignal late = ramp(6, 4, 0.05, 78);
    const BandVerdict not_ = judgedBy(band, {}, late.source, "in");
    EXPECT_FALSE(not_.fine);
    ASSERT_TRUE(not_.firstOutside);
    EXPECT_NEAR(not_.firstOutside->seconds(), 5.1, 0.2);
    EXPECT_LT(not_.farthest, -1) << "below it";
    EXPECT_NE(verdictText(not_, "bar", {}).english().find("below it by"), std::string::npos);
    BandLimits wide;
    wide.allowance = 3;
    EXPECT_TRUE(judgedBy(band, wide, late.source, "in").fine);
}

TEST(Band, OfFewerThanTwoRunsIsNone) {
    const GoodRuns one(1);
    const RunBand band = bandOf("in", one.laidOver, grid);
    EXPECT_TRUE(std::isnan(band.at[100].mean));
    const BandVerdict v = judgedBy(band, {}, one.runs[0].source, "in");
    EXPECT_EQ(v.judged, 0U);
    EXPECT_TRUE(v.fine);
}

TEST(RunTable, TellsTheMeasuresOfAllAndWhatLiesBetween) {
    const GoodRuns good(4);
    std::vector<std::pair<const Bench*, LaidOver>> of;
    for (std::size_t i = 0; i < 4; ++i) of.emplace_back(&good.runs[i].bench, good.laidOver[i]);
    const auto table = runTable(of, "in", "", {Instant{} + seconds(10), Instant{} + seconds(20)});
    ASSERT_TRUE(table.ok());
    const auto row = std::ranges::find(table.value(), "mean", &RunTableRow::measure);
    ASSERT_NE(row, table.value().end());
    ASSERT_EQ(row->values, 4U);
    double mean = 0;
    for (const Measure& m : row->of) mean += m.value / 4;
    EXPECT_NEAR(row->mean, mean, 1e-12);
    EXPECT_GT(row->deviation, 0.01);
    EXPECT_LT(row->least, row->mean);
    EXPECT_GT(row->greatest, row->mean);
    EXPECT_EQ(std::ranges::find(table.value(), "frequency", &RunTableRow::measure), table.value().end())
        << "nothing repeats";
    EXPECT_FALSE(runTable(of, "nobody", "", {Instant{}, Instant{} + seconds(1)}).ok());
}

}  // namespace
}  // namespace cruscotto
