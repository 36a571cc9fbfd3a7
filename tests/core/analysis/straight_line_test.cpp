#include "core/analysis/straight_line.h"

#include <gtest/gtest.h>

#include <array>

namespace cruscotto {
namespace {

TEST(StraightLine, OfPointsOnALineIsThatLine) {
    const StraightLine line = straightLine(std::array{-1.0, 0.0, 4.0}, std::array{5.0, 3.0, -5.0});
    EXPECT_EQ(line.points, 3U);
    EXPECT_NEAR(line.slope, -2, 1e-12);
    EXPECT_NEAR(line.at(0), 3, 1e-12);
    EXPECT_NEAR(line.rest, 0, 1e-20);
    EXPECT_NEAR(line.explained(), 1, 1e-12);
}

TEST(StraightLine, LeavesTheLeastSquares) {
    // Worked by hand: means 1.5 and 2, products 3, squares of x 5.
    const StraightLine line = straightLine(std::array{1.0, 2.0, 2.0, 3.0});
    EXPECT_DOUBLE_EQ(line.spread, 5);
    EXPECT_DOUBLE_EQ(line.slope, 0.6);
    EXPECT_DOUBLE_EQ(line.y, 2);
    EXPECT_DOUBLE_EQ(line.squares, 2);
    EXPECT_NEAR(line.rest, 0.2, 1e-12);
    EXPECT_NEAR(line.explained(), 0.9, 1e-12);
}

TEST(StraightLine, KeepsItsDigitsFarFromZero) {
    const StraightLine line = straightLine(std::array{1e9, 1e9 + 1, 1e9 + 2}, std::array{1e8, 1e8 + 0.5, 1e8 + 1});
    EXPECT_DOUBLE_EQ(line.slope, 0.5);
    EXPECT_DOUBLE_EQ(line.at(1e9 + 4), 1e8 + 2);
}

TEST(StraightLine, OfOnePlaceIsLevel) {
    EXPECT_EQ(straightLine(std::array{2.0, 2.0}, std::array{1.0, 3.0}).slope, 0);
    EXPECT_EQ(straightLine(std::array{7.0}).at(100), 7);
    EXPECT_EQ(straightLine({}).points, 0U);
    EXPECT_EQ(straightLine(std::array{4.0, 4.0, 4.0}).explained(), 0);
}

TEST(Median, IsTheMiddleOneBySize) {
    EXPECT_EQ(medianOf({9, 1, 5}), 5);
    EXPECT_EQ(medianOf({4, 1, 3, 2}), 3) << "the upper of two";
    EXPECT_EQ(medianOf({}), 0);
}

}  // namespace
}  // namespace cruscotto
