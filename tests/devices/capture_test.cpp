// What was saved from a link is received again by the driver that read it.
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "devices/can/can_link.h"
#include "devices/device_listener.h"
#include "devices/link/capture_playback.h"
#include "standins/canbus/pump_bus.h"
#include "standins/gpioboard/pin_board.h"
#include "standins/iolink/sensor_master.h"
#include "standins/meter/bench_meter.h"
#include "standins/rack/cold_store_rack.h"

namespace cruscotto::capture_test {
namespace {

using nlohmann::json;
using test::eventually;

/// Looks at the wire while a terminal delivers, saves it, and reads it back through a driver of the same kind.
class CaptureReplay : public testing::Test {
protected:
    void replay(const std::string& kind, const json& settings, const std::string& terminal,
                const std::vector<TerminalRequest>& requests = {}) {
        std::vector<double> then;
        {
            test::DeviceListener live(kind, jsonText(settings), requests);
            // Who looks at a wire comes when it has been going on for a while.
            ASSERT_TRUE(eventually([&] { return live.count(terminal) > 5; })) << live.status().sentence.english();
            live.wire->open();
            const std::size_t before = live.count(terminal);
            ASSERT_TRUE(eventually([&] { return live.count(terminal) > before + 20; }))
                << live.status().sentence.english();
            live.stop();
            for (const auto& s : live.samples(terminal)) then.push_back(s.v);
            test::writeFile(path, captureText(live.wire->since(0), {kind, jsonText(settings)}));
        }
        const auto device = captureReplay(path);
        ASSERT_TRUE(device.ok()) << device.error().english();
        EXPECT_EQ(device.value().kind, kind);
        test::DeviceListener again(kind, device.value().settings, requests);
        ASSERT_TRUE(eventually([&] { return again.count(terminal) > 5; })) << again.status().sentence.english();
        replayed = again.status();
        again.stop();
        const auto now = again.samples(terminal);
        // The first had passed before somebody looked.
        std::vector<double> five;
        for (std::size_t i = 0; i < 5; ++i) five.push_back(now[i].v);
        EXPECT_NE(std::search(then.begin(), then.end(), five.begin(), five.end()), then.end())
            << testing::PrintToString(five) << " was never there";
    }
    test::TempFolder folder;
    const std::string path = folder.file("seen.wire");
    DeviceStatus replayed;
};

TEST_F(CaptureReplay, OfARackOnTheNetwork) {
    ColdStoreRack rack;
    const auto host = std::move(StandInHost::onLoopback(rack.onTcp()).value());
    replay("modbus",
           {{"address", host->address()},
            {"every-s", 0.02},
            {"points", {{"level", "input 0 i16"}, {"door", "discrete 0"}}}},
           "level");
}

TEST_F(CaptureReplay, OfARackOnTheNetworkWhateverItsSettingsSayOfTheFraming) {
    ColdStoreRack rack;
    const auto host = std::move(StandInHost::onLoopback(rack.onTcp()).value());
    for (const char* framing : {"as usual there", "tcp"})
        replay("modbus",
               {{"address", host->address()},
                {"every-s", 0.02},
                {"framing", framing},
                {"points", {{"level", "input 0 i16"}}}},
               "level");
}

TEST_F(CaptureReplay, OfARackWhoseParametersWereReadBeforeSomebodyLooked) {
    ColdStoreRack rack;
    const auto host = std::move(StandInHost::onLoopback(rack.onTcp()).value());
    replay("modbus",
           {{"address", host->address()},
            {"every-s", 0.02},
            {"timeout-s", 0.1},
            {"slots", {{"1", "analog-in-8"}, {"2", "digital-in-16"}}}},
           "1.AI1");
    ASSERT_GT(replayed.parameters.size(), 5U);
    for (const DeviceParameter& p : replayed.parameters)
        EXPECT_EQ(p.problem.english(), "the capture does not hold it") << p.key;
    EXPECT_EQ(replayed.state, LinkState::live);
}

TEST_F(CaptureReplay, OfARackOnALine) {
    ColdStoreRack rack;
    const auto host = std::move(StandInHost::onPty(rack.onSerial(), folder.file("port")).value());
    replay("modbus", {{"address", host->address()}, {"every-s", 0.02}, {"points", {{"level", "input 0 i16"}}}},
           "level");
}

TEST_F(CaptureReplay, OfAnInstrument) {
    BenchMeter meter;
    const auto host = std::move(StandInHost::onLoopback(meter.begin()).value());
    replay(
        "scpi",
        {{"address", host->address()}, {"every-s", 0.02}, {"timeout-s", 0.1}, {"queries", {{"volts", "MEAS:VOLT?"}}}},
        "volts");
}

TEST_F(CaptureReplay, OfABus) {
    PumpBus bus;
    const auto host = std::move(StandInHost::onLoopback(bus.begin()).value());
    replay("can",
           {{"address", host->address()}, {"database", std::string(test::sourceFolder) + "/examples/pump-bus.dbc"}},
           "Drive.Speed");
}

TEST_F(CaptureReplay, OfAMasterWithItsSensors) {
    SensorMaster master;
    const auto host = std::move(StandInHost::onLoopback(master.begin()).value());
    replay("io-link-master",
           {{"address", host->address()},
            {"every-s", 0.02},
            {"sensors", {{"level", std::string(test::sourceFolder) + "/examples/iodd/brine-level.xml"}}}},
           "level.Level");
    ASSERT_FALSE(replayed.parameters.empty());
    for (const DeviceParameter& p : replayed.parameters)
        if (p.readable) {
            EXPECT_EQ(p.problem.english(), "the capture does not hold it") << p.key;
        }
    EXPECT_EQ(replayed.state, LinkState::live);
}

TEST_F(CaptureReplay, OfABoardWhosePinsWereAskedBeforeSomebodyLooked) {
    PinBoard board;
    const auto host = std::move(StandInHost::onLoopback(board.begin()).value());
    replay("firmata", {{"address", host->address()}, {"sampling-ms", 20}}, "A0", {{"A0", {}}});
    EXPECT_EQ(replayed.state, LinkState::live);
    EXPECT_NE(replayed.sentence.english().find("What the board said of itself is not in it"), std::string::npos)
        << replayed.sentence.english();
    // What reports is offered, with nothing known of it but that.
    EXPECT_TRUE(std::ranges::any_of(replayed.found, [](const TerminalInfo& t) { return t.terminal == "A0"; }));
}

TEST_F(CaptureReplay, OfABoardFromItsFirstWord) {
    test::writeFile(path,
                    "# wire capture 1\n# from firmata {\"address\":\"/dev/ttyACM0\"}\n"
                    "1.0 < f0 79 02 05 54 00 f7\n1.001 < f0 6c 00 01 01 01 7f 02 0a 7f f7\n1.002 < f0 6a 7f 00 f7\n"
                    "1.01 < e0 05 01\n1.02 < e0 06 01\n1.03 < e0 07 01\n");
    test::DeviceListener again("firmata", captureReplay(path).value().settings, {{"A0", {}}});
    ASSERT_TRUE(eventually([&] { return again.count("A0") >= 3; })) << again.status().sentence.english();
    EXPECT_EQ(again.samples("A0")[2].v, 135);
    EXPECT_NE(again.status().sentence.english().find("with 2 pins"), std::string::npos)
        << again.status().sentence.english();
}

TEST_F(CaptureReplay, WithoutAHeadItIsABoardThatPrints) {
    test::writeFile(path, "# wire capture 1\n1.0 < 41 0a\n");
    EXPECT_EQ(captureReplay(path).value().kind, "serial-line-board");
    EXPECT_EQ(captureReplay(path).value().settings, R"({"port":")" + path + R"("})");
    test::writeFile(path, "# wire capture 1\n# from scpi nonsense\n1.0 < 41 0a\n");
    EXPECT_EQ(captureReplay(path).value().settings, R"({"address":")" + path + R"("})");
    EXPECT_FALSE(captureReplay(folder.file("none.wire")).ok());
    for (const char* kind : {"no-such-kind", "sound-input", "recorded-run", "computer", ""}) {
        test::writeFile(
            path, std::string("# wire capture 1\n# from ") + kind + " {\"stream\":\"127.0.0.1:4010\"}\n1.0 < 41 0a\n");
        const auto device = captureReplay(path);
        // A file does not choose what is opened.
        EXPECT_TRUE(!device || device.value().kind == "serial-line-board") << kind;
    }
    EXPECT_EQ(captureText({}, {"can", ""}), "# wire capture 1\n# from can {}\n");
}

TEST(CapturePlayback, WhatIsAskedInBetweenMovesNoOtherQuestionOn) {
    test::TempFolder folder;
    // "?" was answered by 1, 2, 3 and 4, and once in that time "!" was asked.
    test::writeFile(folder.file("a.wire"),
                    "# wire capture 1\n1.0 > 3f\n1.0 < 31\n2.0 > 3f\n2.0 < 32\n3.0 > 21\n3.0 < 2e\n3.5 > 3f\n3.5 < 33\n"
                    "4.0 > 3f\n4.0 < 34\n5.0 > 25\n");
    auto playback = std::move(CapturePlayback::open(folder.file("a.wire"), true).value());
    std::string got;
    for (const char* question : {"?", "!", "?", "!", "?", "?", "!", "?"}) {
        EXPECT_TRUE(playback->sent(question));
        const std::size_t before = got.size();
        while (got.size() == before) ASSERT_TRUE(playback->read(milliseconds(1000), got));
    }
    EXPECT_EQ(got, "1.2.34.1");
    EXPECT_FALSE(playback->sent("%")) << "nobody answered then";
}

TEST(CapturePlayback, AQuestionThatWasNeverAskedGetsNoAnswer) {
    test::TempFolder folder;
    test::writeFile(folder.file("a.wire"),
                    "# wire capture 1\n1.0 > 3f\n1.001 < 41\n1.002 < 42\n2.0 > 21\n2.001 < 43\n");
    auto playback = std::move(CapturePlayback::open(folder.file("a.wire"), true).value());
    std::string got;
    EXPECT_FALSE(playback->read(milliseconds(5), got)) << "nothing was asked";
    playback->sent("%");
    EXPECT_FALSE(playback->read(milliseconds(5), got));
    playback->sent("?");
    while (got.size() < 2) ASSERT_TRUE(playback->read(milliseconds(1000), got));
    EXPECT_EQ(got, "AB");
    playback->sent("?");  // the next one like it is the first again
    while (got.size() < 4) ASSERT_TRUE(playback->read(milliseconds(1000), got));
    EXPECT_EQ(got, "ABAB");
}

TEST(CanFrameOnTheWire, IsReadAsItWasWritten) {
    for (const auto& [id, extended, remote, length] : {std::tuple{0x7FFU, false, false, 8},
                                                       {0x123U, true, false, 0},
                                                       {0x1FFFFFFFU, true, false, 8},
                                                       {0x10U, false, true, 0},
                                                       {0x18FF0001U, true, false, 64}}) {
        CanFrame f;
        f.id = id;
        f.extended = extended;
        f.remote = remote;
        f.length = static_cast<std::uint8_t>(length);
        for (int i = 0; i < length; ++i) f.data.at(static_cast<std::size_t>(i)) = static_cast<std::uint8_t>(0xF0 + i);
        const auto read = frameOfWire(wireBytes(f));
        ASSERT_TRUE(read);
        EXPECT_EQ(read->id, id);
        EXPECT_EQ(read->extended, extended);
        EXPECT_EQ(read->remote, remote);
        EXPECT_EQ(read->length, length);
        EXPECT_EQ(read->data, f.data);
    }
    EXPECT_FALSE(frameOfWire(""));
    EXPECT_FALSE(frameOfWire("\x01"));
    EXPECT_FALSE(frameOfWire("\x81\x01\x01"));
    EXPECT_FALSE(frameOfWire(std::string(67, '\x01')));
}

}  // namespace
}  // namespace cruscotto::capture_test
