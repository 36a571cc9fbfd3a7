// What a recording did not get is said, stands in the run, and is told by the exit code.
#include <nlohmann/json.hpp>

#include "cli/commands.h"
#include "core/base/json_text.h"
#include "made_board.h"
#include "program.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::MadeBoard;
using test::Output;
using test::Program;
using test::run;
using test::TempFolder;

class Account : public testing::Test {
protected:
    TempFolder folder;
    MadeBoard board{folder.file("port")};
    std::string bench = folder.file("b.bench");
    void SetUp() override {
        test::writeFile(bench, R"({"format": "cruscotto-bench", "version": 1, "name": "B", "devices": [{"id": "board",
            "name": "Board", "kind": "serial-line-board", "settings": {"port": ")" +
                                   board.port() + R"(", "lines": "labelled"}}],
            "signals": [{"id": "t", "name": "Temperature", "device": "board", "terminal": "T"},
                        {"id": "m", "name": "Mistyped", "device": "board", "terminal": "Tmp"}]})");
        board.say("T=1.5\n");
    }
    /// Records until `during` is done.
    Output recorded(const std::function<void()>& during) {
        Program program(folder, {"record", bench, "--out", folder.file("a.run"), "--force"});
        // The port's first reader throws away what came before it.
        EXPECT_TRUE(eventually([&] { return std::filesystem::exists(folder.file("a.run")); }));
        during();
        program.signal(SIGTERM);
        return program.wait();
    }
    void waitForLines(int n) {
        const int from = board.said;
        ASSERT_TRUE(eventually([&] { return board.said >= from + n; }));
    }
};

TEST_F(Account, ASignalThatNeverCameIsSaidAndHasItsPlaceEverywhere) {
    const Output o = recorded([&] { waitForLines(50); });
    EXPECT_EQ(o.code, cli::deviceTrouble);
    EXPECT_NE(o.err.find("Mistyped: nothing came. Is \"Tmp\" what the device calls it?"), std::string::npos) << o.err;
    const auto info = parseJson(run(folder, {"info", folder.file("a.run"), "--json"}).out);
    ASSERT_EQ(info["signals"].size(), 2U);
    EXPECT_EQ(info["signals"][1]["id"], "m");
    EXPECT_EQ(info["signals"][1]["samples"], 0);
    EXPECT_NE(run(folder, {"info", folder.file("a.run")}).out.find("empty at"), std::string::npos);
    ASSERT_EQ(run(folder, {"export", folder.file("a.run"), "--out", folder.file("a.csv")}).code, cli::ok);
    EXPECT_TRUE(test::readFile(folder.file("a.csv")).starts_with("time [s],Temperature [counts],Mistyped [counts]\r\n"))
        << test::readFile(folder.file("a.csv")).substr(0, 100);
}

TEST_F(Account, WhatDidNotFitIsCountedSaidAndInTheRun) {
    const Output o = recorded([&] {
        waitForLines(30);
        board.say("T=1.5\nstrange words here\n");
        waitForLines(30);
        board.say("T=1.5\n");
        waitForLines(30);
    });
    EXPECT_EQ(o.code, cli::deviceTrouble);
    EXPECT_NE(o.err.find("of what it sent did not fit and were skipped"), std::string::npos) << o.err;
    int skipped = 0;
    const auto info = parseJson(run(folder, {"info", folder.file("a.run"), "--json"}).out);
    for (const auto& e : info["events"]) skipped += e["kind"] == "skipped";
    EXPECT_GE(skipped, 1);
    EXPECT_LE(skipped, 2) << "once a minute at most, and at the end";
}

TEST_F(Account, ADeviceThatWasAwayInBetweenIsToldByTheExitCodeTooThoughItIsBack) {
    const Output o = recorded([&] {
        waitForLines(30);
        board.unplug();
        board.plug();
        waitForLines(100);
    });
    EXPECT_EQ(o.code, cli::deviceTrouble);
    EXPECT_NE(o.err.find("Board did not deliver all the time"), std::string::npos)
        << o.err << run(folder, {"info", folder.file("a.run")}).out;
}

TEST_F(Account, ATriggerThatNeverCameIsSaidAndBlanksInItAreFine) {
    const Output o = run(folder, {"record", test::example("pump-bench"), "--as-fast-as-possible", "--for", "2s",
                                  "--when", "shaft-speed > 100000", "--out", folder.file("b.run")});
    EXPECT_EQ(o.code, cli::deviceTrouble) << o.err;
    EXPECT_NE(o.err.find("The trigger never came"), std::string::npos) << o.err;
}

}  // namespace
}  // namespace cruscotto
