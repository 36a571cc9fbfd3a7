// Alarms at work: of limits, suppressed by design, many at a time, and what stands of them in the journal and the run.
#include "at_work.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"
#include "core/run/run_reader.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::TempFolder;

class AlarmsAtWork : public test::AtWork {
protected:
    static Bench limited(LimitAlarm alarm) {
        Bench bench = test::oneOutput();
        SignalSpec in = *bench.signal("in");
        in.limits = {std::nullopt, 5.0};
        in.alarm = alarm;
        return withSignal(bench, in);
    }
    bool stands(AlarmState state) {
        return eventually([&] {
            const auto all = engine->alarms();
            return all.size() == 1 && all[0].state == state;
        });
    }
};

TEST_F(AlarmsAtWork, ALimitIsAnAlarmWithItsDeadbandAndStandsInTheRun) {
    const TempFolder folder;
    AtWork::begin(limited({1, 1, 0, 0}), folder.file("a.run"));
    read(5);
    read(5.5);
    ASSERT_TRUE(stands(AlarmState::unacknowledged));
    EXPECT_EQ(engine->alarms()[0].words, "In is 5.50 counts, above 5 counts");
    EXPECT_EQ(engine->alarms()[0].priority, 1);
    EXPECT_EQ(engine->alarms()[0].signals, std::vector<std::string>{"in"});
    read(4.5);
    ASSERT_TRUE(eventually([&] { return engine->source().at("in", engine->now()).value == 4.5; }));
    EXPECT_TRUE(stands(AlarmState::unacknowledged)) << "within the deadband it does not return";
    read(3.9);
    ASSERT_TRUE(stands(AlarmState::returnedUnacknowledged));
    engine->acknowledgeAlarm(engine->alarms()[0].rule, "A. Tester", "was me");
    ASSERT_TRUE(eventually([&] { return engine->alarms().empty(); }));
    engine->stop();
    const RunInfo info = RunReader::open(folder.file("a.run")).value()->info();
    std::vector<std::string> events;
    for (const RunEvent& e : info.events)
        if (e.kind == "alarm") events.push_back(e.words);
    ASSERT_EQ(events.size(), 3U);
    EXPECT_EQ(events[0], "raised: In is 5.50 counts, above 5 counts, priority 1");
    EXPECT_TRUE(events[2].ends_with("by A. Tester: was me")) << events[2];
}

TEST_F(AlarmsAtWork, ADelayRunsOutThoughNothingComes) {
    AtWork::begin(limited({2, 0, 0.05, 0.05}));
    read(6);
    ASSERT_TRUE(stands(AlarmState::unacknowledged));
    const Instant raised = engine->alarms()[0].raised;
    EXPECT_GE(raised - engine->source().at("in", engine->now()).taken, milliseconds(50));
    read(5);
    ASSERT_TRUE(stands(AlarmState::returnedUnacknowledged));
}

TEST_F(AlarmsAtWork, ConditionsSuppressByDesignAndPeopleShelve) {
    Bench bench = test::oneOutput();
    bench = withRule(bench, ruleFromText(bench, R"({"id": "a", "when": {"is": "above", "signal": "in", "level": 5},
        "then": [{"do": "alarm", "words": "high"}], "suppressed-while": {"is": "below", "signal": "drive", "level": 1}})")
                                .value());
    AtWork::begin(bench);
    ASSERT_TRUE(engine->setOutput("drive", 0));
    read(6);
    ASSERT_TRUE(stands(AlarmState::suppressed));
    ASSERT_TRUE(engine->setOutput("drive", 5));
    ASSERT_TRUE(stands(AlarmState::unacknowledged));
    engine->shelveAlarm("a", seconds(600));
    ASSERT_TRUE(stands(AlarmState::shelved));
    engine->shelveAlarm("a", Duration{});
    ASSERT_TRUE(stands(AlarmState::unacknowledged));
    Bench without = bench;
    RuleSpec rule = *bench.rules.front();
    rule.suppress.reset();
    ASSERT_TRUE(engine->setOutput("drive", 0));
    ASSERT_TRUE(stands(AlarmState::suppressed));
    engine->apply(withRule(bench, rule));
    ASSERT_TRUE(eventually([&] {
        const auto all = engine->alarms();
        return !all.empty() && all[0].state != AlarmState::suppressed;
    })) << "what suppressed it is gone";
}

TEST_F(AlarmsAtWork, TheAlarmOfALimitIsSuppressedToo) {
    AtWork::begin(limited({2, 0, 0, 0, Condition{.kind = ConditionKind::below, .of = "drive", .level = 1}}));
    ASSERT_TRUE(engine->setOutput("drive", 0));
    read(6);
    ASSERT_TRUE(stands(AlarmState::suppressed));
    ASSERT_TRUE(engine->setOutput("drive", 5));
    ASSERT_TRUE(stands(AlarmState::unacknowledged));
}

TEST_F(AlarmsAtWork, TwoHundredAtOnceAreAllThereAndOneOfThemCameFirst) {
    Bench bench = test::oneOutput();
    for (int i = 0; i < 200; ++i) {
        RuleSpec rule;
        rule.id = rule.name = "r" + std::to_string(i);
        rule.when = {.kind = ConditionKind::above, .of = "in", .level = 1 + i * 1e-3, .forSeconds = i ? 0.01 : 0};
        rule.then = {{.kind = ActionKind::alarm, .words = rule.id}};
        bench.rules.push_back(std::make_shared<const RuleSpec>(rule));
    }
    AtWork::begin(bench);
    read(9);
    ASSERT_TRUE(eventually([&] { return engine->alarms().size() == 200; }));
    const auto all = engine->alarms();
    EXPECT_EQ(std::ranges::count_if(all, [](const Alarm& a) { return a.first; }), 1);
    EXPECT_TRUE(std::ranges::find(all, "r0", &Alarm::rule)->first);
    EXPECT_EQ(engine->alarmsJournaled(), 200U);
    for (const Alarm& a : all) engine->acknowledgeAlarm(a.rule, "", "");
    ASSERT_TRUE(eventually([&] { return engine->alarmJournal().size() == 400; }));
}

}  // namespace
}  // namespace cruscotto
