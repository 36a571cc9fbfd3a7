// What outputs do when something fails while rules, controls and procedures are at work.
#include <atomic>
#include <nlohmann/json.hpp>

#include "at_work.h"
#include "core/bench/control_file.h"
#include "core/bench/procedure_file.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"
#include "made_board.h"
#include "test_disk.h"

namespace cruscotto {
namespace {

using test::eventually;

class ReactingEndings : public test::AtWork {
protected:
    static Bench reacting() {
        Bench bench = test::oneOutput();
        for (
            const char* json :
            {R"({"id": "guard", "when": {"is": "above", "signal": "in", "level": 50}, "then": [{"do": "hold", "output": "drive", "value": 0}]})",
             R"({"id": "late", "when": {"is": "above", "signal": "in", "level": 5, "for-s": 0.05},
                  "then": [{"do": "set", "output": "drive", "value": 7}]})"})
            bench = withRule(bench, ruleFromText(bench, json).value());
        return bench;
    }
};

TEST_F(ReactingEndings, ALostDevicesOutputsAreSafeAndAnInterlockStays) {
    AtWork::begin(reacting());
    read(10);
    ASSERT_TRUE(driven(7));
    link(LinkState::lost);
    ASSERT_TRUE(driven(0.5));
    link(LinkState::live);
    ASSERT_TRUE(eventually([&] { return engine->deviceStatus().at("box").state == LinkState::live; }));
    EXPECT_NE(drive(), 7) << "what it looked at is not known any more";
    read(99);
    ASSERT_TRUE(driven(0));
    link(LinkState::lost);
    ASSERT_TRUE(eventually([&] { return engine->deviceStatus().at("box").state == LinkState::lost; }));
    const Instant after = engine->now() + milliseconds(300);
    ASSERT_TRUE(eventually([&] { return drive() != 0 || engine->now() > after; }));
    EXPECT_EQ(drive(), 0) << "and it is not let go of later";
    link(LinkState::live);
    read(99);
    ASSERT_TRUE(eventually([&] { return engine->outputState("drive")->holder == OutputHolder::interlock; }));
    const auto all = log.all();
    const auto guarded = std::ranges::find(all, "AO0=0");
    ASSERT_NE(guarded, all.end());
    EXPECT_TRUE(
        std::none_of(guarded, all.end(), [](const std::string& s) { return s.starts_with("AO0=") && s != "AO0=0"; }));
}

TEST_F(ReactingEndings, ADriverThatHangsHoldsUpNobodyElse) {
    Bench bench = reacting();
    bench = withDevice(bench, {"other", "Other", "scripted", "", ""});
    SignalSpec valve = *bench.signal("drive");
    valve.id = valve.name = "valve";
    valve.device = "other";
    bench = withSignal(bench, valve);
    RuleSpec both = *bench.rule("late");
    both.then.push_back(both.then.front());
    both.then.back().on = "valve";
    bench = withRule(bench, both);
    // Threads of devices do nothing at all here: they hang from the beginning. What is told them is taken all the same.
    AtWork::begin(bench);
    read(10);
    ASSERT_TRUE(driven(7));
    ASSERT_TRUE(eventually([&] { return engine->outputState("valve")->value == 7; }));
}

TEST_F(ReactingEndings, AClockThatIsSteppedChangesNoDelay) {
    static std::atomic<std::int64_t> wall;
    wall = 1'700'000'000'000'000'000;
    options.wallClock = [] { return wall.load(); };
    AtWork::begin(reacting());
    read(10);
    wall -= std::int64_t{86'400'000'000'000};
    ASSERT_TRUE(driven(7)) << "its 50 ms run out all the same";
    read(0);
    ASSERT_TRUE(driven(3));
    wall += std::int64_t{30} * 86'400'000'000'000;
    read(10);
    const Instant asked = engine->now();
    ASSERT_TRUE(driven(7));
    EXPECT_GE(engine->ruleReports().size(), 2U);
    EXPECT_GE(engine->now() - asked, milliseconds(45)) << "and not before";
}

TEST_F(ReactingEndings, BehindTheEndNothingActs) {
    AtWork::begin(withControl(reacting(), controlFromText(test::oneOutput(), R"({"id": "heat", "output": "drive",
        "by": "two-point", "signal": "in", "setpoint": 20, "on-value": 8, "off-value": 0})")
                                              .value()));
    read(1);
    ASSERT_TRUE(driven(8));
    engine->endOutputs();
    ASSERT_TRUE(driven(0.5));
    read(10);
    read(1);
    ASSERT_TRUE(eventually([&] { return engine->source().at("in", engine->now()).value == 1; }));
    EXPECT_EQ(drive(), 0.5);
    const auto all = log.all();
    EXPECT_EQ(*std::find_if(all.rbegin(), all.rend(), [](const std::string& s) { return s.starts_with("AO0="); }),
              "AO0=0.5");
}

TEST_F(ReactingEndings, AFullDiskChangesNothingOfWhatRulesDo) {
    test::TestDisk disk;
    test::TempFolder folder;
    AtWork::begin(reacting(), folder.file("a.run"));
    read(10);
    ASSERT_TRUE(driven(7));
    disk.full = true;
    ASSERT_TRUE(eventually([&] {
        read(10);
        return !engine->recording().problem.empty();
    }));
    read(0);
    EXPECT_TRUE(driven(3)) << "the rule has ended";
    read(10);
    EXPECT_TRUE(driven(7));
    read(99);
    EXPECT_TRUE(driven(0)) << "and the interlock is in force";
    disk.full = false;
}

TEST_F(ReactingEndings, AScreenThatAsksForNothingHoldsUpNothing) {
    AtWork::begin(reacting());
    // Nobody fetches reports, requests or alarms for as long as it takes: only the board's own log is looked at.
    for (int i = 0; i < 20; ++i) {
        const auto before = log.all().size();
        read(i % 2 == 0 ? 99 : 0);
        ASSERT_TRUE(eventually([&] { return log.all().size() > before; })) << i;
    }
}

/// A real board on a line, with a heater that is driven at 5 and safe at 2.
TEST(EngineHangs, TheDriverPutsItsOutputsSafeAndGoesOnAfterwards) {
    const test::TempFolder folder;
    test::MadeBoard board(folder.file("port"));
    const nlohmann::json bench = {
        {"format", "cruscotto-bench"},
        {"version", 1},
        {"name", "Oven"},
        {"devices",
         {{{"id", "oven"},
           {"name", "Oven"},
           {"kind", "serial-line-board"},
           {"settings",
            {{"port", board.port()},
             {"field-count", 1},
             {"heartbeat", "L{value:0}\\n"},
             {"heartbeat-every-s", 0.05},
             {"outputs", {{"heater", "H{value:0}\\n"}}}}}}}},
        {"signals",
         {{{"id", "temperature"}, {"name", "Temperature"}, {"device", "oven"}, {"terminal", "1"}},
          {{"id", "heater"},
           {"name", "Heater"},
           {"device", "oven"},
           {"terminal", "heater"},
           {"kind", "analog-output"},
           {"output", {{"low", 0}, {"high", 9}, {"start", 5}, {"safe", 2}, {"on-return", "start"}}}}}}};
    const BenchReading read = readBench(bench.dump());
    ASSERT_TRUE(read.bench) << bench.dump();
    static std::atomic<bool> hangs;
    hangs = false;
    EngineOptions options;
    // The engine's thread asks for it, again and again while it records.
    options.wallClock = [] {
        hangs.wait(true);
        return std::int64_t{1'700'000'000'000'000'000};
    };
    auto started = Engine::startRecorded(*read.bench, folder.file("a.run"), options);
    ASSERT_TRUE(started.ok()) << started.error().english();
    const std::unique_ptr<Engine> engine = std::move(started.value());
    const auto hears = [&](const std::string& bytes) {
        return eventually([&] { return board.heard().find(bytes) != std::string::npos; });
    };
    ASSERT_TRUE(hears("H5\n"));
    ASSERT_TRUE(hears("L3\n"));
    board.forget();
    hangs = true;
    ASSERT_TRUE(hears("H2\n"));
    board.forget();
    const int said = board.said;
    ASSERT_TRUE(eventually([&] { return board.said > said + 30; }));
    EXPECT_EQ(board.heard().find('L'), std::string::npos) << "no sign of life of an engine that hangs";
    hangs = false;
    hangs.notify_all();
    ASSERT_TRUE(hears("L"));
    ASSERT_TRUE(hears("H5\n")) << "what the bench says for a device that is back; it got "
                               << board.heard().substr(0, 400);
    EXPECT_TRUE(eventually([&] { return engine->outputState("heater")->value == 5; }));
}

}  // namespace
}  // namespace cruscotto
