#include "engine/output_arbiter.h"

#include <gtest/gtest.h>

#include <map>
#include <random>

namespace cruscotto {
namespace {

TEST(OutputArbiter, InterlockPrevailsOverSafeSafeOverHandHandOverRules) {
    OutputArbiter a;
    EXPECT_EQ(a.state("valve"), std::nullopt);
    a.restart("valve", 1);
    EXPECT_EQ(a.ask("valve", OutputHolder::hand, 5), 5);
    EXPECT_EQ(a.ask("valve", OutputHolder::rule, 9), std::nullopt);
    EXPECT_EQ(a.ask("valve", OutputHolder::safe, 0, "The link broke."), 0);
    EXPECT_EQ(a.ask("valve", OutputHolder::hand, 6), std::nullopt);
    EXPECT_EQ(a.state("valve"), (OutputState{0, OutputHolder::safe, "The link broke.", 6}));
    EXPECT_EQ(a.ask("valve", OutputHolder::interlock, 2, "The door is open."), 2);
    EXPECT_EQ(a.release("valve", OutputHolder::safe), std::nullopt);
    EXPECT_EQ(a.release("valve", OutputHolder::interlock), 6);
    EXPECT_EQ(a.release("valve", OutputHolder::hand), 9);
    EXPECT_EQ(a.release("valve", OutputHolder::rule), 1);
}

TEST(OutputArbiter, TheSameValueAskedAgainIsSentAgain) {
    OutputArbiter a;
    EXPECT_EQ(a.ask("valve", OutputHolder::hand, 5), 5);
    EXPECT_EQ(a.ask("valve", OutputHolder::hand, 5), 5) << "it may not have gone through before";
    a.restart("valve", 3);
    EXPECT_EQ(a.state("valve"), (OutputState{3, OutputHolder::start, {}, {}}));
    EXPECT_FALSE(a.asks("valve", OutputHolder::hand));
    a.forget("valve");
    EXPECT_EQ(a.state("valve"), std::nullopt);
    EXPECT_EQ(a.release("valve", OutputHolder::hand), std::nullopt);
}

TEST(OutputArbiter, IsAlwaysWhatTheHighestOfThoseWhoAskWants) {
    std::mt19937 random(5);
    OutputArbiter a;
    std::map<int, double> wishes;  // by holder
    for (int i = 0; i < 5000; ++i) {
        const int holder = static_cast<int>(random() % 5);
        if (random() % 2) {
            wishes[holder] = static_cast<double>(random() % 4);
            a.ask("o", static_cast<OutputHolder>(holder), wishes[holder]);
        } else {
            wishes.erase(holder);
            a.release("o", static_cast<OutputHolder>(holder));
        }
        const auto now = a.state("o");
        ASSERT_EQ(now.has_value(), !wishes.empty());
        if (!now) continue;
        ASSERT_EQ(static_cast<int>(now->holder), wishes.rbegin()->first);
        ASSERT_EQ(now->value, wishes.rbegin()->second);
    }
}

}  // namespace
}  // namespace cruscotto
