// When rules hold, by readings and by time.
#include "core/rules/rule_evaluator.h"

#include <gtest/gtest.h>

#include <random>

namespace cruscotto {
namespace {

std::shared_ptr<const RuleSpec> ruleOf(Condition when, std::optional<Condition> until = {}, std::string id = "r") {
    RuleSpec out;
    out.id = out.name = std::move(id);
    out.when = std::move(when);
    out.until = std::move(until);
    return std::make_shared<const RuleSpec>(std::move(out));
}
Instant at(double s) {
    return Instant{} + seconds(s);
}
Condition of(ConditionKind kind, double level = 0, double hysteresis = 0, double forSeconds = 0) {
    Condition c;
    c.kind = kind;
    c.of = "x";
    c.level = level;
    c.hysteresis = hysteresis;
    c.forSeconds = forSeconds;
    return c;
}

struct Fed {
    explicit Fed(std::vector<std::shared_ptr<const RuleSpec>> rules) : evaluator(std::move(rules)) {}
    /// Readings from `from` on, a hundredth of a second apart.
    void feed(double from, const std::vector<double>& values, const std::string& signal = "x",
              const std::vector<QualityInterval>& quality = {}) {
        evaluator.feed(
            signal, values, [&](std::size_t i) { return at(from + 0.01 * static_cast<double>(i)); }, quality);
    }
    /// "+1.5" where a rule began to hold, "-2" where it no longer did.
    std::string told() {
        std::string out;
        for (const RuleFiring& f : evaluator.take())
            out += (out.empty() ? "" : " ") + std::string(f.holds ? "+" : "-") + std::to_string(f.at.ns / 1'000'000);
        return out;
    }
    RuleEvaluator evaluator;
};

TEST(Rules, ALevelHasItsHysteresisAndItsTime) {
    Fed f({ruleOf(of(ConditionKind::above, 4.5, 0.3))});
    f.feed(0, {4, 4.6, 4.4, 4.6, 4.19, 4.6});
    EXPECT_EQ(f.told(), "+10 -40 +50");
    Fed later({ruleOf(of(ConditionKind::above, 4.5, 0, 0.5))});
    later.feed(0, {5, 5, 4, 5, 5});
    later.evaluator.advance(at(0.529));
    EXPECT_EQ(later.told(), "") << "it began anew at 0.03";
    EXPECT_NEAR(later.evaluator.state(0).remains->seconds(), 0.001, 1e-9);
    EXPECT_EQ(*later.evaluator.nextDeadline(), at(0.53));
    later.evaluator.advance(at(0.6));
    EXPECT_EQ(later.told(), "+530") << "though nothing came";
    EXPECT_FALSE(later.evaluator.nextDeadline());
}

TEST(Rules, WhatIsNotKnownHoldsNothingOnAndNothingOff) {
    Condition negated{.kind = ConditionKind::no};
    negated.parts = {of(ConditionKind::above, 10)};
    Fed f({ruleOf(of(ConditionKind::below, 5)), ruleOf(negated, {}, "not")});
    EXPECT_EQ(f.told(), "");
    f.feed(0, {4});
    EXPECT_EQ(f.told(), "+0 +0");
    f.feed(1, {std::nan("")});
    EXPECT_EQ(f.told(), "-1000 -1000") << "a dead input keeps nothing on, the opposite neither";
    f.feed(2, {4});
    f.told();
    f.evaluator.lose("x", at(3));
    EXPECT_EQ(f.told(), "-3000 -3000");
    f.feed(4, {4, 4}, "x", {{1, 2, Quality::openSensor}});
    EXPECT_EQ(f.told(), "+4000 +4000 -4010 -4010");
    Fed beyond({ruleOf(of(ConditionKind::above, 5))});
    beyond.feed(0, {9.9}, "x", {{0, 1, Quality::clipped}});
    EXPECT_EQ(beyond.told(), "+0") << "what stands at the end of its range is above";
}

TEST(Rules, CrossingsAreMomentaryAndWantTheOtherSideFirst) {
    Fed f({ruleOf(of(ConditionKind::rises, 1, 0.2))});
    f.feed(0, {2, 0.9, 1.1, 0.7, 1, 1.5, 0.5, 1.2});
    EXPECT_EQ(f.told(), "+40 +70") << "0.9 was not far enough below";
    EXPECT_FALSE(f.evaluator.state(0).holds);
    EXPECT_EQ(f.evaluator.state(0).count, 2U);
    Fed down({ruleOf(of(ConditionKind::falls, 1))});
    down.feed(0, {2, 0.9, 1.1, 1, 0.5});
    EXPECT_EQ(down.told(), "+10 +30");
}

TEST(Rules, HoldOnUntilTheirEndDoes) {
    Fed f({ruleOf(of(ConditionKind::above, 4.5), of(ConditionKind::below, 4.2, 0, 0.1))});
    f.feed(0, {5, 4.3, 4.1, 4.1, 4.3, 4.1});
    EXPECT_EQ(f.told(), "+0") << "4.3 is not below 4.2, and 4.1 not for long enough";
    f.evaluator.advance(at(0.3));
    EXPECT_EQ(f.told(), "-150");
    // A moment that lasts until something else.
    Fed button({ruleOf(of(ConditionKind::rises, 0.5), of(ConditionKind::above, 9))});
    button.feed(0, {0, 1, 0, 1, 10});
    EXPECT_EQ(button.told(), "+10 -40");
}

TEST(Rules, GroupsAreDecidedByWhatIsKnown) {
    Condition both{.kind = ConditionKind::all}, either{.kind = ConditionKind::any};
    Condition other = of(ConditionKind::above, 1);
    other.of = "y";
    both.parts = either.parts = {of(ConditionKind::above, 1), other};
    Fed f({ruleOf(both, {}, "both"), ruleOf(either, {}, "either")});
    f.feed(0, {2});
    EXPECT_EQ(f.told(), "+0") << "one of them is enough though the other is not known";
    EXPECT_TRUE(f.evaluator.state(1).holds);
    f.feed(1, {2}, "y");
    EXPECT_EQ(f.told(), "+1000");
    f.feed(2, {0});
    EXPECT_EQ(f.told(), "-2000");
    EXPECT_TRUE(f.evaluator.state(1).holds);
}

TEST(Rules, ChangesToIsTheMomentAtWhichItGetsThere) {
    Fed f({ruleOf(of(ConditionKind::becomes, 3, 0.25))});
    f.feed(0, {3, 3, 2, 3.2, 3, 4, 2.9});
    EXPECT_EQ(f.told(), "+30 +60") << "it was there at first, and then stayed";
    f.feed(1, {2, 3}, "x", {{0, 1, Quality::openSensor}});
    EXPECT_EQ(f.told(), "") << "what it was before is not known";
    Fed state({ruleOf(of(ConditionKind::becomes, 0))});
    state.feed(0, {0, 1, 1, 0, 0, 1, 0});
    EXPECT_EQ(state.told(), "+30 +60");
}

TEST(Rules, TimeMarksDevicesAndOtherRules) {
    Condition again{.kind = ConditionKind::every, .level = 2};
    Condition marked{.kind = ConditionKind::mark, .of = "go"};
    Condition away{.kind = ConditionKind::deviceAway, .of = "box"};
    Condition other{.kind = ConditionKind::rule, .of = "away"};
    Fed f(
        {ruleOf(again, {}, "every"), ruleOf(marked, {}, "mark"), ruleOf(away, {}, "away"), ruleOf(other, {}, "other")});
    f.evaluator.advance(at(5));
    EXPECT_EQ(f.told(), "+2000 +4000");
    f.evaluator.mark("let it go", at(5));
    f.evaluator.mark("stop", at(5));
    EXPECT_EQ(f.told(), "+5000");
    f.evaluator.device("box", true, at(5.5));
    EXPECT_EQ(f.told(), "+5500 +5500") << "and the rule that looks at it";
    f.evaluator.device("other", false, at(5.6));
    f.evaluator.device("box", false, at(5.7));
    EXPECT_EQ(f.told(), "-5700 -5700");

    constexpr std::int64_t second = 1'000'000'000;
    std::tm local{};
    local.tm_year = 126, local.tm_mon = 10, local.tm_mday = 30, local.tm_hour = 23, local.tm_min = 59,
    local.tm_isdst = -1;
    RuleEvaluator night({ruleOf({.kind = ConditionKind::timeOfDay, .level = 60})}, {},
                        {{}, std::int64_t{std::mktime(&local)} * second});
    EXPECT_EQ(*night.nextDeadline(), at(120)) << "a minute past the next midnight";
}

TEST(Rules, StaleIsWhatNothingComesOf) {
    Fed f({ruleOf(of(ConditionKind::stale, 1))});
    f.evaluator.advance(at(0.9));
    EXPECT_EQ(f.told(), "");
    f.feed(0.95, {1});
    f.evaluator.advance(at(1.94));
    EXPECT_EQ(f.told(), "");
    f.evaluator.advance(at(3));
    EXPECT_EQ(f.told(), "+1950");
    f.feed(3.5, {1, 1, 1});
    EXPECT_EQ(f.told(), "-3500");
    f.evaluator.advance(at(5));
    EXPECT_EQ(f.told(), "+4520") << "a second behind the last of them";
}

TEST(Rules, FasterLooksBackOverItsTime) {
    Condition c = of(ConditionKind::faster, 2);
    c.overSeconds = 0.5;
    Fed f({ruleOf(c)});
    std::vector<double> slow, fast;
    for (int i = 0; i < 200; ++i) slow.push_back(i * 0.01), fast.push_back(2 + i * 0.03);
    f.feed(0, slow);
    EXPECT_EQ(f.told(), "");
    f.feed(2, fast);
    EXPECT_TRUE(f.evaluator.state(0).holds);
    EXPECT_NEAR(static_cast<double>(f.evaluator.take().at(0).at.ns) * 1e-9, 2.26, 0.03)
        << "half of the time at three a second";
}

TEST(Rules, TheOutcomeDoesNotDependOnHowReadingsAreCut) {
    std::mt19937 random(5);
    std::normal_distribution<double> step(0, 0.4);
    std::vector<double> walk;
    double v = 0;
    for (int i = 0; i < 5000; ++i) walk.push_back(v += step(random) - 0.01 * v);
    const auto made = [] {
        Condition both{.kind = ConditionKind::all};
        both.parts = {of(ConditionKind::above, 0.5, 0.2, 0.05), of(ConditionKind::outside, 2)};
        both.parts[1].upper = 6;
        return std::vector{ruleOf(of(ConditionKind::above, 1, 0.5, 0.03)),
                           ruleOf(of(ConditionKind::rises, 0, 0.3), {}, "b"), ruleOf(both, {}, "c"),
                           ruleOf(of(ConditionKind::falls, 1), of(ConditionKind::above, 2, 0, 0.02), "d")};
    };
    Fed whole(made());
    whole.feed(0, walk);
    const std::string once = whole.told();
    EXPECT_GT(once.size(), 200U);
    for (const std::size_t cut : {1U, 7U, 333U}) {
        Fed parts(made());
        for (std::size_t from = 0; from < walk.size(); from += cut)
            parts.feed(0.01 * static_cast<double>(from),
                       {walk.begin() + static_cast<std::ptrdiff_t>(from),
                        walk.begin() + static_cast<std::ptrdiff_t>(std::min(from + cut, walk.size()))});
        EXPECT_EQ(parts.told(), once) << cut;
    }
}

TEST(Rules, WhatIsNotEnabledNeverHolds) {
    RuleSpec off_ = *ruleOf(of(ConditionKind::above, 1));
    off_.enabled = false;
    Fed f({std::make_shared<const RuleSpec>(off_)});
    f.feed(0, {5});
    EXPECT_EQ(f.told(), "");
    EXPECT_FALSE(f.evaluator.looksAt("x"));
}

TEST(Rules, AMeasureIsLookedAtInsteadOfTheReadings) {
    Condition c = of(ConditionKind::above, 2.5);
    c.measure = "peak-to-peak";
    c.overSeconds = 0.5;
    std::vector<double> calm, rough;
    for (int i = 0; i < 100; ++i) {
        calm.push_back(10 + (i % 2));
        rough.push_back(10 + 3 * (i % 2));
    }
    const auto told = [&](std::size_t cut) {
        Fed f({ruleOf(c)});
        for (std::size_t i = 0; i < 300; i += cut)
            for (std::size_t k = i; k < std::min(i + cut, std::size_t{300}); ++k)
                f.feed(0.01 * static_cast<double>(k), {(k / 100 == 1 ? rough : calm)[k % 100]});
        return f.told();
    };
    EXPECT_EQ(told(300), "+1050 -2500") << "seen at the next tenth of its time, until half a second was calm again";
    EXPECT_EQ(told(7), told(300));
    Fed lost({ruleOf(c)});
    lost.evaluator.begin("x", 99, at(0.005));
    lost.feed(0, rough);
    EXPECT_EQ(lost.told(), "+500") << "not before half a second is known";
    lost.evaluator.lose("x", at(1));
    EXPECT_EQ(lost.told(), "-1000");
    lost.feed(1.1, rough);
    EXPECT_EQ(lost.told(), "+1600") << "what was before the gap does not count";
}

TEST(Rules, OneThatIsTakenOverHoldsOnUnlessThereIsNoReason) {
    const auto outcome = [](double reading) {
        Fed f({ruleOf(of(ConditionKind::above, 5, 0, 30))});
        f.evaluator.takeOver(0);
        f.feed(1, {reading});
        EXPECT_TRUE(f.evaluator.state(0).holds) << "until all is known";
        f.evaluator.settle(at(1));
        return f.told();
    };
    EXPECT_EQ(outcome(6), "") << "its 30 s are over";
    EXPECT_EQ(outcome(4), "-1000");
    Fed unknown({ruleOf(of(ConditionKind::above, 5))});
    unknown.evaluator.takeOver(0);
    unknown.evaluator.settle(at(1));
    EXPECT_EQ(unknown.told(), "") << "nothing is known yet";
    unknown.feed(2, {4});
    EXPECT_EQ(unknown.told(), "-2000");
    Fed until({ruleOf(of(ConditionKind::above, 5), of(ConditionKind::below, 1))});
    until.evaluator.takeOver(0);
    until.feed(1, {3});
    until.evaluator.settle(at(1));
    EXPECT_EQ(until.told(), "");
    until.feed(2, {0.5});
    EXPECT_EQ(until.told(), "-2000");
}

}  // namespace
}  // namespace cruscotto
