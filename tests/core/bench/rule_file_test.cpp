// Rules in a bench: read, written, checked, said.
#include "core/bench/rule_file.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_words.h"

#include <random>

#include "support.h"

namespace cruscotto {
namespace {

constexpr const char* tooMuch = R"({"id": "high", "name": "Too much pressure",
  "when": {"is": "all", "parts": [
    {"is": "above", "signal": "outlet-pressure", "level": 4.5, "hysteresis": 0.3, "unit": "bar", "for-s": 0.5},
    {"is": "not", "parts": [{"is": "on", "signal": "guard-door"}]}]},
  "then": [{"do": "set", "output": "drive", "value": 0}, {"do": "mark", "words": "too much: {outlet-pressure}"}],
  "else": [{"do": "alarm", "words": "it was too much", "priority": 1}],
  "until": {"is": "below", "signal": "outlet-pressure", "level": 4.2}})";

/// Without the rules that the example has.
Bench pump() {
    Bench bench = test::exampleBench("pump-bench");
    bench.rules.clear();
    return bench;
}
std::string problemOf(const std::string& json) {
    const auto read = ruleFromText(pump(), json);
    return read ? "" : read.error().english();
}
std::string changed(const std::string& what, const std::string& instead) {
    std::string out = tooMuch;
    out.replace(out.find(what), what.size(), instead);
    return out;
}

TEST(RuleFile, IsReadAndWrittenBackAsItWas) {
    const auto rule = ruleFromText(pump(), tooMuch);
    ASSERT_TRUE(rule.ok()) << rule.error().english();
    const Bench bench = withRule(pump(), rule.value());
    const BenchReading again = readBench(writeBench(bench));
    ASSERT_TRUE(again.bench) << again.problems.front().english();
    EXPECT_EQ(*again.bench->rules.at(0), rule.value());
    EXPECT_TRUE(sameBench(*again.bench, bench));
    EXPECT_EQ(writeBench(pump()).find("\"rules\""), std::string::npos) << "a bench without rules is as before";
}

TEST(RuleFile, IsOneSentence) {
    EXPECT_EQ(
        ruleSentence(pump(), ruleFromText(pump(), tooMuch).value()),
        "When Outlet pressure is above 4.5 bar (by 0.3 bar to go back) for 0.5 s and not (Guard door is open), "
        "set Drive speed to 0 V and mark \"too much: {outlet-pressure}\"; until Outlet pressure is below 4.2 bar; "
        "then raise the alarm \"it was too much\" of priority 1.");
}

TEST(RuleFile, SaysWhatSuppressesItsAlarm) {
    RuleSpec rule = ruleFromText(pump(), tooMuch).value();
    rule.suppress = Condition{.kind = ConditionKind::below, .of = "drive", .level = 1};
    EXPECT_TRUE(ruleSentence(pump(), rule).ends_with(" of priority 1; no alarm while Drive speed is below 1 V."));
    const RulePlace at = placeIn(rule, "/suppress/level");
    ASSERT_EQ(at.condition, &*rule.suppress);
    EXPECT_EQ(at.field, "level");
    rule.suppress.reset();
    EXPECT_EQ(placeIn(rule, "/suppress/level").condition, nullptr);
}

/// The alarm of a signal's limits is suppressed as that of a rule is.
TEST(RuleFile, AnAlarmOfLimitsIsSuppressedWhileSomethingHolds) {
    Bench bench = pump();
    SignalSpec flow = *bench.signal("flow");
    flow.limits = {30, {}};
    flow.alarm =
        LimitAlarm{1, 2, 0, 0, Condition{.kind = ConditionKind::below, .of = "drive", .level = 500, .unit = "mV"}};
    bench = withSignal(bench, flow);
    const std::string text = writeBench(bench);
    const BenchReading again = readBench(text);
    ASSERT_TRUE(again.bench) << again.problems.front().english();
    EXPECT_EQ(*again.bench->signal("flow"), flow);
    const auto rules = alarmRules(bench);
    const auto low = std::ranges::find(rules, "low limit of flow", &RuleSpec::id);
    ASSERT_NE(low, rules.end());
    ASSERT_TRUE(low->suppress);
    EXPECT_NEAR(low->suppress->level, 0.5, 1e-12) << "as the drive reads";
    EXPECT_FALSE(withoutSignal(bench, "drive").signal("flow")->alarm->suppress) << "it goes with what it names";
    const auto wrong = [&](const std::string& what, const std::string& instead) {
        std::string other = text;
        other.replace(other.find(what), what.size(), instead);
        const BenchReading read = readBench(other);
        return read.problems.empty() ? std::string() : read.problems.front().english();
    };
    EXPECT_NE(wrong(R"("is": "below")", R"("is": "rises")").find("suppresses nothing"), std::string::npos);
    EXPECT_NE(wrong(R"("signal": "drive")", R"("signal": "nobody")").find("suppressed-while"), std::string::npos);
}

TEST(RuleFile, RulesAreMoved) {
    Bench bench = pump();
    for (const char* id : {"a", "b", "c"}) {
        RuleSpec rule;
        rule.id = id;
        bench = withRule(bench, rule);
    }
    const auto order = [](const Bench& b) {
        std::string out;
        for (const auto& r : b.rules) out += r->id;
        return out;
    };
    EXPECT_EQ(order(withRuleMoved(bench, "a", 1)), "bac");
    EXPECT_EQ(order(withRuleMoved(bench, "c", -2)), "cab");
    EXPECT_EQ(order(withRuleMoved(bench, "a", -1)), "abc") << "it is the first already";
    EXPECT_EQ(order(withRuleMoved(bench, "nobody", 1)), "abc");
}

TEST(RuleFile, ChangesToAStateOrANumber) {
    const auto ruleOf = [](const std::string& when) {
        return R"({"id": "r", "name": "R", "when": )" + when + R"(, "then": [{"do": "mark", "words": "x"}]})";
    };
    const auto said = [&](const std::string& when) {
        const auto rule = ruleFromText(pump(), ruleOf(when));
        return rule ? ruleSentence(pump(), rule.value()) : rule.error().english();
    };
    EXPECT_EQ(said(R"({"is": "changes-to", "signal": "guard-door", "level": 1})"),
              "When Guard door changes to open, mark \"x\".");
    EXPECT_EQ(said(R"({"is": "changes-to", "signal": "outlet-pressure", "level": 3, "hysteresis": 0.1})"),
              "When Outlet pressure changes to 3 bar ± 0.1 bar, mark \"x\".");
    EXPECT_NE(said(R"({"is": "changes-to", "signal": "guard-door", "level": 2})").find("on or off"), std::string::npos);
    EXPECT_NE(said(R"({"is": "changes-to", "signal": "guard-door", "level": 1, "for-s": 1})").find("over at once"),
              std::string::npos);
}

TEST(RuleFile, AWrongOneIsRefusedWithThePlace) {
    EXPECT_EQ(problemOf(tooMuch), "");
    EXPECT_NE(problemOf(changed("\"above\"", "\"over\"")).find("/when/parts/0/is"), std::string::npos);
    EXPECT_NE(problemOf(changed("outlet-pressure\", \"level\": 4.5", "nobody\", \"level\": 4.5")).find("nobody"),
              std::string::npos);
    EXPECT_NE(problemOf(changed("\"value\": 0", "\"value\": 11")).find("from 0 to 10"), std::string::npos);
    EXPECT_NE(problemOf(changed("\"on\", \"signal\": \"guard-door\"", "\"on\", \"signal\": \"flow\""))
                  .find("neither on nor off"),
              std::string::npos);
    EXPECT_NE(problemOf(changed("\"unit\": \"bar\"", "\"unit\": \"Cel\"")).find("no unit of the same kind"),
              std::string::npos);
    EXPECT_NE(problemOf(changed("\"for-s\": 0.5", "\"for-s\": -1")).find("for-s"), std::string::npos);
    EXPECT_NE(problemOf(changed("\"output\": \"drive\"", "\"output\": \"flow\"")).find("no output"), std::string::npos);
    EXPECT_NE(problemOf(R"({"id": "a", "when": {"is": "rises", "signal": "flow", "level": 1, "for-s": 1}, "then": []})")
                  .find("over at once"),
              std::string::npos);
    EXPECT_NE(problemOf(R"({"id": "a", "when": {"is": "rises", "signal": "flow", "level": 1},
                            "then": [{"do": "hold", "output": "drive", "value": 0}]})")
                  .find("cannot hold an output"),
              std::string::npos);
    const auto measuring = [&](const std::string& measure, const char* signal, const char* more) {
        return problemOf(R"({"id": "a", "when": {"is": "above", "signal": ")" + std::string(signal) +
                         R"(", "measure": ")" + measure + R"(", "level": 1)" + more + R"(}, "then": []})");
    };
    EXPECT_EQ(measuring("rms", "flow", R"(, "over-s": 5, "unit": "L/min")"), "");
    EXPECT_NE(measuring("rms", "flow", R"(, "over-s": 4000)").find("3600"), std::string::npos);
    EXPECT_NE(measuring("rms", "flow", R"(, "unit": "bar")").find("no unit of the same kind"), std::string::npos);
    EXPECT_NE(measuring("frequency", "flow", R"(, "unit": "bar")").find("Frequency of"), std::string::npos);
    EXPECT_NE(measuring("beauty", "flow", "").find("no measure"), std::string::npos);
    EXPECT_NE(measuring("gain", "flow", "").find("is not measured of"), std::string::npos);
    EXPECT_NE(problemOf("{").find("does not read"), std::string::npos);
    EXPECT_NE(problemOf(R"({"id": "a", "when": {"is": "rule", "rule": "a"}, "then": []})").find("looks at itself"),
              std::string::npos);
    std::string deep = R"({"is": "on", "signal": "guard-door"})";
    for (int i = 0; i < 20; ++i) deep = R"({"is": "not", "parts": [)" + deep + "]}";
    EXPECT_NE(problemOf(R"({"id": "a", "then": [], "when": )" + deep + "}").find("deep"), std::string::npos);
}

TEST(RuleFile, LevelsFollowTheUnitThatIsRead) {
    Bench bench = withRule(pump(), ruleFromText(pump(), tooMuch).value());
    SignalSpec s = *bench.signal("outlet-pressure");
    ASSERT_TRUE(showIn(s, "kPa"));
    bench = withSignal(bench, s);
    const RuleSpec asRead = ruleAsRead(bench, *bench.rules[0]);
    EXPECT_NEAR(asRead.when.parts[0].level, 450, 1e-9);
    EXPECT_NEAR(asRead.when.parts[0].hysteresis, 30, 1e-9);
    EXPECT_EQ(asRead.until->level, 4.2) << "without a unit it is meant as it is read";
}

TEST(RuleFile, GoesWithWhatItNames) {
    const Bench bench =
        withRule(withRule(pump(), ruleFromText(pump(), tooMuch).value()),
                 ruleFromText(withRule(pump(), ruleFromText(pump(), tooMuch).value()),
                              R"({"id": "b", "when": {"is": "rule", "rule": "high"}, "then": [{"do": "record"}]})")
                     .value());
    EXPECT_EQ(bench.rules.size(), 2U);
    EXPECT_TRUE(withoutSignal(bench, "outlet-pressure").rules.empty()) << "and what looks at it";
    EXPECT_EQ(withoutSignal(bench, "spare").rules.size(), 2U);
    EXPECT_TRUE(withoutRule(bench, "high").rules.empty());
    EXPECT_EQ(withoutRule(bench, "b").rules.size(), 1U);
}

/// Whatever is thrown at it, it is refused with words, or writes what it read.
TEST(RuleFile, AnythingElseIsRefused) {
    std::mt19937 random(3);
    const std::string good = tooMuch;
    for (int i = 0; i < 3000; ++i) {
        std::string bad = good;
        for (int k = 0; k < 3; ++k) {
            const std::size_t at = random() % bad.size();
            if (random() % 2)
                bad.erase(at, 1 + random() % 9);
            else
                bad.insert(at, 1, static_cast<char>(32 + random() % 90));
            if (bad.empty()) bad = "{";
        }
        const auto read = ruleFromText(pump(), bad);
        if (!read) {
            EXPECT_FALSE(read.error().english().empty());
            continue;
        }
        const auto again = ruleFromText(pump(), ruleToText(read.value()));
        ASSERT_TRUE(again.ok()) << bad;
        EXPECT_EQ(again.value(), read.value());
    }
}

}  // namespace
}  // namespace cruscotto
