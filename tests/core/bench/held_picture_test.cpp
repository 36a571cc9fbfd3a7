#include "core/bench/held_picture.h"

#include <cmath>
#include <numbers>
#include <random>

#include "read_signal.h"
#include "support.h"

namespace cruscotto {
namespace {

struct HeldSignal : test::ReadSignal {
    using test::ReadSignal::ReadSignal;
    [[nodiscard]] std::vector<HeldAt> held(const HoldOn& on, double window, std::size_t most = 1,
                                           double before = 0.25) const {
        return heldAt(source, bench, on, end, seconds(window * (1 - before)), seconds(window), most);
    }
};

double wave(double hz, double t) {
    return std::sin(2 * std::numbers::pi * hz * t);
}
/// How far a moment is from a rise through zero, in periods.
double offRise(double hz, Instant t) {
    const double turns = hz * t.seconds();
    return turns - std::round(turns);
}

TEST(HeldPicture, StandsOnTheSameMomentOfTheWaveFromSlowToFast) {
    struct Case {
        double hz, rate, time, window;
    };
    for (const Case c : {Case{0.05, 20, 100, 30}, Case{12, 5000, 10, 0.25}, Case{4000, 100'000, 2, 1e-3}}) {
        SCOPED_TRACE(c.hz);
        for (const double more : {0.0, 0.13, 0.31}) {  // whenever it is looked at
            HeldSignal s(c.rate, c.time + more / c.hz, [&](double t) { return wave(c.hz, t); });
            const auto found = s.held({"in"}, c.window);
            ASSERT_EQ(found.size(), 1U);
            EXPECT_NEAR(offRise(c.hz, found[0].at), 0, 0.003);
            EXPECT_NEAR(found[0].level, 0, 0.01) << "the middle of what is seen";
            EXPECT_LE(found[0].at + seconds(0.75 * c.window), s.end) << "the whole picture is there";
            EXPECT_GT(found[0].at + seconds(0.75 * c.window + 1.01 / c.hz), s.end) << "and no newer one";
            HoldOn fall{"in", 0.5, false};
            const auto falls = s.held(fall, c.window);
            ASSERT_EQ(falls.size(), 1U);
            EXPECT_NEAR(offRise(c.hz, falls[0].at - seconds(150.0 / 360 / c.hz)), 0, 0.005) << "through a half, down";
        }
    }
}

TEST(HeldPicture, NoiseAboutTheLevelIsNoCrossing) {
    std::mt19937 random(1);
    std::normal_distribution<double> normal(0, 0.03);
    const HeldSignal s(5000, 6, [&](double t) { return wave(5, t) + normal(random); });
    const auto found = s.held({"in", 0.0}, 1, 10);
    ASSERT_EQ(found.size(), 10U);
    for (std::size_t i = 0; i < found.size(); ++i) {
        EXPECT_NEAR(offRise(5, found[i].at), 0, 0.02);
        if (i > 0) EXPECT_NEAR((found[i - 1].at - found[i].at).seconds(), 0.2, 0.006) << "each once, the newest first";
    }
}

TEST(HeldPicture, SaysWhereThereIsNothingToStandOn) {
    const HeldSignal still(100, 20, [](double) { return 3.0; });
    EXPECT_TRUE(still.held({"in"}, 1).empty());
    const HeldSignal s(100, 20, [](double t) { return wave(1, t); });
    EXPECT_TRUE(s.held({"in", 2.0}, 1).empty()) << "it never gets there";
    EXPECT_TRUE(s.held({"nobody"}, 1).empty());
    EXPECT_EQ(s.held({"in", 0.5}, 1).size(), 1U);
}

TEST(HeldPicture, PicturesOfOneWaveLieOverEachOther) {
    std::mt19937 random(2);
    std::normal_distribution<double> normal(0, 0.1);
    const HeldSignal s(5000, 8, [&](double t) { return wave(5, t) + normal(random); });
    const SignalSpec& signal = *s.bench.signal("in");
    std::vector<std::vector<double>> pictures;
    for (const HeldAt& at : s.held({"in", 0.0}, 0.5, 16))
        pictures.push_back(pictureOf(s.source, signal, at.at - milliseconds(125), milliseconds(1), 500));
    ASSERT_EQ(pictures.size(), 16U);
    const PictureSpread spread = spreadOf(pictures);
    for (std::size_t i = 0; i < 500; ++i) {
        const double t = (static_cast<double>(i) - 125) * 1e-3;
        EXPECT_NEAR(spread.mean[i], wave(5, t), 0.25) << i;
        EXPECT_LE(spread.low[i], spread.mean[i]);
        EXPECT_GE(spread.high[i], spread.mean[i]);
    }
    double one = 0, mean = 0;
    for (std::size_t i = 0; i < 500; ++i) {
        const double t = (static_cast<double>(i) - 125) * 1e-3;
        one += std::pow(pictures[0][i] - wave(5, t), 2) / 500;
        mean += std::pow(spread.mean[i] - wave(5, t), 2) / 500;
    }
    EXPECT_LT(mean, one) << "they have less noise together, but for where each stands";
    const auto none = pictureOf(s.source, signal, Instant{} + seconds(100), milliseconds(1), 10);
    EXPECT_TRUE(std::ranges::all_of(none, [](double v) { return std::isnan(v); }));
}

}  // namespace
}  // namespace cruscotto
