// Patterns that are played, as they are edited on their strip.
#include "core/control/pattern.h"

#include <gtest/gtest.h>

#include <random>

namespace cruscotto {
namespace {

TEST(Pattern, APointStaysBetweenItsNeighbours) {
    const Pattern p{{0, 1}, {1, 2}, {3, 4}};
    EXPECT_EQ(movedPoint(p, 1, 2, 7, 0.1), (Pattern{{0, 1}, {2, 7}, {3, 4}}));
    EXPECT_EQ(movedPoint(p, 1, 9, 2, 0.1), (Pattern{{0, 1}, {2.9, 2}, {3, 4}}));
    EXPECT_EQ(movedPoint(p, 1, -1, 2, 0.1), (Pattern{{0, 1}, {0.1, 2}, {3, 4}}));
    EXPECT_EQ(movedPoint(p, 0, -1, 2, 0.1), (Pattern{{0, 2}, {1, 2}, {3, 4}}));
    EXPECT_EQ(movedPoint(p, 2, 30, 4, 0.1), (Pattern{{0, 1}, {1, 2}, {30, 4}}));
    EXPECT_EQ(movedPoint({{0, 0}, {0.01, 1}, {0.02, 0}}, 1, 5, 0, 0.1), (Pattern{{0, 0}, {0.01, 0}, {0.02, 0}}))
        << "where there is no room it keeps its time";
}

TEST(Pattern, APulseIsPutIntoWhateverIsThere) {
    EXPECT_EQ(withPulse({}, 1, 0.5), (Pattern{{1, 1}, {1.5, 0}}));
    EXPECT_EQ(withPulse({{0, 0}}, 1, 0.5), (Pattern{{0, 0}, {1, 1}, {1.5, 0}}));
    EXPECT_EQ(withPulse({{0, 0}, {1.2, 1}}, 1, 0.5), (Pattern{{0, 0}, {1, 1}})) << "it runs into the next";
    EXPECT_EQ(withPulse({{0, 1}, {4, 0}}, 2, 1), (Pattern{{0, 1}, {2, 0}, {3, 1}, {4, 0}}));
    EXPECT_EQ(withPulse({{0, 0}}, -3, 1), (Pattern{{0, 1}, {1, 0}}));
}

TEST(Pattern, WhatSaysNothingNewGoesWithTheChangeBeforeIt) {
    const Pattern p{{0, 0}, {1, 1}, {2, 0}, {3, 1}};
    EXPECT_EQ(withoutPoint(p, 1, true), (Pattern{{0, 0}, {3, 1}}));
    EXPECT_EQ(withoutPoint(p, 1, false), (Pattern{{0, 0}, {2, 0}, {3, 1}}));
    EXPECT_EQ(withoutPoint({{0, 1}}, 0, true), (Pattern{{0, 1}})) << "one stays";
    EXPECT_EQ(withPoint({{0, 1}, {2, 3}}, 2.01, 9, 0.1), (Pattern{{0, 1}, {2, 9}}));
    EXPECT_EQ(withPoint({{0, 1}, {2, 3}}, 1, 9, 0.1), (Pattern{{0, 1}, {1, 9}, {2, 3}}));
}

TEST(Pattern, WhatWasRecordedKeepsItsTiming) {
    const std::vector<double> t{0, 0.1, 0.2, 0.3, 0.4}, states{0, 0, 1, 1, 0}, values{1, NAN, 3, 3, 5};
    EXPECT_EQ(recordedPattern(t, states, true), (Pattern{{0, 0}, {0.2, 1}, {0.4, 0}}));
    EXPECT_EQ(recordedPattern(t, values, false), (Pattern{{0, 1}, {0.2, 3}, {0.3, 3}, {0.4, 5}}));
    EXPECT_TRUE(recordedPattern({}, {}, true).empty());
}

TEST(Pattern, StepsOfTimeAreRoundNumbers) {
    EXPECT_DOUBLE_EQ(roundStep(10), 0.1);
    EXPECT_DOUBLE_EQ(roundStep(11), 0.2);
    EXPECT_DOUBLE_EQ(roundStep(40), 0.5);
    EXPECT_DOUBLE_EQ(roundStep(60), 1);
}

/// Whatever is done in whatever order: times ascend from 0, and of states each point is a change.
TEST(Pattern, StaysInOrderHoweverItIsEdited) {
    std::mt19937 random(3);
    std::uniform_real_distribution<double> time(-1, 10);
    Pattern p{{0, 0}};
    for (int i = 0; i < 5000; ++i) {
        const std::size_t at = random() % p.size();
        switch (random() % 3) {
            case 0:
                p = withPulse(p, time(random), 0.01 + static_cast<double>(random() % 100) / 50);
                break;
            case 1:
                p = movedPoint(p, at, time(random), p[at].second, 0.01);
                break;
            default:
                p = withoutPoint(p, at, true);
        }
        ASSERT_FALSE(p.empty());
        ASSERT_GE(p.front().first, 0);
        for (std::size_t k = 1; k < p.size(); ++k) {
            ASSERT_GT(p[k].first, p[k - 1].first) << "after " << i;
            ASSERT_NE(p[k].second, p[k - 1].second);
        }
    }
}

}  // namespace
}  // namespace cruscotto
