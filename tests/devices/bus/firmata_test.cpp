#include <nlohmann/json.hpp>

#include "core/base/crash_send.h"
#include "core/base/json_text.h"
#include "devices/device_listener.h"
#include "devices/firmata/firmata_text.h"
#include "standins/gpioboard/pin_board.h"

namespace cruscotto::firmata_test {
namespace {

using nlohmann::json;
using test::eventually;

TEST(FirmataTerminal, IsReadFromItsName) {
    EXPECT_EQ(firmata::terminal("A3")->mode, firmata::analog);
    EXPECT_EQ(firmata::terminal("D7 pull-up")->mode, firmata::pullUp);
    EXPECT_EQ(firmata::terminal("D9 pwm")->number, 9);
    const auto r = firmata::terminal("i2c 0x48 reg 0x10 i16be");
    ASSERT_TRUE(r);
    EXPECT_EQ(r->address, 0x48);
    EXPECT_EQ(r->reg, 0x10);
    for (const char* wrong :
         {"", "A", "A1 out", "D", "D999", "D7 in", "E1", "i2c", "i2c 0x99 reg 0 u8", "i2c 8 reg 0 u12", "D7 out x"})
        EXPECT_FALSE(firmata::terminal(wrong)) << wrong;
}

TEST(FirmataReader, MessagesAreFoundInPiecesOfAnySize) {
    const std::string all =
        std::string("\x05\xE1\x7F\x07\x90\x03\x00\xF0\x79\x02\x05\xF7\xE0\xE2\x01\x00\xF9\x02\x05", 19);
    for (std::size_t step = 1; step <= all.size(); ++step) {
        firmata::Reader reader;
        std::vector<firmata::Message> out;
        for (std::size_t at = 0; at < all.size(); at += step) reader.feed(std::string_view(all).substr(at, step), out);
        ASSERT_EQ(out.size(), 7U) << step;
        using What = firmata::Message::What;
        EXPECT_EQ(out[0].what, What::nonsense);
        EXPECT_EQ(out[1].value, 1023);
        EXPECT_EQ(out[2].what, What::digital);
        EXPECT_EQ(out[3].data, "\x79\x02\x05");
        EXPECT_EQ(out[4].what, What::nonsense) << "it was cut short";
        EXPECT_EQ(out[5].number, 2);
        EXPECT_EQ(out[6].what, What::version);
    }
    EXPECT_EQ(firmata::fromPairs(firmata::toPairs("\xFF\x80 ab")), "\xFF\x80 ab");
}

class PinListener : public test::DeviceListener {
public:
    explicit PinListener(const json& settings, const std::vector<std::string>& terminals)
        : DeviceListener("firmata", jsonText(settings), [&] {
              std::vector<TerminalRequest> out;
              for (const std::string& t : terminals) out.push_back({t, {}});
              return out;
          }()) {}
};

class Firmata : public ::testing::Test {
protected:
    test::TempFolder folder;
    PinBoard board;
    std::unique_ptr<StandInHost> host = std::move(StandInHost::onPty(board.begin(), folder.file("port")).value());
    [[nodiscard]] json settings(const json& more = json::object()) const {
        json out = {{"address", host->address()}, {"sampling-ms", 2}, {"registers-every-s", 0.01}};
        out.update(more);
        return out;
    }
};

TEST_F(Firmata, PinsAppearWithWhatTheyCanDo) {
    PinListener listener(settings(), {});
    ASSERT_TRUE(listener.reaches(LinkState::live)) << listener.status().sentence.english();
    EXPECT_EQ(listener.status().sentence.english(), "Pin board stand-in (protocol 2.5) answers, with 20 pins.");
    const auto found = listener.status().found;
    const auto has = [&](const std::string& name, ChannelKind kind) {
        return std::ranges::any_of(found, [&](const TerminalInfo& t) { return t.terminal == name && t.kind == kind; });
    };
    EXPECT_TRUE(has("A0", ChannelKind::analogInput));
    EXPECT_TRUE(has("D7", ChannelKind::digitalInput));
    EXPECT_FALSE(has("D7 pull-up", ChannelKind::digitalInput)) << "that is set at the pin";
    EXPECT_EQ(deviceKind("firmata")->setup("", "D7", {}).size(), 1U);
    EXPECT_TRUE(deviceKind("firmata")->setup("", "A1", {}).empty());
    EXPECT_TRUE(has("D9 pwm", ChannelKind::analogOutput));
    EXPECT_TRUE(has("D13 servo", ChannelKind::analogOutput));
    const auto most = [&](const char* name) {
        return std::ranges::find(found, name, &TerminalInfo::terminal)->ranges.at(0).high;
    };
    EXPECT_EQ(most("D9 pwm"), 255);
    EXPECT_EQ(most("D11 pwm"), 65535);
    EXPECT_EQ(most("D13 servo"), 180);
    EXPECT_FALSE(has("D4 pwm", ChannelKind::analogOutput));
    EXPECT_FALSE(has("D0", ChannelKind::digitalInput)) << "it is the serial line's";
}

TEST_F(Firmata, InputsAreReadAndOutputsSet) {
    PinListener listener(settings(), {"A1", "A5", "D7 pull-up", "D8", "D13 out", "D9 pwm", "D10 servo", "D11 pwm",
                                      "D16 out", "i2c 0x48 reg 0 i16be", "D4 pwm", "A9"});
    ASSERT_TRUE(eventually([&] {
        return listener.count("A5") > 10 && listener.count("D7 pull-up") > 0 &&
               listener.count("i2c 0x48 reg 0 i16be") > 2;
    })) << listener.status().sentence.english();
    EXPECT_EQ(board.samplingMs, 2);
    const auto a1 = listener.samples("A1");
    EXPECT_NEAR(a1[3].v, 512, 60);
    EXPECT_NEAR(listener.latest("i2c 0x48 reg 0 i16be") / 256, 25.25, 0.1);
    EXPECT_EQ(listener.latest("D7 pull-up"), 1);
    EXPECT_EQ(listener.latest("D8"), 0);
    board.pressed[7] = true;
    board.pressed[8] = true;
    EXPECT_TRUE(eventually([&] { return listener.latest("D7 pull-up") == 0 && listener.latest("D8") == 1; }));
    listener.device().setOutput("D13 out", 1);
    listener.device().setOutput("D9 pwm", 1000);
    listener.device().setOutput("D10 servo", 90);
    EXPECT_TRUE(eventually([&] { return board.level[13] == 1 && board.level[9] == 255 && board.level[10] == 90; }));
    EXPECT_EQ(board.mode[9], 3);
    listener.device().setOutput("D11 pwm", 60000);
    EXPECT_TRUE(eventually([&] { return board.level[11] == 60000; })) << "16 bits, in the longer message";
    EXPECT_NE(listener.status().sentence.english().find("D4 pwm: its pin cannot do that"), std::string::npos)
        << listener.status().sentence.english();
    listener.device().setOutput("D13 out", 0);
    listener.stop();
    EXPECT_TRUE(eventually([&] { return board.level[13] == 0; }));
}

TEST_F(Firmata, ACrashSendsItsSafeValues) {
    PinListener listener(settings(), {"A1", "D13 out", "D9 pwm"});
    listener.device().setSafeValues({{"D13 out", 0}, {"D9 pwm", 7}});
    listener.device().setOutput("D13 out", 1);
    listener.device().setOutput("D9 pwm", 200);
    ASSERT_TRUE(eventually([&] { return board.level[13] == 1 && board.level[9] == 200; }));
    EXPECT_TRUE(eventually([&] {
        CrashSend::sendAll();
        return board.level[13] == 0 && board.level[9] == 7;
    }));
}

TEST_F(Firmata, IsResetBehindItsLastValuesInOrderAndInACrashWhereThatIsWanted) {
    const auto driven = [&](const char* what, PinListener& listener) {
        board.level[9] = 0;
        listener.device().setSafeValues({{"D9 pwm", 7}});
        listener.device().setOutput("D9 pwm", 200);
        EXPECT_TRUE(eventually([&] { return board.level[9] == 200; })) << what;
    };
    {
        PinListener listener(settings(), {"A1", "D9 pwm"});
        driven("not wanted", listener);
    }
    EXPECT_EQ(board.resets, 0);
    {
        PinListener listener(settings({{"reset-at-end", true}}), {"A1", "D9 pwm"});
        driven("in order", listener);
        listener.device().setOutput("D9 pwm", 7);  // as the engine does before it stops a device
    }
    EXPECT_TRUE(eventually([&] { return board.resets == 1; }));
    EXPECT_EQ(board.beforeReset[9], 7);
    PinListener listener(settings({{"reset-at-end", true}}), {"A1", "D9 pwm"});
    driven("in a crash", listener);
    EXPECT_TRUE(eventually([&] {
        CrashSend::sendAll();
        return board.resets > 1;
    }));
    EXPECT_TRUE(eventually([&] { return board.level[9] == 0; })) << "and nothing behind it";
}

TEST_F(Firmata, ABoardOfVersion23IsSentOnlyWhatItKnows) {
    board.faults.earlier = true;
    PinListener listener(settings(), {"A1", "D12 out", "D13 out", "D7 pull-up"});
    ASSERT_TRUE(eventually([&] { return listener.count("A1") > 3; })) << listener.status().sentence.english();
    listener.device().setOutput("D13 out", 1);
    ASSERT_TRUE(eventually([&] { return board.level[13] == 1; }));
    listener.device().setOutput("D12 out", 1);
    ASSERT_TRUE(eventually([&] { return board.level[12] == 1; }));
    EXPECT_EQ(board.level[13], 1) << "its port is set as a whole: the other pin stays";
    listener.device().setOutput("D13 out", 0);
    EXPECT_TRUE(eventually([&] { return board.level[13] == 0 && board.level[12] == 1; }));
    EXPECT_NE(listener.status().sentence.english().find("D7 pull-up: its pin cannot do that"), std::string::npos);
}

TEST_F(Firmata, PinsAreAddedAndLeftWhileTheBoardIsRead) {
    PinListener listener(settings(), {"A1"});
    ASSERT_TRUE(eventually([&] { return listener.count("A1") > 3; }));
    EXPECT_TRUE(listener.device().request({{"A5", {}}, {"D13 out", {}}, {"D9 pwm", {}}}));
    listener.device().setOutput("D9 pwm", 200);
    EXPECT_TRUE(eventually([&] { return listener.count("A5") > 3 && board.level[9] == 200; }));
    EXPECT_TRUE(eventually([&] {
        const std::size_t before = listener.count("A5"), a1 = listener.count("A1");
        return eventually([&] { return listener.count("A5") > before + 5; }) && listener.count("A1") == a1;
    })) << "nobody asks for A1 now";
    EXPECT_TRUE(listener.device().request({{"A1", {}}, {"A5", {}}, {"D9 pwm", {}}}));
    EXPECT_TRUE(eventually([&] { return listener.gapsOf("A1").size() == 1; }));
    EXPECT_TRUE(listener.gapsOf("A5").empty());
    EXPECT_EQ(board.level[9], 200) << "what was there already is left alone";
    EXPECT_EQ(listener.states(), (std::vector<LinkState>{LinkState::starting, LinkState::live}));
}

TEST_F(Firmata, AnalogInputsAreSeenBeforeTheyAreUsedWhereTheLineBearsIt) {
    json calm = settings();
    calm["sampling-ms"] = 20;
    PinListener listener(calm, {"A1", "D14 out"});
    ASSERT_TRUE(eventually([&] { return listener.count("A1") > 2 && listener.count("A2") > 2; }))
        << listener.status().sentence.english();
    EXPECT_EQ(listener.count("A0"), 0U) << "its pin is an output";
    EXPECT_TRUE(listener.device().request({{"A1", {}}, {"A2", {}}}));
    const std::size_t seen = listener.count("A2");
    ASSERT_TRUE(eventually([&] { return listener.count("A2") > seen + 3; }));
    EXPECT_EQ(listener.count("A0"), 0U) << "an output stays one, so that it can be safe";
    EXPECT_LE(listener.gapsOf("A2").size(), 1U) << "when it began to be used";
    const std::size_t used = listener.count("A2");
    EXPECT_TRUE(listener.device().request({{"A1", {}}}));
    EXPECT_TRUE(eventually([&] { return listener.count("A2") > used + 3; })) << "and is seen when it is left";
    listener.stop();
    EXPECT_EQ(listener.outOfStep(), 0);

    PinListener fast(settings(), {"A1"});
    ASSERT_TRUE(eventually([&] { return fast.count("A1") > 50; }));
    EXPECT_EQ(fast.count("A2"), 0U) << "more than a fifth of the line";
}

TEST_F(Firmata, ThePeersMistakesCostBoundedMemoryAndAreShown) {
    PinListener listener(settings(), {"A0"});
    ASSERT_TRUE(eventually([&] { return listener.count("A0") > 0; }));
    board.faults.garbage = true;
    ASSERT_TRUE(eventually([&] { return listener.status().rejected > 0; }));
    board.faults.garbage = false;
    board.faults.endless = true;
    const auto rejected = listener.status().rejected;
    ASSERT_TRUE(eventually([&] { return listener.status().rejected > rejected + 3; }));
    board.faults.endless = false;
    board.faults.silent = true;
    ASSERT_TRUE(listener.reaches(LinkState::silent));
    board.faults.silent = false;
    ASSERT_TRUE(listener.reaches(LinkState::live));
    EXPECT_TRUE(eventually([&] { return !listener.gaps().empty(); }));
}

TEST_F(Firmata, AVersionThatIsTooOldIsSaid) {
    board.faults.old = true;
    PinListener listener(settings(), {"A0"});
    ASSERT_TRUE(listener.reaches(LinkState::failed));
    EXPECT_NE(listener.status().sentence.english().find("version 2.2"), std::string::npos);
}

TEST_F(Firmata, UnpluggedAgainAndAgainItKeepsEveryGapAndNothingElse) {
    PinListener listener(settings(), {"A0"});
    test::unplugAgainAndAgain(
        listener, "A0", SANITIZED ? 100 : 1000, [&] { host->unplug(); }, [&] { host->plug(); });
}

TEST_F(Firmata, SeveralBoardsAreReadAtOnce) {
    PinBoard other;
    const auto second = std::move(StandInHost::onLoopback(other.begin()).value());
    PinListener a(settings(), {"A0"}), b({{"address", second->address()}, {"sampling-ms", 3}}, {"A2"});
    EXPECT_TRUE(eventually([&] { return a.count("A0") > 10 && b.count("A2") > 10; }));
}

}  // namespace
}  // namespace cruscotto::firmata_test
