// Controls and procedures as they stand in a bench.
#include "core/bench/control_file.h"

#include <gtest/gtest.h>

#include "core/bench/procedure_file.h"
#include "core/bench/rule_edits.h"
#include "support.h"

namespace cruscotto {
namespace {

Bench example(const char* name) {
    auto bench = loadBench(std::string(CRUSCOTTO_SOURCE) + "/examples/" + name + ".bench");
    if (!bench) throw std::runtime_error(bench.error().english());
    return bench.value();
}

TEST(ControlFile, BenchesWithControlsAndProceduresComeBackAsTheyWere) {
    for (const char* name : {"pump-bench", "seed-sorter", "cold-store"}) {
        const Bench bench = example(name);
        const BenchReading again = readBench(writeBench(bench));
        ASSERT_TRUE(again.bench) << name;
        for (std::size_t i = 0; i < bench.controls.size(); ++i)
            EXPECT_EQ(*again.bench->controls[i], *bench.controls[i]) << name << " " << i;
        for (std::size_t i = 0; i < bench.procedures.size(); ++i)
            EXPECT_EQ(*again.bench->procedures[i], *bench.procedures[i]) << name << " " << i;
        EXPECT_TRUE(sameBench(bench, *again.bench)) << name;
    }
}

TEST(ControlFile, WhatCannotBeIsRefusedWithItsPlace) {
    const Bench bench = example("pump-bench");
    const auto wrong = [&](const std::string& json) {
        const auto read = controlFromText(bench, json);
        return read ? std::string() : read.error().english();
    };
    EXPECT_EQ(
        wrong(R"({"id": "c", "output": "drive", "by": "pid", "signal": "flow", "setpoint": 20, "unit": "L/min"})"), "");
    EXPECT_NE(wrong(R"({"id": "c", "output": "flow", "by": "pid", "signal": "drive", "setpoint": 1})").find("/output"),
              std::string::npos);
    EXPECT_NE(
        wrong(R"({"id": "c", "output": "beacon", "by": "pid", "signal": "flow", "setpoint": 1})").find("two points"),
        std::string::npos);
    EXPECT_NE(wrong(R"({"id": "c", "output": "drive", "by": "pid", "signal": "flow", "setpoint": 1, "unit": "bar"})")
                  .find("/unit"),
              std::string::npos);
    EXPECT_NE(wrong(R"({"id": "c", "output": "drive", "by": "play", "points": [[0, 1], [0, 2]]})").find("/points/1"),
              std::string::npos);
    EXPECT_NE(wrong(R"({"id": "c", "output": "drive", "by": "play", "points": [[0, 11]]})").find("from 0 to 10"),
              std::string::npos);
    EXPECT_NE(
        wrong(R"({"id": "guard", "output": "drive", "by": "play", "points": [[0, 1]]})").find("A rule has this id"),
        std::string::npos);
    EXPECT_NE(wrong(R"({"id": "c", "output": "beacon", "by": "follow", "signal": "flow"})").find("A rule can"),
              std::string::npos);
    EXPECT_NE(wrong(R"({"id": "c", "output": "drive", "by": "magic"})").find("/by"), std::string::npos);
}

TEST(ControlFile, SaysItInASentenceAndInAnotherUnit) {
    const Bench bench = example("cold-store");
    EXPECT_EQ(
        controlSentence(bench, *bench.controls.at(0)),
        "Compressor 1 is switched on while Room 1 is above -20.5 °C, with 0.6 °C between on and off, on for 3 s at "
        "least, off for 3 s at least; Compressor 1 contact must follow within 2 s.");
    SignalSpec room = *bench.signal("room-1");
    ASSERT_TRUE(showIn(room, "K"));
    const ControlSpec read = controlAsRead(withSignal(bench, room), *bench.controls[0]);
    EXPECT_NEAR(read.setpoint, 252.65, 1e-9);
    EXPECT_NEAR(read.hysteresis, 0.6, 1e-12);
    EXPECT_TRUE(withoutSignal(bench, "contact-1").controls.empty()) << "it goes with what it looks at";
}

TEST(ProcedureFile, WhatCannotBeIsRefusedWithItsPlace) {
    const Bench bench = example("pump-bench");
    const auto wrong = [&](const std::string& step) -> std::string {
        const auto read = stepFromText(step);
        if (!read) return read.error().english();
        ProcedureSpec p;
        p.id = p.name = "p";
        p.steps = {read.value()};
        const auto fine = checkProcedure(bench, p);
        return fine ? "" : fine.error().english();
    };
    EXPECT_EQ(wrong(R"({"do": "set", "output": "drive", "value": 4})"), "");
    EXPECT_NE(wrong(R"({"do": "set", "output": "drive", "value": 12})").find("from 0 to 10"), std::string::npos);
    EXPECT_NE(wrong(R"({"do": "set", "output": "drive", "value": "speed"})").find("\"speed\""), std::string::npos);
    EXPECT_NE(wrong(R"({"do": "set", "output": "flow", "value": 1})").find("/output"), std::string::npos);
    EXPECT_NE(wrong(R"({"do": "hold"})").find("seconds"), std::string::npos);
    EXPECT_NE(wrong(R"({"do": "dance"})").find("dance"), std::string::npos);
    EXPECT_NE(wrong(R"({"do": "measure", "take": [{"signal": "flow", "measure": "gain"}]})").find("/against"),
              std::string::npos);
    EXPECT_NE(
        wrong(R"({"do": "measure", "take": [{"signal": "flow", "measure": "mean", "unit": "bar"}]})").find("/unit"),
        std::string::npos);
    EXPECT_NE(wrong(R"({"do": "repeat", "for": {"a": [1, 2], "b": [1]}, "steps": [{"do": "hold", "seconds": 1}]})")
                  .find("one length"),
              std::string::npos);
    EXPECT_NE(wrong(R"({"do": "wait", "until": {"is": "above", "signal": "nobody", "level": 1}, "at-most-s": 1})")
                  .find("nobody"),
              std::string::npos);
    EXPECT_EQ(
        wrong(R"({"do": "repeat", "for": {"a": [1, 2]}, "steps": [{"do": "set", "output": "drive", "value": "a"}]})"),
        "");
    EXPECT_TRUE(withoutSignal(bench, "pressure-rise").procedures.at(0)->steps.size() ==
                bench.procedures[0]->steps.size())
        << "only the steps that name it go, and a repetition that still has others stays";
}

TEST(AlarmRules, AreMadeOfLimits) {
    Bench bench = example("pump-bench");
    SignalSpec flow = *bench.signal("flow");
    flow.limits = {30.0, 70.0};
    flow.alarm = LimitAlarm{1, 2, 0.5, 3};
    bench = withSignal(bench, flow);
    const auto rules = alarmRules(bench);
    ASSERT_EQ(rules.size(), 2U);
    EXPECT_EQ(rules[0].id, "high limit of flow");
    EXPECT_EQ(rules[0].when.level, 70);
    EXPECT_EQ(rules[0].when.forSeconds, 0.5);
    EXPECT_EQ(rules[0].until->level, 68);
    EXPECT_EQ(rules[0].until->forSeconds, 3);
    EXPECT_EQ(rules[1].until->level, 32);
    EXPECT_EQ(rules[0].then.at(0).words, "Flow is {flow}, above 70 L/min");
    const BenchReading again = readBench(writeBench(bench));
    ASSERT_TRUE(again.bench);
    EXPECT_EQ(again.bench->signal("flow")->alarm, flow.alarm);
}

}  // namespace
}  // namespace cruscotto
