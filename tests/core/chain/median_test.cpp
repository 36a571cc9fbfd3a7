#include <algorithm>
#include <cmath>
#include <random>

#include "core/chain/chain.h"
#include "support.h"

namespace cruscotto {
namespace {

Stage median(int samples) {
    return Stage::of("median", {{"samples", double(samples)}});
}

std::vector<double> run(const Stage& stage, const std::vector<double>& raw) {
    auto made = ChainEvaluator::make({stage}, ChannelKind::analogInput);
    EXPECT_TRUE(made);
    Readings out;
    made.value().process(raw, std::vector<Instant>(raw.size()), out);
    return out.values;
}

TEST(Median, ASpikeLeavesNothingBehindAndAnEdgeStaysAnEdge) {
    const auto v = run(median(5), {1, 1, 1, 900, -900, 1, 1, 8, 8, 8, 8});
    EXPECT_EQ(v, (std::vector<double>{1, 1, 1, 1, 1, 1, 1, 1, 1, 8, 8}));
}

TEST(Median, IsThatOfTheSortedWindowWhateverComes) {
    std::mt19937 random(3);
    std::vector<double> raw;
    for (int i = 0; i < 3000; ++i) raw.push_back(random() % 10 == 0 ? std::nan("") : double(random() % 50));
    for (const int n : {3, 4, 31}) {
        const auto v = run(median(n), raw);
        for (int i = 0; i < int(raw.size()); ++i) {
            std::vector<double> window;
            for (int k = std::max(0, i - n + 1); k <= i; ++k)
                if (!std::isnan(raw[std::size_t(k)])) window.push_back(raw[std::size_t(k)]);
            std::ranges::sort(window);
            const std::size_t m = window.size();
            if (m == 0)
                EXPECT_TRUE(std::isnan(v[std::size_t(i)]));
            else
                ASSERT_EQ(v[std::size_t(i)], (window[(m - 1) / 2] + window[m / 2]) / 2) << n << " at " << i;
        }
    }
}

TEST(Median, DoesNotCareHowTheStreamIsCutAndForgetsAcrossAGap) {
    std::vector<double> raw;
    for (int i = 0; i < 200; ++i) raw.push_back(std::fmod(i * 37.0, 23));
    const auto whole = run(median(7), raw);
    auto made = ChainEvaluator::make({median(7)}, ChannelKind::analogInput);
    Readings part;
    std::vector<double> joined;
    for (std::size_t i = 0, n = 1; i < raw.size(); i += n, n = n % 11 + 1) {
        n = std::min(n, raw.size() - i);
        made.value().process({raw.begin() + std::ptrdiff_t(i), raw.begin() + std::ptrdiff_t(i + n)},
                             std::vector<Instant>(n), part);
        joined.insert(joined.end(), part.values.begin(), part.values.end());
    }
    EXPECT_EQ(joined, whole);
    made.value().reset();
    made.value().process({400}, {Instant{}}, part);
    EXPECT_EQ(part.values[0], 400);
}

}  // namespace
}  // namespace cruscotto
