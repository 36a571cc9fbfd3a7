#include <modbus/modbus.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <nlohmann/json.hpp>

#include "core/base/crash_send.h"
#include "core/base/json_text.h"
#include "devices/device_kind.h"
#include "devices/device_listener.h"
#include "devices/modbus/modbus_frame.h"
#include "devices/modbus/modbus_identity.h"
#include "devices/modbus/modbus_point.h"
#include "devices/modbus/modbus_settings.h"
#include "devices/modbus/rack_module.h"
#include "standins/rack/cold_store_rack.h"
#include "test_stages.h"

namespace cruscotto::modbus_test {
namespace {

using nlohmann::json;
using test::eventually;
using Point = ModbusPoint;

class RackListener : public test::DeviceListener {
public:
    explicit RackListener(const json& settings) : DeviceListener("modbus", jsonText(settings)) {}
};

std::unique_ptr<StandInHost> hosted(Result<std::unique_ptr<StandInHost>> host) {
    if (!host) throw std::runtime_error(host.error().english());
    return std::move(host.value());
}

json settingsFor(const StandInHost& host, const json& points, const json& more = json::object()) {
    json j{{"address", host.address()}, {"points", points}, {"every-s", 0.01}, {"timeout-s", 0.2}};
    j.update(more);
    return j;
}

TEST(ModbusPoint, IsReadFromWords) {
    const auto p = modbusPoint("flow", "unit 2 holding 10 f32 cdab every 0.5");
    ASSERT_TRUE(p.ok()) << p.error().english();
    EXPECT_EQ(p.value(), (Point{"flow", 2, ModbusTable::holding, 10, Point::Type::f32, Point::Order::cdab, -1, 0.5,
                                false, false}));
    EXPECT_TRUE(modbusPoint("valve", "coil 3 out").value().out);
    EXPECT_EQ(modbusPoint("alarm", "holding 4 bit 9").value().bit, 9);
    for (const char* wrong :
         {"", "holding", "holding x", "holding 70000", "holding 65535 u32", "input 1 out", "discrete 1 out",
          "coil 1 i16", "holding 1 bit 16", "holding 1 holding 2", "input 1 every 0", "unit 300 coil 1", "register 1",
          "holding 1 u16 counter", "holding 3 bit 1 out"})
        EXPECT_FALSE(modbusPoint("p", wrong).ok()) << wrong;
}

TEST(ModbusPoint, EveryTypeAndOrderReadsBackAsItWasWritten) {
    for (const auto type : {Point::Type::u16, Point::Type::i16, Point::Type::u32, Point::Type::i32, Point::Type::u64,
                            Point::Type::i64, Point::Type::f32, Point::Type::f64})
        for (const auto order : {Point::Order::abcd, Point::Order::cdab, Point::Order::badc, Point::Order::dcba})
            for (const double value : {0., 1., 258., -2., 31000.}) {
                Point p;
                p.type = type;
                p.order = order;
                const auto registers = modbusRegisters(p, value);
                ASSERT_EQ(registers.size(), p.words());
                const bool unsignedType =
                    type == Point::Type::u16 || type == Point::Type::u32 || type == Point::Type::u64;
                EXPECT_EQ(modbusValue(p, registers.data()), unsignedType ? std::max(0., value) : value);
            }
    Point p;
    p.type = Point::Type::u32;
    const std::array<std::uint16_t, 2> abcd{0x0A0B, 0x0C0D}, cdab{0x0C0D, 0x0A0B}, badc{0x0B0A, 0x0D0C},
        dcba{0x0D0C, 0x0B0A};
    EXPECT_EQ(modbusValue(p, abcd.data()), 0x0A0B0C0D);
    p.order = Point::Order::cdab;
    EXPECT_EQ(modbusValue(p, cdab.data()), 0x0A0B0C0D);
    p.order = Point::Order::badc;
    EXPECT_EQ(modbusValue(p, badc.data()), 0x0A0B0C0D);
    p.order = Point::Order::dcba;
    EXPECT_EQ(modbusValue(p, dcba.data()), 0x0A0B0C0D);
    p.type = Point::Type::i16;
    EXPECT_EQ(modbusRegisters(p, 1e9).front(), 0xFF7F) << "held at the type's end, in the point's order";
}

std::vector<Point> points(std::initializer_list<const char*> all) {
    std::vector<Point> out;
    for (const char* words : all) {
        out.push_back(modbusPoint(std::to_string(out.size()), words).value());
        out.back().unit = std::max(0, out.back().unit);
        if (out.back().everySeconds == 0) out.back().everySeconds = 1;
    }
    return out;
}

TEST(ModbusPlan, ReadsNeighboursInOneRequestAndNoMoreThanFit) {
    auto plan = planReads(points({"holding 0", "holding 9", "holding 11 u32", "holding 30", "input 1",
                                  "unit 3 holding 1", "holding 1 every 0.1", "holding 5 out"}),
                          8);
    ASSERT_EQ(plan.size(), 5U);
    EXPECT_EQ(plan[0].everySeconds, 0.1);
    EXPECT_EQ(plan[1].address, 0);
    EXPECT_EQ(plan[1].count, 13);
    EXPECT_EQ(plan[1].points, (std::vector<std::size_t>{0, 1, 2}));
    EXPECT_EQ(plan[2].address, 30);
    EXPECT_EQ(planReads(points({"holding 0", "holding 1", "holding 3"}), 0).size(), 2U);
    EXPECT_EQ(planReads(points({"holding 0", "holding 124", "holding 125"}), 200).size(), 2U)
        << "125 registers at most";
    EXPECT_EQ(planReads(points({"coil 0", "coil 1999", "coil 2000"}), 200).size(), 2U) << "2000 coils at most";
    EXPECT_EQ(planReads(points({"holding 0 u32", "holding 1"}), 0)[0].count, 2) << "they may overlap";
}

// V1.02 of the serial line specification, 6.2.2, gives no numbers; this one is that of many books: 02 07 has the CRC
// 41 12.
TEST(ModbusFrame, TheCheckSumIsThatOfTheStandard) {
    EXPECT_EQ(modbusCrc(std::string("\x02\x07", 2)), 0x1241);
    EXPECT_EQ(modbusBytes(ModbusFraming::rtu, {0, 2, "\x07"}), std::string("\x02\x07\x41\x12", 4));
    EXPECT_EQ(modbusBytes(ModbusFraming::tcp, {258, 17, std::string("\x03\x00\x6B\x00\x03", 5)}),
              std::string("\x01\x02\x00\x00\x00\x06\x11\x03\x00\x6B\x00\x03", 12));
}

TEST(ModbusFrame, RepliesAreFoundInPiecesOfAnySize) {
    for (const ModbusFraming framing : {ModbusFraming::tcp, ModbusFraming::rtu}) {
        std::string all;
        for (int i = 0; i < 20; ++i)
            all += modbusBytes(framing, {static_cast<std::uint16_t>(i), 1, std::string("\x03\x02\x12\x34", 4)});
        for (std::size_t step = 1; step < all.size(); ++step) {
            ModbusReplies replies(framing);
            std::vector<ModbusReplies::Piece> out;
            for (std::size_t at = 0; at < all.size(); at += step)
                replies.feed(std::string_view(all).substr(at, step), out);
            ASSERT_EQ(out.size(), 20U) << step;
            for (const auto& piece : out) EXPECT_TRUE(piece.problem.empty()) << piece.problem.english();
        }
    }
}

TEST(Modbus, ReadsTheRackOverTheNetworkAndOverASerialLine) {
    ColdStoreRack rack;
    test::TempFolder folder;
    for (const bool serial : {false, true}) {
        const auto host = hosted(serial ? StandInHost::onPty(rack.onSerial(), folder.file("port"))
                                        : StandInHost::onLoopback(rack.onTcp()));
        RackListener listener(settingsFor(*host,
                                          {{"room 1", "input 0 i16"},
                                           {"door 2", "discrete 1"},
                                           {"relay", "coil 0"},
                                           {"float", "holding 100 f32"},
                                           {"float cdab", "holding 114 f32 cdab"},
                                           {"float badc", "holding 116 f32 badc"},
                                           {"float dcba", "holding 118 f32 dcba"},
                                           {"u32", "holding 102 u32"},
                                           {"i32", "holding 104 i32"},
                                           {"f64", "holding 106 f64"},
                                           {"i64", "holding 110 i64"},
                                           {"low bit", "holding 103 bit 0"},
                                           {"energy", "input 8 u32 counter"}},
                                          {{"baud", 115200}, {"timeout-s", 10}}));
        ASSERT_TRUE(eventually([&] {
            return listener.count("room 1") > 3 && listener.count("i64") > 0 && listener.count("door 2") > 0;
        })) << listener.status().sentence.english();
        EXPECT_EQ(listener.status().state, LinkState::live);
        EXPECT_NEAR(listener.latest("room 1"), rack.code(0), 400);
        EXPECT_EQ(listener.latest("door 2"), 1);
        for (const char* name : {"float", "float cdab", "float badc", "float dcba"})
            EXPECT_EQ(listener.latest(name), -12345.678F) << name;
        EXPECT_EQ(listener.latest("u32"), 123456789);
        EXPECT_EQ(listener.latest("low bit"), 1);
        EXPECT_EQ(listener.latest("i32"), -123456789);
        EXPECT_EQ(listener.latest("f64"), 3.14159265358979312);
        EXPECT_EQ(listener.latest("i64"), -1234567890123.);
        EXPECT_GE(listener.latest("energy"), 65530);
        EXPECT_EQ(listener.status().rejected, 0U);
        ASSERT_TRUE(listener.status().linkShare);
        EXPECT_GT(*listener.status().linkShare, 0);
    }
}

TEST(Modbus, WritesAndReadsBack) {
    ColdStoreRack rack;
    const auto host = hosted(StandInHost::onLoopback(rack.onTcp()));
    RackListener listener(settingsFor(*host, {{"fan", "coil 2 out"},
                                              {"compressor", "coil 0 out"},
                                              {"set", "holding 120 f32 cdab out"},
                                              {"filter", "holding 9 u16 out"},
                                              {"room", "input 0 i16"}}));
    ASSERT_TRUE(listener.reaches(LinkState::live));
    listener.device().setOutput("fan", 1);
    listener.device().setOutput("set", 2.5);
    listener.device().setOutput("filter", 70);
    EXPECT_TRUE(eventually([&] { return rack.relay(2) && rack.holding(121) == 0x4020 && rack.holding(9) == 70; }));
    rack.faults.stuckRelay = true;
    listener.device().setOutput("compressor", 1);
    EXPECT_TRUE(eventually([&] {
        return listener.status().sentence.english().find(
                   "compressor did not go through: it was set to 1 and reads back 0") != std::string::npos;
    })) << listener.status().sentence.english();
    rack.faults.stuckRelay = false;
    listener.device().setOutput("compressor", 1);
    EXPECT_TRUE(eventually(
        [&] { return rack.relay(0) && listener.status().sentence.english().find("compressor") == std::string::npos; }));
    // What is set last before the stop goes out: the safe value.
    listener.device().setOutput("fan", 0);
    listener.stop();
    EXPECT_FALSE(rack.relay(2));
}

TEST(Modbus, ARefusalIsSaidInWordsAndHoldsUpNothingElse) {
    ColdStoreRack rack;
    const auto host = hosted(StandInHost::onLoopback(rack.onTcp()));
    // The input registers end at 11: read together they are refused, one by one only the last is.
    RackListener listener(
        settingsFor(*host, {{"room", "input 6 i16"}, {"nothing", "input 14 i16"}, {"water", "input 10 u32"}}));
    ASSERT_TRUE(eventually([&] { return listener.count("room") > 2 && listener.count("water") > 2; }))
        << listener.status().sentence.english();
    EXPECT_TRUE(eventually([&] {
        return listener.status().sentence.english().find("it has no such address") != std::string::npos;
    })) << listener.status().sentence.english();
    EXPECT_EQ(listener.count("nothing"), 0U);
}

TEST(Modbus, AUnitThatDoesNotAnswerIsNamedAndTheOthersGoOn) {
    ColdStoreRack rack;
    const auto host = hosted(StandInHost::onLoopback(rack.onTcp()));
    RackListener listener(
        settingsFor(*host, {{"room", "input 0 i16"}, {"other", "unit 9 input 0 i16"}}, {{"timeout-s", 0.02}}));
    ASSERT_TRUE(eventually([&] {
        return listener.status().sentence.english().find("unit 9 did not answer") != std::string::npos;
    })) << listener.status().sentence.english();
    const std::size_t before = listener.count("room");
    EXPECT_TRUE(eventually([&] { return listener.count("room") > before + 20; }));
    EXPECT_EQ(listener.status().state, LinkState::live);
}

TEST(Modbus, ARegisterThatRefusesLeavesAGapAndTheOthersNone) {
    ColdStoreRack rack;
    const auto host = hosted(StandInHost::onLoopback(rack.onTcp()));
    RackListener listener(settingsFor(*host, {{"room", "input 0 i16"}, {"door", "discrete 0"}}));
    ASSERT_TRUE(eventually([&] { return listener.count("room") > 5; }));
    rack.faults.refuses = true;
    ASSERT_TRUE(eventually([&] { return listener.quiet().size() == 1; })) << "its last value grows old";
    const auto last = listener.samples("room").back().t;
    rack.faults.refuses = false;
    ASSERT_TRUE(eventually([&] { return listener.gapsOf("room").size() == 1; }));
    EXPECT_EQ(listener.gapsOf("room")[0].from, last);
    EXPECT_NE(listener.gapsOf("room")[0].cause.find("input of unit 1 from 0"), std::string::npos);
    EXPECT_TRUE(listener.gapsOf("door").empty());
    EXPECT_EQ(listener.status().state, LinkState::live);
}

TEST(Modbus, AnOutputThatTheUnitChangesIsSaidUntilItGoesThroughWhateverOthersDo) {
    ColdStoreRack rack;
    const auto host = hosted(StandInHost::onLoopback(rack.onTcp()));
    RackListener listener(
        settingsFor(*host, {{"fan", "coil 2 out"}, {"compressor", "coil 0 out"}, {"room", "input 0 i16"}}));
    rack.faults.stuckRelay = true;
    listener.device().setOutput("compressor", 1);
    const auto refused = [&] { return listener.status().outputProblems; };
    ASSERT_TRUE(eventually([&] { return refused().contains("compressor"); }));
    EXPECT_EQ(refused()["compressor"].english(), "it was set to 1 and reads back 0");
    listener.device().setOutput("fan", 1);
    ASSERT_TRUE(eventually([&] { return rack.relay(2); }));
    ASSERT_TRUE(eventually([&] { return listener.count("room") > 20; }));
    EXPECT_TRUE(refused().contains("compressor"));
    rack.faults.stuckRelay = false;
    listener.device().setOutput("compressor", 1);
    EXPECT_TRUE(eventually([&] { return refused().empty(); }));
}

TEST(Modbus, AUnitThatFallsSilentHasItsOutputsSafeBeforeAnythingElseWhenItIsBack) {
    ColdStoreRack rack;
    rack.alsoUnit = 9;
    const auto host = hosted(StandInHost::onLoopback(rack.onTcp()));
    RackListener listener(settingsFor(*host,
                                      {{"here", "input 0 i16"},
                                       {"there", "unit 9 input 0 i16"},
                                       {"set", "unit 9 holding 9 u16 out"},
                                       {"fan", "coil 2 out"}},
                                      {{"timeout-s", 0.2}}));
    listener.device().setSafeValues({{"set", 3}, {"fan", 0}});
    listener.device().setOutput("set", 70);
    listener.device().setOutput("fan", 1);
    ASSERT_TRUE(eventually([&] { return rack.holding(9) == 70 && rack.relay(2) && listener.count("there") > 0; }));
    rack.alsoUnit = 0;
    ASSERT_TRUE(eventually([&] { return listener.status().fallen == std::set<std::string>{"set"}; }));
    listener.device().setOutput("set", 80);  // decided before that was known
    const std::size_t others = listener.count("here");
    ASSERT_TRUE(eventually([&] { return listener.count("here") > others + 50; })) << "it does not hold the others up";
    rack.alsoUnit = 9;
    ASSERT_TRUE(eventually([&] { return rack.holding(9) == 3; }));
    EXPECT_TRUE(eventually([&] { return listener.status().fallen.empty(); }));
    EXPECT_TRUE(rack.relay(2)) << "what is within reach stays as it is";
    listener.device().allowOutputs(listener.status().fellSafe);
    listener.device().setOutput("set", 90);
    EXPECT_TRUE(eventually([&] { return rack.holding(9) == 90; }));
}

TEST(Modbus, ACrashSendsItsSafeValues) {
    ColdStoreRack rack;
    test::TempFolder folder;
    const auto pty = hosted(StandInHost::onPty(rack.onSerial(), folder.file("port")));
    const auto net = hosted(StandInHost::onLoopback(rack.onTcp()));
    for (const json& settings :
         {json(settingsFor(*net, {{"set", "holding 9 u16 out"}, {"fan", "coil 2 out"}})),
          json(settingsFor(*pty, {{"set", "holding 9 u16 out"}, {"fan", "coil 2 out"}}, {{"baud", 115200}}))}) {
        RackListener listener(settings);
        listener.device().setSafeValues({{"set", 3}, {"fan", 0}});
        // As the engine does; where the machine stood still for a moment, the unit was silent, and is back.
        ASSERT_TRUE(eventually([&] {
            listener.device().allowOutputs(listener.status().fellSafe);
            listener.device().setOutput("set", 70);
            listener.device().setOutput("fan", 1);
            return rack.holding(9) == 70 && rack.relay(2);
        }));
        EXPECT_TRUE(eventually([&] {
            CrashSend::sendAll();  // as the handler of a crash does; here the driver goes on asking meanwhile
            return rack.holding(9) == 3 && !rack.relay(2);
        })) << settings.dump();
    }
}

TEST(Modbus, ThePeersMistakesCostBoundedTimeAndAreShown) {
    ColdStoreRack rack;
    test::TempFolder folder;
    const auto pty = hosted(StandInHost::onPty(rack.onSerial(), folder.file("port")));
    const auto net = hosted(StandInHost::onLoopback(rack.onTcp()));
    {
        RackListener listener(settingsFor(*pty, {{"room", "input 0 i16"}}, {{"timeout-s", 0.02}, {"baud", 115200}}));
        ASSERT_TRUE(eventually([&] { return listener.count("room") > 0; }));  // before its first sample there is no gap
        rack.faults.wrongCheckSum = true;
        ASSERT_TRUE(eventually([&] {
            const auto s = listener.status();
            return !s.lastRejected.empty() && s.lastRejected.back().reason.english() == "its check sum is wrong";
        }));
        ASSERT_TRUE(listener.reaches(LinkState::silent));
        rack.faults.wrongCheckSum = false;
        ASSERT_TRUE(listener.reaches(LinkState::live)) << listener.status().sentence.english();
        EXPECT_TRUE(eventually([&] { return !listener.gaps().empty(); }));
        // Slower than the driver waits: a late reply is not taken for the one to the next request.
        const std::size_t before = listener.count("room");
        rack.faults.answersAfterMs = 35;
        ASSERT_TRUE(eventually([&] {
            const auto s = listener.status();
            return s.lastRejected.back().reason.english() == "came too late";
        }));
        rack.faults.answersAfterMs = 0;
        EXPECT_TRUE(eventually([&] { return listener.count("room") > before + 5; }));
        for (const auto& sample : listener.samples("room")) EXPECT_NEAR(sample.v, -4 * 2764.8, 500);
    }
    RackListener listener(settingsFor(*net, {{"room", "input 0 i16"}}, {{"timeout-s", 0.02}}));
    ASSERT_TRUE(listener.reaches(LinkState::live));
    rack.faults.wrongOrder = true;
    ASSERT_TRUE(eventually([&] {
        const auto s = listener.status();
        return !s.lastRejected.empty() && s.lastRejected.back().reason.english() == "no reply to what was asked";
    }));
    EXPECT_EQ(listener.status().state, LinkState::live) << "the right reply comes behind it";
    rack.faults.wrongOrder = false;
    rack.faults.giant = true;
    ASSERT_TRUE(listener.reaches(LinkState::silent));
    EXPECT_LE(listener.status().lastRejected.size(), 20U);
    rack.faults.giant = false;
    EXPECT_TRUE(listener.reaches(LinkState::live));
}

TEST(Modbus, WhatIsSetUpAtATerminalIsWrittenIntoItsModule) {
    ColdStoreRack rack;
    const auto host = hosted(StandInHost::onLoopback(rack.onTcp()));
    const JsonText settings =
        jsonText(settingsFor(*host, json::object(), {{"slots", {{"1", "analog-in-8"}, {"2", "digital-in-16"}}}}));
    const DeviceKind& kind = *deviceKind("modbus");
    const std::vector<TerminalRequest> asked{{"1.AI2", {}, {{"filter", 70.0}}}, {"2.DI3", {}, {{"filter", "10 ms"}}}};
    std::vector<std::string> keys;
    for (const TerminalSetting& s : kind.setup(settings, "1.AI2", asked)) keys.push_back(s.key);
    EXPECT_EQ(keys, (std::vector<std::string>{"type", "filter"}));
    EXPECT_EQ(kind.setupSentence(settings, "1.AI2", asked).english(),
              "1.AI2, written into the module: Input type of AI2 as the module has it, Filter time of AI2 70 ms.");
    // One filter for the whole module: whoever comes second has no other choice, and the reason stands there.
    const auto second = kind.setup(settings, "2.DI4", asked);
    ASSERT_EQ(second.size(), 1U);
    EXPECT_EQ(second[0].otherwise, "10 ms");
    EXPECT_EQ(second[0].choices[1].blocked.english(), "shared by the whole module, and 2.DI3 has set 10 ms.");
    EXPECT_EQ(problemsOf({"2.DI4", {}, {{"filter", "1 ms"}}}, second).size(), 1U);
    EXPECT_EQ(problemsOf({"1.AI2", {}, {{"filter", 1e9}}}, kind.setup(settings, "1.AI2", asked)).size(), 1U);

    test::DeviceListener listener("modbus", settings, asked);
    EXPECT_TRUE(eventually([&] { return rack.holding(9) == 70 && rack.holding(16) == 4; }))
        << listener.status().sentence.english();
}

TEST(Modbus, ARacksModulesBecomeChannelsAndSettings) {
    ColdStoreRack rack;
    const auto host = hosted(StandInHost::onLoopback(rack.onTcp()));
    const json slots{{"1", "analog-in-8"}, {"2", "digital-in-16"}, {"3", "relay-out-8"}, {"4", "counter-in-2"}};
    const json settings = settingsFor(*host, json::object(),
                                      {{"slots", slots}, {"parameters", {{"1.filter2", "50"}, {"1.type1", "10 V"}}}});
    const auto terminals = deviceKind("modbus")->terminals(jsonText(settings));
    ASSERT_EQ(terminals.size(), 34U);
    EXPECT_EQ(terminals[0].terminal, "1.AI1");
    EXPECT_EQ(terminals[0].chain.at(0), (twoPoints(-27648, -10, 27648, 10, "V", "")));
    RackListener listener(settings);
    ASSERT_TRUE(eventually([&] {
        return listener.count("1.AI8") > 0 && listener.count("2.DI16") > 0 && listener.count("4.CT2") > 0;
    })) << listener.status().sentence.english();
    EXPECT_NEAR(listener.latest("1.AI8"), rack.code(7), 1500);
    const auto parameter = [&](const std::string& key) {
        for (const DeviceParameter& p : listener.status().parameters)
            if (p.key == key) return p;
        return DeviceParameter{};
    };
    ASSERT_TRUE(eventually([&] { return parameter("2.filter").there.has_value(); }));
    EXPECT_EQ(parameter("2.filter").there, "3 ms");
    EXPECT_EQ(parameter("1.type1").there, "10 V");
    EXPECT_FALSE(parameter("1.type1").differs());
    EXPECT_TRUE(parameter("1.filter2").differs()) << "20 there, 50 in the bench";
    EXPECT_NE(listener.status().sentence.english().find("differ from the bench: 1.filter2"), std::string::npos);

    listener.device().setParameter("1.filter2", "50");
    EXPECT_TRUE(eventually([&] { return rack.holding(9) == 50 && !parameter("1.filter2").differs(); }));
    listener.device().setParameter("2.filter", "20 ms");
    EXPECT_TRUE(eventually([&] { return rack.holding(16) == 5 && parameter("2.filter").there == "20 ms"; }));
    EXPECT_TRUE(eventually([&] { return parameter("2.filter").done.english() == "Written, and read back"; }));
    listener.device().setParameter("1.filter2", "1e9");
    EXPECT_TRUE(eventually([&] { return !parameter("1.filter2").problem.empty(); }));
    EXPECT_TRUE(parameter("1.filter2").done.empty());
    EXPECT_EQ(rack.holding(9), 50);
    listener.device().setOutput("3.DO2", 1);
    EXPECT_TRUE(eventually([&] { return rack.relay(1); }));
}

TEST(Modbus, WithNothingToReadItTellsWhatTheUnitIsAndOffersItsModules) {
    ColdStoreRack rack;
    test::TempFolder folder;
    for (const bool serial : {false, true}) {
        const auto host = hosted(serial ? StandInHost::onPty(rack.onSerial(), folder.file("port"))
                                        : StandInHost::onLoopback(rack.onTcp()));
        const auto says = [](RackListener& listener) {
            std::map<std::string, std::string> out;
            for (const auto& part : listener.status().parts) out[part.place] = part.what.english();
            return out;
        };
        const json settings{{"address", host->address()}, {"baud", 115200}, {"timeout-s", 5}};
        {
            RackListener listener(settings);
            ASSERT_TRUE(eventually([&] { return listener.status().state == LinkState::live; }))
                << listener.status().sentence.english();
            EXPECT_NE(listener.status().sentence.english().find("Cruscotto Cold store rack"), std::string::npos);
            const auto parts = says(listener);
            EXPECT_EQ(parts.at("revision"), "1.0");
            EXPECT_EQ(parts.at("used as"), "Cold store");
            EXPECT_EQ(parts.at("slot 4"), "2 pulse counters, 32 bit (counter-in-2)");
            ASSERT_EQ(listener.status().suggestions.size(), 1U);
            EXPECT_EQ(listener.status().suggestions[0].key, "slots");
            EXPECT_EQ(listener.status().suggestions[0].value,
                      "1 = analog-in-8\n2 = digital-in-16\n3 = relay-out-8\n4 = counter-in-2\n");
            EXPECT_EQ(listener.status().rejected, 0U);
        }
        // Behind a module that is not known nobody can tell where addresses begin.
        rack.faults.strangeModule = true;
        {
            RackListener listener(settings);
            ASSERT_TRUE(eventually([&] { return says(listener).contains("slot 3"); }));
            EXPECT_EQ(says(listener).at("slot 3"), "valve-driver-9");
            EXPECT_TRUE(listener.status().suggestions.empty());
        }
        rack.faults.strangeModule = false;
        rack.faults.secretive = true;
        {
            RackListener listener(settings);
            ASSERT_TRUE(eventually([&] { return listener.status().state == LinkState::live; }));
            EXPECT_NE(listener.status().sentence.english().find("does not say what it is"), std::string::npos);
            EXPECT_TRUE(listener.status().parts.empty());
        }
        rack.faults.secretive = false;
        // A unit that is not on yet is said to be silent, and found as soon as it answers.
        rack.faults.silent = true;
        {
            json impatient = settings;
            impatient["timeout-s"] = 0.1;
            RackListener listener(impatient);
            ASSERT_TRUE(listener.reaches(LinkState::silent)) << listener.status().sentence.english();
            rack.faults.silent = false;
            EXPECT_TRUE(listener.reaches(LinkState::live)) << listener.status().sentence.english();
        }
    }
}

TEST(ModbusIdentity, IsAskedForUntilThereIsNoMoreAndNoLonger) {
    const auto asked = [](const std::function<std::string(const std::string&)>& unit) {
        ModbusIdentity identity;
        std::vector<std::string> requests;
        for (std::string r = identity.request(); !r.empty() && requests.size() < 1000; r = identity.request()) {
            requests.push_back(r);
            identity.take(unit(r));
        }
        return requests.size();
    };
    using namespace std::string_literals;
    EXPECT_EQ(asked([](auto&) { return ""s; }), 1U);
    EXPECT_EQ(asked([](auto&) { return "\xAB\x01"s; }), 1U) << "it does not know the question";
    EXPECT_EQ(asked([](auto&) { return "\x2B\x0E\x01\x01\x00\x00\x00"s; }), 1U) << "basic only";
    EXPECT_EQ(asked([](auto&) { return "\x2B\x0E\x01\x83\x00\x00\x00"s; }), 3U) << "basic, regular, the maker's";
    // One that always has more, of the same or of what comes behind it; and one whose lengths are wrong.
    EXPECT_EQ(asked([](auto&) { return "\x2B\x0E\x01\x01\xFF\x00\x00"s; }), 1U);
    EXPECT_LE(asked([](auto& r) { return "\x2B\x0E\x01\x03\xFF"s + static_cast<char>(r[3] + 1) + "\x01\x05\xFFxx"s; }),
              70U);
}

TEST(RackModule, TheAccuracyThatItSaysIsPartOfTheChain) {
    const auto read = readRackModule(R"({"format":"cruscotto-module","version":1,"size":{"input":1},
        "channels":[{"name":"A","table":"input","address":0,"type":"i16","codes":[0,1000],"values":[-50,100],
                     "unit":"Cel","accuracy":{"of-reading":0.2,"of-full-scale":0.1}}]})");
    ASSERT_TRUE(read.ok()) << read.error().english();
    const ChainSpec& chain = read.value().channels[0].chain;
    ASSERT_EQ(chain.size(), 2U);
    EXPECT_EQ(stageKey(chain[1]), "accuracy");
    EXPECT_EQ(chain[1].number("of-reading"), 0.2);
    EXPECT_EQ(chain[1].number("full-scale"), 100);
    EXPECT_TRUE(checkChain(chain, ChannelKind::analogInput).ok());
}

TEST(RackModule, WhatIsWrongWithADescriptionIsSaid) {
    struct Case {
        const char* text;
        const char* says;
    };
    for (const Case& c :
         {Case{"{", "not JSON"}, Case{"{}", "\"format\""},
          Case{R"({"format":"cruscotto-module","version":2})", "version"},
          Case{R"({"format":"cruscotto-module","version":1})", "\"size\""},
          Case{R"({"format":"cruscotto-module","version":1,"size":{"input":1},
                                   "channels":[{"name":"A{n}","count":2,"table":"input","address":0}]})",
               "A2 lies outside"},
          Case{R"({"format":"cruscotto-module","version":1,"size":{"input":1},
                   "channels":[{"name":"A","table":"input","address":0,"codes":[0,1],"values":[0,1],"accuracy":7}]})",
               "\"accuracy\" has"},
          Case{R"({"format":"cruscotto-module","version":1,"size":{"input":1},"channels":[{"name":"A"}]})",
               "address"}}) {
        const auto read = readRackModule(c.text);
        ASSERT_FALSE(read.ok()) << c.text;
        EXPECT_NE(read.error().english().find(c.says), std::string::npos) << read.error().english();
    }
    for (const std::string& name : rackModuleNames())
        EXPECT_TRUE(rackModule(name).ok()) << rackModule(name).error().english();
    EXPECT_FALSE(assembleRack({{1, "no-such"}}).ok());
}

TEST(Modbus, UnpluggedAgainAndAgainItKeepsEveryGapAndNothingElse) {
    ColdStoreRack rack;
    constexpr std::size_t times = SANITIZED ? 100 : 1000;
    {
        const auto host = hosted(StandInHost::onLoopback(rack.onTcp()));
        RackListener listener(settingsFor(*host, {{"room", "input 0 i16"}}, {{"every-s", 0.001}}));
        test::unplugAgainAndAgain(
            listener, "room", times, [&] { host->unplug(); }, [&] { host->plug(); });
    }
    test::TempFolder folder;
    const auto host = hosted(StandInHost::onPty(rack.onSerial(), folder.file("port")));
    RackListener listener(settingsFor(*host, {{"room", "input 0 i16"}}, {{"every-s", 0.001}, {"baud", 115200}}));
    test::unplugAgainAndAgain(
        listener, "room", times, [&] { host->unplug(); }, [&] { host->plug(); });
}

/// libmodbus's own server, on a thread.
class ForeignServer {
public:
    ForeignServer() : context_(modbus_new_tcp("127.0.0.1", 0)), map_(modbus_mapping_new(32, 32, 64, 64)) {
        socket_ = modbus_tcp_listen(context_, 1);
        sockaddr_in a{};
        socklen_t size = sizeof a;
        getsockname(socket_, reinterpret_cast<sockaddr*>(&a), &size);
        port_ = ntohs(a.sin_port);
        map_->tab_registers[4] = 0x41AC;                    // 21.5 in IEEE 754
        modbus_set_float(-3.25F, &map_->tab_registers[6]);  // words swapped
        map_->tab_input_registers[3] = 0xFFFE;
        map_->tab_input_bits[5] = 1;
        thread_ = std::thread([this] {
            std::array<std::uint8_t, MODBUS_TCP_MAX_ADU_LENGTH> query{};
            int listening = socket_;
            while (modbus_tcp_accept(context_, &listening) >= 0) {
                int n = 0;
                while ((n = modbus_receive(context_, query.data())) >= 0)
                    if (n > 0) modbus_reply(context_, query.data(), n, map_);
                modbus_close(context_);
            }
        });
    }
    ~ForeignServer() {
        shutdown(socket_, SHUT_RDWR);
        thread_.join();
        ::close(socket_);
        modbus_mapping_free(map_);
        modbus_free(context_);
    }
    ForeignServer(const ForeignServer&) = delete;
    ForeignServer& operator=(const ForeignServer&) = delete;
    [[nodiscard]] std::string address() const { return "127.0.0.1:" + std::to_string(port_); }
    [[nodiscard]] const modbus_mapping_t& map() const { return *map_; }

private:
    modbus_t* context_;
    modbus_mapping_t* map_;
    int socket_ = -1;
    int port_ = 0;
    std::thread thread_;
};

TEST(Modbus, TalksWithAServerThatIsNotOurs) {
    ForeignServer server;
    RackListener listener(json{{"address", server.address()},
                               {"every-s", 0.01},
                               {"timeout-s", 10},
                               {"points",
                                {{"f", "holding 4 f32"},
                                 {"g", "holding 6 f32 cdab"},
                                 {"i", "input 3 i16"},
                                 {"d", "discrete 5"},
                                 {"c", "coil 7"},
                                 {"relay", "coil 7 out"},
                                 {"set", "holding 10 f64 out"},
                                 {"read set", "holding 10 f64"}}}});
    ASSERT_TRUE(eventually([&] {
        return listener.count("c") > 0 && listener.count("f") > 0 && listener.count("i") > 0 && listener.count("d") > 0;
    })) << listener.status().sentence.english();
    EXPECT_EQ(listener.latest("f"), 21.5);
    EXPECT_EQ(listener.latest("g"), -3.25);
    EXPECT_EQ(listener.latest("i"), -2);
    EXPECT_EQ(listener.latest("d"), 1);
    EXPECT_EQ(listener.latest("c"), 0);
    listener.device().setOutput("relay", 1);
    listener.device().setOutput("set", 1e-3);
    EXPECT_TRUE(eventually([&] { return listener.latest("c") == 1 && listener.latest("read set") == 1e-3; }));
    EXPECT_EQ(listener.status().rejected, 0U);
    listener.stop();
}

TEST(Modbus, ItsOwnWatchOpensTheRelaysWhenNobodyAsksAnyMore) {
    ColdStoreRack rack;
    const auto host = hosted(StandInHost::onLoopback(rack.onTcp()));
    {
        RackListener listener(settingsFor(*host, {{"fan", "coil 2 out"}, {"room", "input 0 i16"}},
                                          {{"watchdog", "holding 17 = 2000"}, {"every-s", 0.02}}));
        listener.device().setOutput("fan", 1);
        ASSERT_TRUE(eventually([&] { return rack.relay(2) && listener.count("room") > 20; }));
        EXPECT_EQ(rack.holding(17), 2000) << "before any output; each request is a sign of life";
    }
    // Without safe values nothing is sent at the end: as if it had been killed.
    EXPECT_TRUE(eventually([&] { return !rack.relay(2); }));
}

TEST(Modbus, AWatchThatCannotBeSetIsSaid) {
    ColdStoreRack rack;
    const auto host = hosted(StandInHost::onLoopback(rack.onTcp()));
    RackListener listener(
        settingsFor(*host, {{"room", "input 0 i16"}}, {{"watchdog", "holding 500 = 300"}, {"every-s", 0.02}}));
    EXPECT_TRUE(eventually([&] {
        return listener.status().sentence.english().find("its own watch over the outputs is not set") !=
               std::string::npos;
    }));
    EXPECT_EQ(listener.status().state, LinkState::live);
}

TEST(Modbus, TheSignOfLifeGoesOnWhileSomebodyWatchesAndSafeValuesFollowWhenNobodyDoes) {
    ColdStoreRack rack;
    const auto host = hosted(StandInHost::onLoopback(rack.onTcp()));
    RackListener listener(settingsFor(*host,
                                      {{"fan", "coil 2 out"}, {"set", "holding 9 u16 out"}, {"room", "input 0 i16"}},
                                      {{"heartbeat", "holding 19 = 1 2 3 every 0.01"}, {"every-s", 0.02}}));
    listener.device().setSafeValues({{"set", 3}, {"fan", 0}});
    listener.device().setOutput("set", 70);
    listener.device().setOutput("fan", 1);
    ASSERT_TRUE(eventually([&] { return rack.holding(9) == 70 && rack.relay(2); }));
    for (const int v : {3, 1, 2}) ASSERT_TRUE(eventually([&] { return rack.holding(19) == v; })) << v;
    listener.hang(true);
    ASSERT_TRUE(eventually([&] { return rack.holding(9) == 3 && !rack.relay(2); }));
    ASSERT_EQ(listener.status().fallen, (std::set<std::string>{"fan", "set"}));
    rack.setHolding(19, 77);
    const std::size_t read = listener.count("room");
    ASSERT_TRUE(eventually([&] { return listener.count("room") > read + 10; })) << "it is read on";
    EXPECT_EQ(rack.holding(19), 77) << "there is nobody whose life could be told";
    listener.device().setOutput("fan", 1);  // decided before that was known
    listener.hang(false);
    ASSERT_TRUE(eventually([&] { return rack.holding(19) < 4 && listener.status().fallen.empty(); }));
    EXPECT_FALSE(rack.relay(2));
    listener.device().allowOutputs(listener.status().fellSafe);
    listener.device().setOutput("fan", 1);
    EXPECT_TRUE(eventually([&] { return rack.relay(2); }));
}

TEST(Modbus, AWrongWatchOrSignOfLifeIsRefused) {
    const auto refused = [](const json& more) {
        json settings{{"address", "127.0.0.1:1"}};
        settings.update(more);
        return !deviceKind("modbus")->check(jsonText(settings)).ok();
    };
    EXPECT_FALSE(refused({{"watchdog", "holding 17 = 300, unit 2 coil 4 = 1"}}));
    EXPECT_FALSE(refused({{"heartbeat", "unit 2 holding 17 = 0 1 every 0.5"}}));
    for (const char* wrong : {"holding 17", "holding = 3", "input 4 = 3", "holding 17 = ", "holding 17 = 1 2", "= 3"})
        EXPECT_TRUE(refused({{"watchdog", wrong}})) << wrong;
    for (const char* wrong : {"holding 17 = 1", "holding 17 = every 1", "holding 17 = 1 every 0",
                              "discrete 1 = 1 every 1", "holding 17 = 1 every 1 2", "holding 17 = 1 every every"})
        EXPECT_TRUE(refused({{"heartbeat", wrong}})) << wrong;
}

}  // namespace
}  // namespace cruscotto::modbus_test
