// However the program ends, what it drives is safe and what it recorded is whole.
#include <poll.h>
#include <sys/socket.h>

#include <nlohmann/json.hpp>

#include "cli/commands.h"
#include "core/run/run_reader.h"
#include "made_board.h"
#include "program.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::MadeBoard;
using test::Output;
using test::Program;
using test::TempFolder;

std::string benchFor(const MadeBoard& board) {
    return R"({"format": "cruscotto-bench", "version": 1, "name": "Oven", "devices": [{"id": "oven", "name": "Oven", "kind": "serial-line-board",
        "settings": {"port": ")" +
           board.port() + R"(", "field-count": 1, "outputs": {"heater": "H{value:0}\\n"}}}],
        "signals": [{"id": "temperature", "name": "Temperature", "device": "oven", "terminal": "1"},
                    {"id": "heater", "name": "Heater", "device": "oven", "terminal": "heater", "kind": "analog-output",
                     "output": {"low": 0, "high": 9, "start": 5, "safe": 2}}]})";
}

class Endings : public testing::Test {
protected:
    TempFolder folder;
    MadeBoard board{folder.file("port")};
    std::string bench = folder.file("oven.bench");
    void SetUp() override { test::writeFile(bench, benchFor(board)); }
    bool driven() {
        return eventually([&] { return board.heard().find("H5\n") != std::string::npos; });
    }
    bool safe() {
        return eventually([&] { return board.heard().ends_with("H2\n"); });
    }
};

TEST_F(Endings, WhateverAsksForAnEndPutsOutputsSafeAndClosesTheRun) {
    for (const int number : {SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGALRM, SIGUSR2, SIGVTALRM, SIGPROF, SIGXCPU, SIGPWR,
                             SIGSTKFLT, SIGIO, SIGRTMIN, SIGRTMAX}) {
        board.forget();
        const std::string run = folder.file(std::to_string(number) + ".run");
        Program program(folder, {"record", bench, "--out", run});
        ASSERT_TRUE(driven()) << strsignal(number) << ": " << program.story();
        program.signal(number);
        const Output o = program.wait();
        EXPECT_LT(o.code, 1000) << strsignal(number) << " ended it at once";
        EXPECT_TRUE(safe()) << strsignal(number) << ": " << board.heard();
        const auto reader = RunReader::open(run);
        ASSERT_TRUE(reader.ok()) << strsignal(number);
        EXPECT_TRUE(reader.value()->info().closed) << strsignal(number);
    }
}

TEST_F(Endings, ACrashSendsTheSafeBytesAndLeavesARunThatOpens) {
    for (const int number : {SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGABRT, SIGSYS, SIGTRAP}) {
        board.forget();
        const std::string run = folder.file(std::to_string(number) + ".run");
        Program program(folder, {"record", bench, "--out", run});
        ASSERT_TRUE(driven()) << strsignal(number) << ": " << program.story();
        program.signal(number);
        const Output o = program.wait();
        EXPECT_NE(o.code, cli::ok) << strsignal(number);
        EXPECT_TRUE(safe()) << strsignal(number) << ": " << board.heard();
        EXPECT_TRUE(RunReader::open(run).ok()) << strsignal(number);
    }
}

TEST_F(Endings, AKilledProgramGivesNoSignOfLifeAnyMoreAndLeavesOutputsAsTheyWere) {
    auto alive = nlohmann::json::parse(benchFor(board));
    alive["devices"][0]["settings"]["heartbeat"] = "L{value:0}\\n";
    alive["devices"][0]["settings"]["heartbeat-every-s"] = 0.02;
    test::writeFile(bench, alive.dump());
    Program program(folder, {"record", bench, "--out", folder.file("killed.run")});
    ASSERT_TRUE(driven()) << program.story();
    ASSERT_TRUE(eventually([&] { return board.heard().find("L9\n") != std::string::npos; })) << program.story();
    program.signal(SIGKILL);
    (void)program.wait();
    const int said = board.said;
    ASSERT_TRUE(eventually([&] { return board.said > said + 5; }));
    board.forget();
    const int then = board.said;
    ASSERT_TRUE(eventually([&] { return board.said > then + 20; }));
    EXPECT_EQ(board.heard(), "");
    EXPECT_TRUE(RunReader::open(folder.file("killed.run")).ok());
}

TEST_F(Endings, ARunThatIsKilledWhileItBeginsOpensOrIsNotThere) {
    int there = 0;
    // Up to moments at which there is a run, however slow the machine is.
    for (int ms = 0; ms < 5000 && there < 10; ms += 2 + ms / 8) {
        const std::string run = folder.file("early" + std::to_string(ms) + ".run");
        Program program(folder, {"record", bench, "--out", run});
        (void)eventually([] { return false; }, std::chrono::milliseconds(ms));  // the moment is what varies
        program.signal(SIGKILL);
        (void)program.wait();
        if (!std::filesystem::exists(run)) continue;
        ++there;
        const auto reader = RunReader::open(run);
        EXPECT_TRUE(reader.ok()) << ms << " ms: " << reader.error().english();
    }
    EXPECT_GT(there, 0);
}

TEST_F(Endings, AReaderThatGoesAwayEndsWatchWithOutputsSafe) {
    int ends[2] = {-1, -1};
    ASSERT_EQ(pipe2(ends, O_CLOEXEC), 0);
    Program program(folder, {"watch", bench, "--every", "20ms"}, ends[1]);
    close(ends[1]);
    ASSERT_TRUE(driven()) << program.story();
    pollfd file{ends[0], POLLIN, 0};
    ASSERT_EQ(poll(&file, 1, 20'000), 1);
    close(ends[0]);
    const Output o = program.wait();
    EXPECT_EQ(o.code, cli::ok) << "one that has seen enough is no fault: " << o.err;
    EXPECT_TRUE(safe()) << board.heard();
}

TEST_F(Endings, WhatCannotBePrintedIsToldByTheExitCode) {
    const int full = open("/dev/full", O_WRONLY | O_CLOEXEC);
    for (const std::vector<std::string>& arguments :
         {std::vector<std::string>{"check", bench}, {"watch", bench, "--for", "10s", "--every", "20ms"}}) {
        Program program(folder, arguments, full);
        const Output o = program.wait();
        EXPECT_NE(o.code, cli::ok) << arguments[0];
        EXPECT_NE(o.err.find("The output could not be written: No space left on device."), std::string::npos) << o.err;
    }
    close(full);
}

TEST_F(Endings, TheWindowEndsInOrderToo) {
    for (const int number : {SIGHUP, SIGTERM, SIGUSR2}) {
        board.forget();
        Program program(folder, {bench, "--drive"}, -1, {{"QT_QPA_PLATFORM", "offscreen"}});
        ASSERT_TRUE(driven()) << strsignal(number) << ": " << program.story();
        program.signal(number);
        const Output o = program.wait();
        EXPECT_EQ(o.code, 0) << strsignal(number) << ": " << o.err;
        EXPECT_TRUE(safe()) << strsignal(number) << ": " << board.heard();
    }
}

}  // namespace
}  // namespace cruscotto
