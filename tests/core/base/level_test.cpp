#include "core/base/level.h"

#include <random>
#include <vector>

#include "support.h"

namespace cruscotto {
namespace {

std::vector<std::pair<std::size_t, bool>> crossings(LevelDetector& detector, const std::vector<double>& readings) {
    std::vector<std::pair<std::size_t, bool>> out;
    detector.look(readings, [&](std::size_t i, bool above) { out.emplace_back(i, above); });
    return out;
}

using Crossings = std::vector<std::pair<std::size_t, bool>>;

TEST(LevelDetector, TellsEachChangeOfSideOnce) {
    LevelDetector d(3);
    EXPECT_FALSE(d.above());
    EXPECT_EQ(crossings(d, {1, 2, 3, 4, 2.9, 5}), (Crossings{{2, true}, {4, false}, {5, true}}));
    EXPECT_EQ(crossings(d, {5, 5}), Crossings{}) << "it goes on from one stretch to the next";
    EXPECT_EQ(crossings(d, {0}), (Crossings{{0, false}}));
}

TEST(LevelDetector, WhereItStandsAtFirstIsNoCrossing) {
    LevelDetector d(3);
    EXPECT_EQ(crossings(d, {7, 8}), Crossings{});
    EXPECT_TRUE(*d.above());
}

TEST(LevelDetector, HysteresisMakesNoiseOneCrossing) {
    LevelDetector d(3, 0.5);
    EXPECT_EQ(crossings(d, {2, 2.9, 3.0, 2.9, 3.1, 2.51, 3.2, 2.49, 2.9, 3}),
              (Crossings{{2, true}, {7, false}, {9, true}}));
}

TEST(LevelDetector, ReadingsThatAreNoneAreNoCrossing) {
    LevelDetector d(3);
    const double none = std::nan("");
    EXPECT_EQ(crossings(d, {none, 1, none, 2, none}), Crossings{});
    EXPECT_FALSE(*d.above());
    EXPECT_EQ(crossings(d, {none, 4}), (Crossings{{1, true}}));
}

}  // namespace
}  // namespace cruscotto
