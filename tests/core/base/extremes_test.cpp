#include "core/base/extremes.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <limits>
#include <random>
#include <vector>

namespace cruscotto {
namespace {

TEST(Extremes, AreThoseOfAPlainSearchAtEveryLengthAndNaNIsLeftAside) {
    std::mt19937 random(7);
    std::uniform_int_distribution<int> count(-1000, 1000), sometimes(0, 9);
    for (std::size_t n = 1; n < 200; ++n) {
        std::vector<double> numbers, values(n);
        for (double& v : values) {
            v = count(random);
            numbers.push_back(v);
            if (sometimes(random) == 0) {
                v = std::numeric_limits<double>::quiet_NaN();
                numbers.pop_back();
            }
        }
        const Extremes found = extremesOf(values);
        if (numbers.empty()) {
            EXPECT_GT(found.least, found.most);
            continue;
        }
        EXPECT_EQ(found.least, *std::ranges::min_element(numbers)) << n;
        EXPECT_EQ(found.most, *std::ranges::max_element(numbers)) << n;
    }
    EXPECT_GT(extremesOf({}).least, extremesOf({}).most);
}

}  // namespace
}  // namespace cruscotto
