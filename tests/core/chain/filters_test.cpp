#include <cmath>
#include <complex>
#include <random>

#include "core/chain/chain.h"
#include "core/chain/stage_kind.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

constexpr double twoPi = 6.283185307179586;

std::vector<double> filtered(const Stage& stage, const std::vector<double>& in, double rate) {
    auto evaluator = ChainEvaluator::make({stage}, ChannelKind::analogInput);
    EXPECT_TRUE(evaluator) << evaluator.error().english();
    Readings out;
    auto block = std::make_shared<Block>(*test::clockedBlock(test::oneChannelGroup(rate), 0, {0}, in));
    block->dtNs = 1e9 / rate;
    evaluator.value().process(*block, 0, out);
    return out.values;
}

std::vector<double> sine(double hz, double rate, std::size_t n) {
    std::vector<double> out;
    for (std::size_t i = 0; i < n; ++i) out.push_back(std::sin(twoPi * hz * double(i) / rate));
    return out;
}

/// How much of a sine of this frequency is left, by its last half.
double gain(const Stage& stage, double hz, double rate = 10'000) {
    const std::vector<double> in = sine(hz, rate, 40'000), out = filtered(stage, in, rate);
    std::complex<double> a, b;
    for (std::size_t i = in.size() / 2; i < in.size(); ++i) {
        const auto turn = std::polar(1.0, -twoPi * hz * double(i) / rate);
        a += in[i] * turn;
        b += out[i] * turn;
    }
    return std::abs(b) / std::abs(a);
}

TEST(LowPass, FollowsAStepByItsTimeConstant) {
    std::vector<double> step(5000, 1);
    step[0] = 0;
    const auto out = filtered(Stage::of("low-pass", {{"time-constant-s", 0.1}}), step, 1000);
    EXPECT_EQ(out[0], 0) << "the first sample counts as if it had always been there";
    EXPECT_NEAR(out[100], 1 - std::exp(-1), 1e-12);
    EXPECT_NEAR(out[4999], 1, 1e-12);
}

TEST(Butterworth, LosesThreeDecibelsAtItsCornerAndSixForEachOrderAndOctave) {
    for (const int order : {1, 2, 3, 4}) {
        const Stage stage = Stage::of("butterworth", {{"order", double(order)}, {"corner-hz", 100.0}});
        EXPECT_NEAR(gain(stage, 100), std::sqrt(0.5), 1e-3) << order;
        EXPECT_NEAR(gain(stage, 10), 1, 0.006) << order;
        // The transform's own answer: |H|^2 = 1 / (1 + (tan(pi f T) / tan(pi fc T))^2n).
        const double ratio = std::tan(twoPi / 2 * 400 / 10'000) / std::tan(twoPi / 2 * 100 / 10'000);
        EXPECT_NEAR(gain(stage, 400), 1 / std::sqrt(1 + std::pow(ratio, 2 * order)), 1e-4) << order;
    }
    const Stage tooHigh = Stage::of("butterworth", {{"corner-hz", 6000.0}});
    EXPECT_NEAR(gain(tooHigh, 1000), 1, 1e-9) << "above half the sampling rate there is nothing to take away";
}

TEST(Butterworth, BeginsAsIfTheFirstSampleHadAlwaysBeenThere) {
    const auto out = filtered(Stage::of("butterworth", {{"order", 4.0}}), std::vector<double>(200, 7.5), 1000);
    for (const double v : out) ASSERT_NEAR(v, 7.5, 1e-9);
}

TEST(Notch, TakesTheMainsAndItsHarmonicsOutAndLeavesTheRest) {
    const Stage stage = Stage::of("notch", {{"harmonics", 3.0}, {"quality", 10.0}});
    for (const double hz : {50., 100., 150.}) EXPECT_LT(gain(stage, hz), 1e-3) << hz;
    for (const double hz : {5., 200., 1000.}) EXPECT_NEAR(gain(stage, hz), 1, 0.02) << hz;
}

TEST(MovingRms, OfASineIsItsAmplitudeOverTheRootOfTwo) {
    const auto out = filtered(Stage::of("moving-rms", {{"samples", 200.0}}), sine(50, 10'000, 2000), 10'000);
    EXPECT_NEAR(out.back(), std::sqrt(0.5), 1e-9);
}

TEST(Derivative, IsTheSlopeASecond) {
    std::vector<double> ramp;
    for (int i = 0; i < 100; ++i) ramp.push_back(3 + 0.02 * i);
    const auto out = filtered(Stage::of("derivative", {{"samples", 10.0}}), ramp, 100);
    EXPECT_TRUE(std::isnan(out[9]));
    for (std::size_t i = 10; i < out.size(); ++i) ASSERT_NEAR(out[i], 2, 1e-9);
    EXPECT_EQ(unitAfter(Stage::of("derivative"), "bar"), "bar/s");
}

TEST(Level, IsAStateWithHysteresisInBothDirections) {
    const Stage up = Stage::of("level", {{"on", 2.0}, {"off", 1.0}});
    EXPECT_EQ(filtered(up, {1.5, 2, 1.5, 0.9, 1.5}, 10), (std::vector<double>{0, 1, 1, 0, 0}));
    const Stage down = Stage::of("level", {{"on", 1.0}, {"off", 2.0}});
    EXPECT_EQ(filtered(down, {1.5, 1, 1.5, 2.1, 1.5}, 10), (std::vector<double>{0, 1, 1, 0, 0}));
}

TEST(Debounce, OfManyBouncesOneChangeIsLeft) {
    auto evaluator = ChainEvaluator::make({Stage::of("debounce", {{"time-s", 0.03}})}, ChannelKind::digitalInput);
    ASSERT_TRUE(evaluator);
    std::vector<Instant> times;
    for (int i = 0; i < 10; ++i) times.push_back({i * 10'000'000});
    Readings out;
    evaluator.value().process({0, 1, 0, 1, 1, 1, 1, 1, 0, 1}, times, out);
    EXPECT_EQ(out.values, (std::vector<double>{0, 0, 0, 0, 0, 0, 1, 1, 1, 1}));
}

/// Three hits, the second one 5 ms behind the first, then a pause and one more; each rings for 4 ms.
std::vector<double> hits() {
    std::vector<double> out(3000, 0);
    for (const auto& [at, height] : {std::pair(100, 0.3), {105, 0.2}, {200, 0.4}, {2000, 0.1}})
        for (int k = 0; k < 4; ++k) out[std::size_t(at + k)] = k % 2 ? 0 : height * (1 - 0.2 * k);
    return out;
}

TEST(Events, RingingCountsOnceAndAPauseClosesAGroup) {
    const Stage events =
        Stage::of("events", {{"threshold", 0.05}, {"hysteresis", 0.02}, {"dead-time-s", 0.0045}, {"pause-s", 0.5}});
    EXPECT_EQ(filtered(events, hits(), 1000).back(), 4);
    EXPECT_GT(filtered(events.with("dead-time-s", 0.0), hits(), 1000).back(), 4) << "without a dead time it rings";
    std::vector<double> lost = hits();
    lost.back() = std::nan("");
    EXPECT_EQ(filtered(events, lost, 1000).back(), 4) << "what has been counted stays, whatever comes";
    const auto groups = filtered(events.with("reads", "group"), hits(), 1000);
    EXPECT_EQ(groups[500], 0) << "the first group is not closed yet";
    EXPECT_EQ(groups[900], 3);
    EXPECT_EQ(groups.back(), 1);
    const auto height = filtered(events.with("reads", "height"), hits(), 1000);
    EXPECT_TRUE(std::isnan(height[0]));
    EXPECT_DOUBLE_EQ(height[300], 0.4);
    EXPECT_DOUBLE_EQ(height.back(), 0.1);
    EXPECT_DOUBLE_EQ(filtered(events.with("reads", "rate").with("window-s", 1.0), hits(), 1000)[600], 3);
    EXPECT_EQ(unitAfter(events.with("reads", "height"), "V"), "V");
}

TEST(StageKinds, GiveTheSameHoweverTheStreamIsCutIntoBlocks) {
    std::mt19937 random(11);
    std::vector<double> raw;
    for (int i = 0; i < 3000; ++i)
        raw.push_back(random() % 50 == 0 ? std::nan("") : 0.004 * (i % 200) + double(random() % 1000) * 1e-4);
    for (const StageKind* kind : stageKinds()) {
        ChainSpec chain;
        if (kind->takes)
            chain.push_back(slopeOffset(1, 0, kind->takes));
        else if (kind->key == "current-loop")
            chain.push_back(slopeOffset(10, 0, "mA"));
        else if (kind->key == "convert-unit")
            chain.push_back(slopeOffset(1, 0, "1"));
        chain.emplace_back(*kind);
        const auto through = [&](bool cut) {
            auto evaluator = ChainEvaluator::make(chain, ChannelKind::analogInput);
            EXPECT_TRUE(evaluator) << kind->key << ": " << evaluator.error().english();
            std::vector<std::pair<double, Quality>> out;
            if (!evaluator) return out;
            const auto group = test::oneChannelGroup(1000);
            Readings readings;
            for (std::size_t i = 0; i < raw.size();) {
                const std::size_t n = cut ? std::min<std::size_t>(1 + random() % 97, raw.size() - i) : raw.size();
                const std::vector<double> part(raw.begin() + std::ptrdiff_t(i), raw.begin() + std::ptrdiff_t(i + n));
                evaluator.value().process(*test::clockedBlock(group, i, {std::int64_t(i) * 1'000'000}, part), 0,
                                          readings);
                const std::size_t first = out.size();
                for (const double v : readings.values) out.emplace_back(v, Quality::good);
                for (const QualityInterval& q : readings.quality)
                    for (std::size_t k = q.begin; k < q.end; ++k) out[first + k].second = q.quality;
                i += n;
            }
            return out;
        };
        const auto whole = through(false), parts = through(true);
        ASSERT_EQ(whole.size(), parts.size());
        for (std::size_t i = 0; i < whole.size(); ++i) {
            ASSERT_TRUE(whole[i].first == parts[i].first || (std::isnan(whole[i].first) && std::isnan(parts[i].first)))
                << kind->key << " at " << i << ": " << whole[i].first << " and " << parts[i].first;
            ASSERT_EQ(whole[i].second, parts[i].second) << kind->key << " at " << i;
        }
    }
}

}  // namespace
}  // namespace cruscotto
