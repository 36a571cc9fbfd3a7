// Rules at work: what they do to outputs, runs and alarms.
#include <nlohmann/json.hpp>

#include "at_work.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"
#include "core/run/run_reader.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::ScriptedDevice;
using test::TempFolder;

/// A bench whose one output is ruled by its one input.
class RulesAtWork : public test::AtWork {
protected:
    static RuleSpec rule(const std::string& json) {
        auto read = ruleFromText(test::oneOutput(), json);
        if (!read) throw std::runtime_error(read.error().english());
        return read.value();
    }
    void begin(const std::vector<std::string>& rules, const std::string& run = {}) {
        bench = test::oneOutput();
        for (const std::string& json : rules) bench = withRule(bench, rule(json));
        AtWork::begin(bench, run);
    }
    /// What rule i does; nothing yet, where the engine has not said.
    [[nodiscard]] RuleReport report(std::size_t i) const {
        const auto all = engine->ruleReports();
        return i < all.size() ? all[i] : RuleReport();
    }
    Bench bench;
};

const char* const tooHigh = R"({"id": "high", "name": "Too high", "when": {"is": "above", "signal": "in", "level": 5},
    "then": [{"do": "set", "output": "drive", "value": 1}, {"do": "mark", "words": "at {in}"}],
    "until": {"is": "below", "signal": "in", "level": 4}})";

TEST_F(RulesAtWork, AnOutputIsSetAndGoesBackAndAllOfItIsInTheRun) {
    const TempFolder folder;
    begin({tooHigh}, folder.file("a.run"));
    ASSERT_TRUE(driven(3)) << "its start value";
    read(6);
    ASSERT_TRUE(driven(1));
    EXPECT_EQ(engine->outputState("drive")->holder, OutputHolder::rule);
    EXPECT_EQ(engine->outputState("drive")->why.english(), "Too high");
    EXPECT_TRUE(told("AO0=1"));
    read(4.5);
    read(3);
    ASSERT_TRUE(driven(3));
    ASSERT_TRUE(eventually([&] { return report(0).state.count == 1; }));
    EXPECT_EQ(report(0).id, "high");
    engine->stop();
    const RunInfo info = RunReader::open(folder.file("a.run")).value()->info();
    std::vector<std::string> events;
    for (const RunEvent& e : info.events)
        if (e.kind == "rule") events.push_back(e.words);
    ASSERT_EQ(events.size(), 2U);
    EXPECT_EQ(events[0], "Too high holds (In 6 counts): set Drive to 1 V, mark \"at {in}\"");
    ASSERT_EQ(info.marks.size(), 1U);
    EXPECT_EQ(info.marks[0].words, "at 6.00 counts");
    EXPECT_EQ(info.bench.rules.size(), 1U) << "and the rule itself";
}

/// A mark that a rule sets fires others, as one set by hand does; two that set each other off come to an end.
TEST_F(RulesAtWork, AMarkOfARuleFiresOthers) {
    begin(
        {tooHigh,
         R"({"id": "b", "name": "B", "when": {"is": "mark", "words": "at"}, "then": [{"do": "mark", "words": "ping"}]})",
         R"({"id": "c", "name": "C", "when": {"is": "mark", "words": "ping"}, "then": [{"do": "mark", "words": "at it"}]})",
         R"({"id": "d", "name": "D", "when": {"is": "mark", "words": "nothing"}, "then": [{"do": "mark", "words": "x"}]})"});
    read(6);
    ASSERT_TRUE(eventually([&] { return report(1).state.count == 4 && report(2).state.count == 4; }))
        << "eight in a row";
    EXPECT_EQ(report(3).state.count, 0U);
    ASSERT_TRUE(driven(1)) << "and all else went on";
    EXPECT_EQ(report(1).state.count, 4U) << "and no more of them";
}

TEST_F(RulesAtWork, ADelayRunsOutThoughNothingComes) {
    begin({R"({"id": "r", "when": {"is": "above", "signal": "in", "level": 5, "for-s": 0.05},
               "then": [{"do": "set", "output": "drive", "value": 2}]})"});
    read(6);
    EXPECT_TRUE(driven(2));
}

TEST_F(RulesAtWork, ADeadInputKeepsNothingOn) {
    begin({R"({"id": "heat", "when": {"is": "below", "signal": "in", "level": 5},
               "then": [{"do": "set", "output": "drive", "value": 9}],
               "else": [{"do": "set", "output": "drive", "value": 0}]})"});
    read(2);
    ASSERT_TRUE(driven(9));
    ASSERT_TRUE(eventually([&] { return report(0).state.holds; }));
    link(LinkState::silent);
    ASSERT_TRUE(eventually([&] { return !report(0).state.holds; }));
    link(LinkState::live);
    EXPECT_TRUE(driven(0)) << "nothing has come since";
}

TEST_F(RulesAtWork, AnInterlockPrevailsOverEveryoneAndIsResetByHand) {
    begin({R"({"id": "guard", "name": "Guard", "when": {"is": "above", "signal": "in", "level": 5},
               "then": [{"do": "hold", "output": "drive", "value": 0, "latched": true}]})",
           R"({"id": "want", "when": {"is": "above", "signal": "in", "level": 1},
               "then": [{"do": "set", "output": "drive", "value": 7}]})"});
    read(2);
    ASSERT_TRUE(driven(7));
    ASSERT_TRUE(engine->setOutput("drive", 8));
    ASSERT_TRUE(driven(8)) << "a hand prevails over a rule";
    read(6);
    ASSERT_TRUE(driven(0));
    engine->setOutput("drive", 10);
    EXPECT_EQ(drive(), 0) << "not over an interlock";
    EXPECT_EQ(engine->outputState("drive")->holder, OutputHolder::interlock);
    EXPECT_EQ(engine->outputState("drive")->waits, 10);
    EXPECT_FALSE(engine->resetRule("guard")) << "what it guards against is still there";
    ASSERT_TRUE(eventually([&] { return report(0).state.holds; }));
    read(2);
    ASSERT_TRUE(eventually([&] { return !report(0).state.holds; }));
    EXPECT_EQ(drive(), 0) << "it is latched";
    EXPECT_TRUE(report(0).latched);
    // Whatever is edited meanwhile.
    Bench edited = bench;
    edited.notes = "another";
    edited = withRule(edited, [&] {
        RuleSpec other = *bench.rules[1];
        other.then[0].value = 6;
        return other;
    }());
    engine->apply(edited);
    engine->setOutput("drive", 9);
    EXPECT_EQ(drive(), 0);
    EXPECT_TRUE(engine->resetRule("guard"));
    EXPECT_TRUE(driven(9));
    EXPECT_TRUE(engine->releaseOutput("drive"));
    EXPECT_TRUE(driven(6)) << "the rule that waits behind it";
    EXPECT_FALSE(engine->releaseOutput("drive"));
}

TEST_F(RulesAtWork, NothingLetsGoOfAnInterlockForAMoment) {
    const char* const guard = R"({"id": "guard", "when": {"is": "above", "signal": "in", "level": 5},
        "then": [{"do": "hold", "output": "drive", "value": 0}],
        "until": {"is": "below", "signal": "in", "level": 1}})";
    begin({guard, R"({"id": "other", "when": {"is": "above", "signal": "in", "level": 9},
                      "then": [{"do": "set", "output": "drive", "value": 7}]})"});
    read(6);
    ASSERT_TRUE(driven(0));
    ASSERT_TRUE(told("AO0=0"));
    read(3);  // no longer above 5, not yet below 1: only what has been tells that it holds
    const std::size_t before = log.all().size();
    Bench edited = bench;
    RuleSpec other = *bench.rules[1];
    other.when.level = 2;
    edited = withRule(edited, other);
    engine->apply(edited);
    ASSERT_TRUE(eventually([&] { return report(1).state.holds; }));
    EXPECT_TRUE(report(0).state.holds);
    link(LinkState::lost);
    link(LinkState::live);
    ASSERT_TRUE(eventually([&] { return engine->deviceStatus()["box"].state == LinkState::live; }));
    engine->setOutput("drive", 8);
    EXPECT_EQ(drive(), 0);
    Bench anew = edited;
    anew.devices = {std::make_shared<const DeviceSpec>(DeviceSpec{"box", "Box", "sim-io-box", "", ""})};
    engine->apply(anew);  // the device is made anew: it begins with what is held, not with the start value
    engine->setOutput("drive", 9);
    EXPECT_EQ(drive(), 0);
    const auto all = log.all();
    for (std::size_t k = before; k < all.size(); ++k)
        EXPECT_TRUE(!all[k].starts_with("AO0=") || all[k] == "AO0=0" || all[k] == "AO0=0.5") << all[k];
}

TEST_F(RulesAtWork, OfTwoTheFirstPrevailsAndMomentsStay) {
    begin({R"({"id": "a", "when": {"is": "above", "signal": "in", "level": 5},
               "then": [{"do": "set", "output": "drive", "value": 1}]})",
           R"({"id": "b", "when": {"is": "above", "signal": "in", "level": 2},
               "then": [{"do": "set", "output": "drive", "value": 2}]})",
           R"({"id": "c", "when": {"is": "falls", "signal": "in", "level": 1},
               "then": [{"do": "step", "output": "drive", "by": 0.5}]})"});
    EXPECT_EQ(fightingRules(bench).size(), 3U);
    read(3);
    ASSERT_TRUE(driven(2));
    read(6);
    ASSERT_TRUE(driven(1));
    read(3);
    ASSERT_TRUE(driven(2));
    read(0);
    ASSERT_TRUE(driven(3.5)) << "the start value and one step";
    read(2);
    read(0);
    ASSERT_TRUE(driven(4));
}

TEST_F(RulesAtWork, ARampGoesThereStepByStep) {
    begin({R"({"id": "up", "name": "Up", "when": {"is": "above", "signal": "in", "level": 5},
               "then": [{"do": "ramp", "output": "drive", "value": 10, "seconds": 1},
                        {"do": "alarm", "words": "In is {in}", "priority": 1}, {"do": "record"}]})"});
    read(6);
    ASSERT_TRUE(driven(10));
    std::size_t steps = 0;
    for (const std::string& said : log.all()) steps += said.starts_with("AO0=");
    EXPECT_GT(steps, 5U);
    ASSERT_TRUE(eventually([&] { return engine->alarms().size() == 1; }));
    EXPECT_EQ(engine->alarms()[0].words, "In is 6.00 counts");
    engine->acknowledgeAlarm("up", "A. Tester", "looking");
    ASSERT_TRUE(eventually([&] { return engine->alarms().at(0).state == AlarmState::acknowledged; }));
    const auto requests = engine->takeRuleRequests();
    ASSERT_EQ(requests.size(), 1U);
    EXPECT_EQ(requests[0].action.kind, ActionKind::record);
    read(1);
    ASSERT_TRUE(eventually([&] { return engine->alarms().empty(); }));
}

TEST_F(RulesAtWork, AnInterlockThatIsEditedHoldsOn) {
    begin({R"({"id": "guard", "when": {"is": "above", "signal": "in", "level": 5, "for-s": 0.05},
               "then": [{"do": "hold", "output": "drive", "value": 0}]})"});
    read(6);
    ASSERT_TRUE(driven(0));
    ASSERT_TRUE(told("AO0=0"));
    const std::size_t before = log.all().size();
    RuleSpec other = *bench.rules[0];
    other.when.level = 4;
    other.when.forSeconds = 60;
    engine->apply(withRule(bench, other));
    engine->setOutput("drive", 8);
    EXPECT_EQ(drive(), 0) << "though its minute has only begun";
    EXPECT_EQ(engine->outputState("drive")->holder, OutputHolder::interlock);
    const auto all = log.all();
    for (std::size_t k = before; k < all.size(); ++k) EXPECT_TRUE(!all[k].starts_with("AO0=") || all[k] == "AO0=0");
    other.when.level = 7;
    engine->apply(withRule(bench, other));
    EXPECT_TRUE(driven(8)) << "there is no reason any more";
}

TEST_F(RulesAtWork, AMeasureOfTheLastSecondsActs) {
    begin({R"({"id": "rough", "when": {"is": "above", "signal": "in", "measure": "peak-to-peak", "over-s": 0.05,
               "level": 3}, "then": [{"do": "set", "output": "drive", "value": 9}]})"});
    double v = 0;
    EXPECT_TRUE(eventually([&] {
        read(v = 4 - v);
        return drive() == 9;
    }));
    EXPECT_TRUE(eventually([&] {
        read(1);
        return drive() != 9;
    }));
}

TEST_F(RulesAtWork, ATotalIsAskedToBeSetToZero) {
    begin({R"({"id": "full", "when": {"is": "above", "signal": "in", "level": 5},
               "then": [{"do": "tone", "hertz": 880, "seconds": 1}]})"});
    EXPECT_FALSE(ruleFromText(bench, R"({"id": "x", "when": {"is": "every", "seconds": 1},
        "then": [{"do": "reset", "signal": "in"}]})"))
        << "it has no total";
    Bench counting = bench;
    SignalSpec sum = *bench.signal("in");
    sum.chain.push_back(Stage::of("integral"));
    counting = withSignal(counting, sum);
    RuleSpec full = *bench.rules[0];
    full.then = {{.kind = ActionKind::reset, .on = "in"}};
    const auto back = ruleFromText(counting, ruleJson(full).dump());
    ASSERT_TRUE(back.ok()) << back.error().english();
    EXPECT_EQ(back.value(), full);
    engine->apply(withRule(counting, full));
    read(0);
    ASSERT_TRUE(eventually([&] {
        read(1e6);
        const auto asked = engine->takeRuleRequests();
        return !asked.empty() && asked[0].action.kind == ActionKind::reset && asked[0].action.on == "in";
    }));
    EXPECT_EQ(withTotalReset(*counting.signal("in"))->chain.back().number("resets"), 1);
}

}  // namespace
}  // namespace cruscotto
