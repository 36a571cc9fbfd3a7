// What a driver of a link does with its outputs by itself when the link fails.
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "devices/device_listener.h"
#include "made_board.h"

namespace cruscotto::safe_outputs_test {
namespace {

using nlohmann::json;
using test::eventually;
using test::MadeBoard;
using test::TempFolder;

/// A board with a heater, driven at 5, whose safe value is 2.
struct Driven {
    explicit Driven(const json& more = {}) {
        json settings{{"port", board.port()}, {"field-count", 1}, {"outputs", {{"heater", "H{value:0}\\n"}}}};
        if (more.is_object()) settings.update(more);
        listener.emplace("serial-line-board", jsonText(settings));
        listener->device().setSafeValues({{"heater", 2}});
        listener->device().setOutput("heater", 5);
    }
    bool hears(const std::string& bytes) {
        return eventually([&] { return board.heard().find(bytes) != std::string::npos; });
    }
    bool fell(std::uint64_t times) {
        return eventually([&] { return listener->status().fellSafe == times; });
    }
    TempFolder folder;
    MadeBoard board{folder.file("port")};
    std::optional<test::DeviceListener> listener;
};

TEST(SafeOutputs, ALinkThatReopensSendsTheSafeValueAndNothingDecidedBeforeTheLossWasKnown) {
    Driven d;
    ASSERT_TRUE(d.hears("H5\n"));
    ASSERT_TRUE(d.listener->reaches(LinkState::live));
    d.board.unplug();
    ASSERT_TRUE(d.fell(1));
    EXPECT_EQ(d.listener->status().fallen, (std::set<std::string>{"heater"}));
    d.listener->device().setOutput("heater", 7);  // a reaction to the last block, which does not know it yet
    d.board.plug();
    ASSERT_TRUE(d.hears("\n"));
    EXPECT_EQ(d.board.heard().substr(0, 3), "H2\n");
    ASSERT_TRUE(d.listener->reaches(LinkState::live));
    EXPECT_TRUE(eventually([&] { return d.listener->status().fallen.empty(); }));
    EXPECT_EQ(d.board.heard().find("H7"), std::string::npos);
    d.listener->device().allowOutputs(0);  // of an earlier failure
    d.listener->device().setOutput("heater", 8);
    d.listener->device().allowOutputs(1);
    d.listener->device().setOutput("heater", 9);
    ASSERT_TRUE(d.hears("H9\n"));
    EXPECT_EQ(d.board.heard().find("H8"), std::string::npos);
}

TEST(SafeOutputs, NonsenseMeansSafe) {
    Driven d;
    ASSERT_TRUE(d.hears("H5\n"));
    ASSERT_TRUE(d.listener->reaches(LinkState::live));
    d.board.say("what is this\n");
    ASSERT_TRUE(d.hears("H2\n"));
    EXPECT_TRUE(d.fell(1));
}

TEST(SafeOutputs, SilenceMeansSafeWhereItIsAFault) {
    for (const json& how : {json{{"ask", "?"}, {"ask-every-s", 0.05}, {"silence-s", 0.3}},
                            json{{"silence-is-fault", true}, {"silence-s", 0.3}}}) {
        Driven d(how);
        ASSERT_TRUE(d.hears("H5\n"));
        ASSERT_TRUE(d.listener->reaches(LinkState::live));
        d.board.talks = false;
        ASSERT_TRUE(d.hears("H2\n")) << how.dump();
    }
    Driven speaksWhenSomethingChanges(json{{"silence-s", 0.3}});
    ASSERT_TRUE(speaksWhenSomethingChanges.hears("H5\n"));
    // silent behind a whole line: of a part of one nobody would know what it means
    ASSERT_TRUE(speaksWhenSomethingChanges.listener->reaches(LinkState::live));
    speaksWhenSomethingChanges.board.talks = false;
    ASSERT_TRUE(speaksWhenSomethingChanges.listener->reaches(LinkState::silent));
    EXPECT_EQ(speaksWhenSomethingChanges.listener->status().fellSafe, 0U);
}

TEST(SafeOutputs, WhatWasNeverSentIsNotTakenBackByAFailure) {
    TempFolder folder;
    std::optional<MadeBoard> board;
    test::DeviceListener listener(
        "serial-line-board", jsonText(json{{"port", folder.file("port")}, {"outputs", {{"heater", "H{value:0}\\n"}}}}));
    listener.device().setSafeValues({{"heater", 2}});
    listener.device().setOutput("heater", 5);
    ASSERT_TRUE(listener.reaches(LinkState::absent));
    board.emplace(folder.file("port"));
    EXPECT_TRUE(eventually([&] { return board->heard() == "H5\n"; })) << "the start value waits for the device";
    listener.stop();
}

TEST(SafeOutputs, ASilentBoardLeavesAGapAndItsLastValueGrowsOld) {
    Driven d(json{{"silence-s", 0.3}});
    ASSERT_TRUE(eventually([&] { return d.listener->count("1") > 3; }));
    d.board.talks = false;
    ASSERT_TRUE(d.listener->reaches(LinkState::silent));
    EXPECT_TRUE(eventually([&] { return d.listener->quiet() == std::vector<std::string>{"1"}; }));
    const auto last = d.listener->samples("1").back().t;
    d.board.talks = true;
    ASSERT_TRUE(eventually([&] { return d.listener->gaps().size() == 1; }));
    EXPECT_EQ(d.listener->gaps()[0].from, last);
}

TEST(SafeOutputs, BytesWithoutALineEndAreNoReadings) {
    Driven d(json{{"silence-s", 0.3}});
    ASSERT_TRUE(d.listener->reaches(LinkState::live));
    d.board.say("1.5 ");
    ASSERT_TRUE(d.listener->reaches(LinkState::nonsense));
    EXPECT_NE(d.listener->status().sentence.english().find("no line ends"), std::string::npos)
        << d.listener->status().sentence.english();
    EXPECT_TRUE(eventually([&] { return d.listener->quiet() == std::vector<std::string>{"1"}; }));
}

TEST(SafeOutputs, WithNobodyWhoWatchesTheSignOfLifeEndsAndTheOutputIsSafe) {
    Driven d({{"heartbeat", "L{value:0}\\n"}, {"heartbeat-every-s", 0.01}});
    ASSERT_TRUE(d.hears("H5\n"));
    ASSERT_TRUE(d.hears("L0\n"));
    ASSERT_TRUE(d.hears("L11\n")) << "it counts";
    d.listener->hang(true);
    ASSERT_TRUE(d.fell(1));
    ASSERT_TRUE(d.hears("H2\n"));
    d.board.forget();
    const int said = d.board.said;
    ASSERT_TRUE(eventually([&] { return d.board.said > said + 20; }));
    EXPECT_EQ(d.board.heard(), "") << "no sign of life of nobody";
    d.listener->hang(false);
    ASSERT_TRUE(d.hears("L"));
    EXPECT_TRUE(eventually([&] { return d.listener->status().fallen.empty(); }));
    EXPECT_EQ(d.board.heard().find("H5"), std::string::npos);
}

}  // namespace
}  // namespace cruscotto::safe_outputs_test
