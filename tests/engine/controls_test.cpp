// Controls at work: what makes an output follow something, and what it does when that fails.
#include "at_work.h"
#include "core/bench/control_file.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"
#include "core/run/run_reader.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::TempFolder;

class ControlsAtWork : public test::AtWork {
protected:
    void begin(const std::string& json, const std::string& run = {}) {
        bench = test::oneOutput();
        auto read = controlFromText(bench, json);
        ASSERT_TRUE(read.ok()) << read.error().english();
        bench = withControl(bench, read.value());
        AtWork::begin(bench, run);
    }
    [[nodiscard]] std::optional<ControlReport> report() const {
        const auto all = engine->controlReports();
        return all.empty() ? std::nullopt : std::optional(all.front());
    }
    Bench bench;
};

const char* const heater = R"({"id": "heat", "name": "Heating", "output": "drive", "by": "two-point", "signal": "in",
    "setpoint": 20, "hysteresis": 2, "on-value": 8, "off-value": 0})";

TEST_F(ControlsAtWork, AnOutputIsSwitchedByAReadingAndIsSafeWithoutOne) {
    begin(heater);
    ASSERT_TRUE(driven(0.5)) << "nothing is known yet: it is safe";
    read(15);
    ASSERT_TRUE(driven(8));
    EXPECT_EQ(engine->outputState("drive")->why.english(), "Heating");
    read(22);
    ASSERT_TRUE(driven(0));
    read(10);
    ASSERT_TRUE(driven(8));
    link(LinkState::silent);
    ASSERT_TRUE(eventually([&] { return drive() != 8; })) << "a dead input keeps nothing on";
    ASSERT_TRUE(eventually([&] { return report() && !report()->state.why.empty(); }));
}

TEST_F(ControlsAtWork, AHandTakesOverAndLetsGo) {
    begin(heater);
    read(15);
    ASSERT_TRUE(driven(8));
    ASSERT_TRUE(engine->setOutput("drive", 3));
    ASSERT_TRUE(driven(3));
    ASSERT_TRUE(eventually([&] { return report() && !report()->holds; }));
    ASSERT_TRUE(engine->releaseOutput("drive"));
    ASSERT_TRUE(driven(8));
    ControlSpec next = *bench.controls.front();
    next.enabled = false;
    engine->apply(withControl(bench, next));
    ASSERT_TRUE(driven(3)) << "switched off, its start value is what is left";
    engine->apply(withoutControl(bench, "heat"));
    ASSERT_TRUE(eventually([&] { return engine->controlReports().empty(); }));
}

TEST_F(ControlsAtWork, ItGoesOnThroughAnEdit) {
    begin(R"({"id": "pi", "name": "Regulator", "output": "drive", "by": "pid", "signal": "in", "setpoint": 5,
        "gain": 0.001, "integral-s": 1e6, "every-s": 0.01})");
    read(5);
    ASSERT_TRUE(eventually([&] { return report() && report()->holds; }));
    const double before = drive();
    EXPECT_NEAR(before, 0.5, 0.01) << "it begins with what the output was";
    ControlSpec next = *bench.controls.front();
    next.setpoint = 5.5;
    next.gain = 0.002;
    engine->apply(withControl(bench, next));
    ASSERT_TRUE(eventually([&] { return report() && report()->state.setpoint == 5.5; }));
    EXPECT_NEAR(drive(), before, 0.01) << "no bump";
}

TEST_F(ControlsAtWork, AReadBackThatDoesNotFollowIsAnAlarmAndSafe) {
    bench = test::oneOutput();
    SignalSpec contact;
    contact.id = "contact";
    contact.name = "Contact";
    contact.device = "box";
    contact.terminal = "DI0";
    contact.kind = ChannelKind::digitalInput;
    bench = withSignal(bench, contact);
    const auto spec = controlFromText(bench, R"({"id": "heat", "name": "Heating", "output": "drive", "by": "two-point",
        "signal": "in", "setpoint": 20, "on-value": 8, "off-value": 0, "read-back": "contact",
        "read-back-within-s": 0.05, "every-s": 0.005})");
    ASSERT_TRUE(spec.ok()) << spec.error().english();
    bench = withControl(bench, spec.value());
    const TempFolder folder;
    AtWork::begin(bench, folder.file("a.run"));
    read(15);
    ASSERT_TRUE(eventually([&] { return engine->alarms().size() == 1; }));
    EXPECT_EQ(engine->alarms()[0].rule, "heat");
    ASSERT_TRUE(driven(0.5));
    EXPECT_EQ(engine->outputState("drive")->holder, OutputHolder::interlock);
    engine->setOutput("drive", 4);
    EXPECT_EQ(drive(), 0.5) << "not by hand either";
    ASSERT_TRUE(engine->resetRule("heat"));
    ASSERT_TRUE(driven(4));
    ASSERT_TRUE(eventually([&] { return drive() == 0.5; })) << "and again: it still does not follow";
    engine->stop();
    const RunInfo info = RunReader::open(folder.file("a.run")).value()->info();
    EXPECT_TRUE(std::ranges::any_of(info.events, [](const RunEvent& e) { return e.kind == "control"; }));
}

TEST_F(ControlsAtWork, ValuesArePlayedAtTheirTimes) {
    begin(R"({"id": "play", "output": "drive", "by": "play", "shape": "steps",
        "points": [[0, 1], [0.05, 2], [0.1, 3], [0.15, 4]], "times": 3, "lasts-s": 0.2})");
    ASSERT_TRUE(eventually([&] { return report() && report()->state.over; }));
    EXPECT_EQ(drive(), 4);
    std::vector<std::string> sent;
    for (const std::string& s : log.all())
        if (s.starts_with("AO0=")) sent.push_back(s);
    // In their order; of two that are due at once, where the machine was late, the later one is told.
    std::vector<std::string> all;
    for (int i = 0; i < 3; ++i) all.insert(all.end(), {"AO0=1", "AO0=2", "AO0=3", "AO0=4"});
    ASSERT_GT(sent.size(), 1U);
    auto due = all.begin();
    for (const std::string& value : std::span(sent).subspan(1)) {  // behind the value it starts with
        due = std::find(due, all.end(), value);
        ASSERT_NE(due, all.end()) << value << " is not next";
        ++due;
    }
    EXPECT_EQ(due, all.end()) << "three times";
}

TEST_F(ControlsAtWork, NoOrderOfOperationsGetsAroundAnInterlock) {
    bench = test::oneOutput();
    for (
        const char* json :
        {R"({"id": "guard", "name": "Guard", "when": {"is": "above", "signal": "in", "level": 50},
             "then": [{"do": "hold", "output": "drive", "value": 0}]})",
         R"({"id": "low", "when": {"is": "below", "signal": "in", "level": 20}, "then": [{"do": "set", "output": "drive", "value": 7}]})"}) {
        auto rule = ruleFromText(bench, json);
        ASSERT_TRUE(rule.ok());
        bench = withRule(bench, rule.value());
    }
    const auto control = controlFromText(bench, heater);
    ASSERT_TRUE(control.ok());
    bench = withControl(bench, control.value());
    AtWork::begin(bench);
    std::uint64_t state = 7;
    const auto dice = [&](unsigned n) {
        state = state * 6364136223846793005ULL + 1442695040888963407ULL;
        return static_cast<unsigned>(state >> 33) % n;
    };
    for (int round = 0; round < 60; ++round) {
        read(99);
        ASSERT_TRUE(driven(0)) << "round " << round;
        const std::size_t before = log.all().size();
        // Whatever is asked while it holds. The guard's reading does not change.
        for (int i = 0; i < 25; ++i) {
            switch (dice(7)) {
                case 0:
                    engine->setOutput("drive", dice(11));
                    break;
                case 1:
                    engine->releaseOutput("drive");
                    break;
                case 2: {
                    ControlSpec next = control.value();
                    next.setpoint = 20 + dice(100);
                    next.enabled = dice(2);
                    engine->apply(withControl(bench, next));
                    break;
                }
                case 3:
                    engine->apply(withoutRule(bench, "low"));
                    break;
                case 4:
                    engine->apply(bench);
                    break;
                case 5:
                    EXPECT_FALSE(engine->resetRule("guard"));
                    break;
                default:
                    read(60 + dice(1000));
            }
        }
        ASSERT_TRUE(eventually([&] { return engine->outputState("drive")->holder == OutputHolder::interlock; }));
        engine->setOutput("drive", 9);
        const auto all = log.all();
        for (std::size_t i = before; i < all.size(); ++i)
            if (all[i].starts_with("AO0=")) ASSERT_EQ(all[i], "AO0=0") << "round " << round;
        engine->apply(bench);
        read(30);
        ASSERT_TRUE(eventually([&] { return engine->outputState("drive")->holder != OutputHolder::interlock; }));
    }
}

}  // namespace
}  // namespace cruscotto
