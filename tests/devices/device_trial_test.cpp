// A look at a device before it is in a bench: what is there, what it reads, and that nothing is changed there.
#include "devices/discovery/device_trial.h"

#include <nlohmann/json.hpp>
#include <thread>

#include "core/base/json_text.h"
#include "devices/device_kind.h"
#include "standins/beehive/beehive.h"
#include "standins/canbus/pump_bus.h"
#include "standins/frameboard/weather_board.h"
#include "standins/gpioboard/pin_board.h"
#include "standins/iolink/sensor_master.h"
#include "standins/rack/cold_store_rack.h"
#include "support.h"

namespace cruscotto::device_trial_test {
namespace {

using nlohmann::json;
using test::eventually;

const DeviceTrial::Channel* channel(const DeviceTrial::State& s, const std::string& terminal) {
    for (const auto& c : s.channels)
        if (c.info.terminal == terminal) return &c;
    return nullptr;
}
std::string partOf(const DeviceTrial::State& s, const std::string& place) {
    for (const auto& p : s.parts)
        if (p.place == place) return p.what.english();
    return "nothing";
}

TEST(DeviceTrial, ABoardThatPrintsShowsItsFieldsAndWhatTheyRead) {
    BeehiveOptions options;
    options.format = BeehiveOptions::Format::labelled;
    options.linesPerSecond = 50;
    auto hive = std::move(Beehive::open(options).value());
    std::atomic<bool> gone{false};
    std::jthread board([&] { hive->run(gone); });
    {
        const DeviceTrial trial(*deviceKind("serial-line-board"), jsonText(json{{"port", hive->path()}, {"baud", 0}}));
        EXPECT_TRUE(eventually([&] {
            const auto s = trial.state();
            const auto* c = channel(s, "weight");
            return s.link == LinkState::live && c && c->reading.starts_with("31.");
        })) << trial.state().sentence.english();
        EXPECT_EQ(parseJson(trial.state().settings)["lines"], "labelled") << "that was found out";
    }
    gone = true;
}

TEST(DeviceTrial, ARackOfWhichOnlyTheAddressIsKnownShowsItsModulesAndWhatTheirChannelsRead) {
    ColdStoreRack rack;
    const auto host = std::move(StandInHost::onLoopback(rack.onTcp()).value());
    const DeviceTrial trial(*deviceKind("modbus"), jsonText(json{{"address", host->address()}}));
    EXPECT_TRUE(eventually([&] {
        const auto s = trial.state();
        const auto* c = channel(s, "1.AI1");
        return s.link == LinkState::live && c && !c->reading.empty() && channel(s, "4.CT2");
    })) << trial.state().sentence.english();
    EXPECT_EQ(parseJson(trial.state().settings)["slots"]["3"], "relay-out-8") << "taken along when it is added";
    for (int relay = 0; relay < 8; ++relay) EXPECT_FALSE(rack.relay(relay)) << "nothing is switched";
    EXPECT_EQ(rack.holding(8), 20) << "nothing is written";
}

TEST(DeviceTrial, AFrameBoardIsTriedWithTheFramesItSeemsToSend) {
    test::TempFolder folder;
    WeatherBoard roof({});
    const auto host = std::move(StandInHost::onPty(roof.begin(), folder.file("port")).value());
    const DeviceTrial trial(*deviceKind("frame-board"), jsonText(json{{"address", host->address()}}));
    EXPECT_TRUE(eventually([&] { return trial.state().settings.find("begin a53c length 18") != std::string::npos; }))
        << trial.state().sentence.english();
    EXPECT_TRUE(eventually([&] { return trial.state().link == LinkState::live; })) << trial.state().sentence.english();
}

TEST(DeviceTrial, PinsAreListedAndNoneOfThemIsTouched) {
    test::TempFolder folder;
    PinBoard board;
    const auto host = std::move(StandInHost::onPty(board.begin(), folder.file("port")).value());
    for (auto& m : board.mode) m = -1;
    {
        const DeviceTrial trial(*deviceKind("firmata"), jsonText(json{{"address", host->address()}}));
        EXPECT_TRUE(eventually([&] { return channel(trial.state(), "A5") && channel(trial.state(), "D9 pwm"); }));
        EXPECT_EQ(trial.state().sentence.english(), "Pin board stand-in (protocol 2.5) answers, with 20 pins.");
    }
    for (const auto& m : board.mode) EXPECT_EQ(m, -1) << "no pin was given a mode";
}

TEST(DeviceTrial, AMastersSensorsAreListedWithWhatTheySayTheyAre) {
    SensorMaster master;
    const auto host = std::move(StandInHost::onLoopback(master.begin()).value());
    const DeviceTrial trial(*deviceKind("io-link-master"), jsonText(json{{"address", host->address()}}));
    EXPECT_TRUE(eventually([&] { return trial.state().parts.size() == 2; })) << trial.state().sentence.english();
    EXPECT_EQ(partOf(trial.state(), "level"), "Demonstration, Brine level; device 4711 of vendor 999");
    EXPECT_EQ(partOf(trial.state(), "valve"), "device 4712 of vendor 999");
    EXPECT_FALSE(master.valveOpen());
}

TEST(DeviceTrial, MessagesOfABusThatNobodyHasDescribedAreListed) {
    PumpBus bus;
    const auto host = std::move(StandInHost::onLoopback(bus.begin()).value());
    const DeviceTrial trial(*deviceKind("can"),
                            jsonText(json{{"address", host->address()}, {"bit-rate", 500'000}, {"listen-only", true}}));
    EXPECT_TRUE(eventually([&] { return trial.state().parts.size() > 2; })) << trial.state().sentence.english();
    for (const auto& p : trial.state().parts) {
        EXPECT_TRUE(p.place.size() == 3 || p.place.size() == 8) << p.place;
        EXPECT_NE(p.what.english().find(" bytes, "), std::string::npos);
    }
}

TEST(DeviceTrial, WhatIsNotThereSaysSo) {
    const DeviceTrial trial(*deviceKind("serial-line-board"), R"({"port":"/dev/there-is-none"})");
    EXPECT_TRUE(eventually([&] { return trial.state().link == LinkState::absent; }));
    EXPECT_TRUE(trial.state().channels.empty());
}

}  // namespace
}  // namespace cruscotto::device_trial_test
