#include "core/analysis/histogram.h"

#include <cmath>
#include <numeric>
#include <random>

#include "support.h"

namespace cruscotto {
namespace {

TEST(Histogram, CountsAllOfThemAndKnowsWhereTheyLie) {
    std::mt19937 random(1);
    std::normal_distribution<double> normal(5, 2);
    std::vector<double> x(20'000);
    for (double& v : x) v = normal(random);
    x.push_back(std::nan(""));
    const Histogram h = histogramOf(x);
    EXPECT_EQ(h.all, 20'000U);
    EXPECT_EQ(std::accumulate(h.counts.begin(), h.counts.end(), std::size_t{0}), h.all);
    EXPECT_NEAR(h.mean, 5, 0.05);
    EXPECT_NEAR(h.deviation, 2, 0.04);
    EXPECT_NEAR(h.median, 5, 0.06);
    EXPECT_NEAR(h.p5, 5 - 1.645 * 2, 0.1);
    EXPECT_NEAR(h.p95, 5 + 1.645 * 2, 0.1);
    EXPECT_GT(h.counts.size(), 30U);
    EXPECT_LE(h.counts.size(), 102U);
    // each bar holds what lies in it
    const std::size_t bar = h.counts.size() / 2;
    const double low = h.low + h.width * static_cast<double>(bar);
    EXPECT_EQ(h.counts[bar], static_cast<std::size_t>(
                                 std::ranges::count_if(x, [&](double v) { return v >= low && v < low + h.width; })));
}

TEST(Histogram, CountsOfAConverterMakeNoCombs) {
    std::mt19937 random(2);
    std::normal_distribution<double> normal(0, 4);
    std::vector<double> x(50'000);
    for (double& v : x) v = std::round(normal(random)) * 0.25;
    const Histogram h = histogramOf(x);
    const double steps = h.width / 0.25;
    EXPECT_NEAR(steps, std::round(steps), 1e-9) << "a whole number of steps";
    for (std::size_t i = h.counts.size() / 3; i < 2 * h.counts.size() / 3; ++i) EXPECT_GT(h.counts[i], 100U) << i;
}

TEST(Histogram, OneValueIsOneBarAndNothingIsNone) {
    const Histogram one = histogramOf(std::vector<double>(10, 3.5));
    ASSERT_EQ(one.counts.size(), 1U);
    EXPECT_EQ(one.counts[0], 10U);
    EXPECT_EQ(one.median, 3.5);
    EXPECT_TRUE(histogramOf({}).counts.empty());
    EXPECT_TRUE(histogramOf(std::vector<double>(3, std::nan(""))).counts.empty());
}

}  // namespace
}  // namespace cruscotto
