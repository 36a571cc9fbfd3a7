#include "engine/output_arbiter.h"

#include <gtest/gtest.h>

#include <array>
#include <map>
#include <string>

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

TEST(OutputArbiter, AMillionRandomOperationsAgreeWithAModelAndNoneGetsAroundAnInterlock) {
    OutputArbiter arbiter;
    // The model: of each output who wants what, the last of the list prevails.
    std::map<std::string, std::map<OutputHolder, double>> model;
    const std::array<std::string, 3> outputs{"a", "b", "c"};
    std::uint64_t state = 1;
    const auto dice = [&](unsigned n) {
        state = state * 6364136223846793005ULL + 1442695040888963407ULL;
        return static_cast<unsigned>(state >> 33) % n;
    };
    for (int i = 0; i < 1'000'000; ++i) {
        const std::string& output = outputs[dice(3)];
        const auto holder = static_cast<OutputHolder>(dice(6));
        auto& wishes = model[output];
        const bool held = wishes.contains(OutputHolder::interlock);
        std::optional<double> sent;
        switch (dice(8)) {
            case 0:
            case 1:
            case 2:
            case 3: {
                const double v = dice(5);
                wishes[holder] = v;
                sent = arbiter.ask(output, holder, v);
                break;
            }
            case 4:
            case 5:
            case 6:
                sent = arbiter.release(output, holder);
                wishes.erase(holder);
                break;
            default: {
                // Anew, with what an interlock holds asked for first, as the engine does.
                const auto interlock = wishes.find(OutputHolder::interlock);
                const std::optional<double> keeps =
                    interlock == wishes.end() ? std::nullopt : std::optional(interlock->second);
                arbiter.restart(output, 2);
                wishes = {{OutputHolder::start, 2}};
                if (keeps) {
                    wishes[OutputHolder::interlock] = *keeps;
                    sent = arbiter.ask(output, OutputHolder::interlock, *keeps);
                }
            }
        }
        const auto is = arbiter.state(output);
        ASSERT_EQ(is.has_value(), !wishes.empty()) << i;
        if (!is) continue;
        ASSERT_EQ(is->holder, wishes.rbegin()->first) << i;
        ASSERT_EQ(is->value, wishes.rbegin()->second) << i;
        if (sent) ASSERT_EQ(*sent, is->value) << i;
        if (held && wishes.contains(OutputHolder::interlock) && sent)
            ASSERT_EQ(*sent, wishes[OutputHolder::interlock]) << i;
    }
}

}  // namespace
}  // namespace cruscotto
