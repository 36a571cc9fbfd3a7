#include <nlohmann/json.hpp>

#include "core/base/crash_send.h"
#include "core/base/json_text.h"
#include "devices/can/can_settings.h"
#include "devices/device_kind.h"
#include "devices/device_listener.h"
#include "standins/canbus/pump_bus.h"

namespace cruscotto::can_test {
namespace {

using nlohmann::json;
using test::eventually;

CanFrame frameOf(std::uint32_t id, std::initializer_list<int> data) {
    CanFrame f;
    f.id = id;
    for (const int d : data) f.data.at(f.length++) = static_cast<std::uint8_t>(d);
    return f;
}

DbcSignal signalOf(unsigned start, unsigned bits, bool bigEndian, bool isSigned) {
    DbcSignal s;
    s.name = "s";
    s.start = start;
    s.bits = bits;
    s.bigEndian = bigEndian;
    s.isSigned = isSigned;
    return s;
}

TEST(DbcSignal, LiesWhereEitherByteOrderPutsIt) {
    const CanFrame f = frameOf(1, {0x12, 0x34, 0x56, 0x78, 0x9A, 0xBC, 0xDE, 0xF0});
    struct Case {
        DbcSignal signal;
        double raw;
    };
    for (const Case& c : {Case{signalOf(0, 8, false, false), 0x12}, Case{signalOf(0, 16, false, false), 0x3412},
                          Case{signalOf(4, 8, false, false), 0x41}, Case{signalOf(7, 16, true, false), 0x1234},
                          Case{signalOf(3, 8, true, false), 0x23}, Case{signalOf(15, 12, true, false), 0x345},
                          Case{signalOf(39, 8, true, true), -102}, Case{signalOf(32, 8, false, true), -102},
                          Case{signalOf(60, 4, false, true), -1}, Case{signalOf(0, 1, false, false), 0},
                          Case{signalOf(1, 1, false, false), 1}})
        EXPECT_EQ(rawValue(c.signal, f), c.raw)
            << c.signal.start << "|" << c.signal.bits << (c.signal.bigEndian ? "@0" : "@1");
    EXPECT_FALSE(rawValue(signalOf(60, 8, false, false), f)) << "beyond the frame";
    // Whatever is put in is read back, and nothing else changes.
    for (const bool bigEndian : {false, true})
        for (const bool isSigned : {false, true})
            for (unsigned bits = 1; bits <= 64; ++bits)
                for (unsigned start = 0; start < 64; start += 3) {
                    const DbcSignal s = signalOf(start, bits, bigEndian, isSigned);
                    CanFrame g = frameOf(1, {0xA5, 0x5A, 0xC3, 0x3C, 0x96, 0x69, 0x0F, 0xF0});
                    const auto before = rawValue(s, g);
                    if (!before) continue;
                    const CanFrame untouched = g;
                    const double value = isSigned    ? (bits == 1 ? -1. : -1.)
                                         : bits > 50 ? 12345.
                                                     : std::ldexp(1, static_cast<int>(bits)) - 1;
                    setRawValue(s, value, g);
                    ASSERT_EQ(rawValue(s, g), value) << start << "|" << bits;
                    setRawValue(s, 1e30, g);
                    ASSERT_GE(*rawValue(s, g), bits == 1 && isSigned ? 0 : 1) << "held at the end of its bits";
                    if (bits <= 52) {
                        setRawValue(s, *before, g);
                        ASSERT_EQ(g, untouched) << start << "|" << bits;
                    }
                }
}

TEST(Dbc, TheExampleIsReadAndWrittenAgainTheSame) {
    const std::string text = test::readFile(std::string(test::sourceFolder) + "/examples/pump-bus.dbc");
    const auto dbc = readDbc(text);
    ASSERT_TRUE(dbc.ok()) << dbc.error().english();
    ASSERT_EQ(dbc.value().messages.size(), 4U);
    const DbcMessage& drive = dbc.value().messages[0];
    EXPECT_EQ(drive.name, "Drive");
    EXPECT_EQ(drive.cycleSeconds, 0.01);
    EXPECT_TRUE(drive.signals[0].bigEndian);
    EXPECT_EQ(drive.signals[0].unit, "rpm");
    EXPECT_EQ(drive.signals[1].factor, 0.01);
    EXPECT_EQ(drive.signals[3].words.at(2), "running");
    const DbcMessage& temperatures = dbc.value().messages[1];
    EXPECT_TRUE(temperatures.extended);
    EXPECT_EQ(temperatures.id, 0x18FF5001U);
    EXPECT_EQ(temperatures.selector()->name, "Place");
    EXPECT_EQ(temperatures.signals[3].selectedBy, 2U);
    EXPECT_EQ(dbc.value().messages[2].signals[0].real, DbcSignal::Float::single);
    EXPECT_EQ(dbc.value().messages[2].comment, "Root mean square");
    const auto again = readDbc(writeDbc(dbc.value()));
    ASSERT_TRUE(again.ok()) << again.error().english();
    EXPECT_EQ(again.value(), dbc.value());
}

TEST(Dbc, WhatIsWrongIsSaidWithItsLine) {
    struct Case {
        const char* text;
        const char* says;
    };
    for (const Case& c :
         {Case{"BO_ x\n", "Line 1"}, Case{"BO_ 1 M: 8 X\n SG_ S : 1|8@2+ (1,0) [0|0] \"\" X\n", "Line 2"},
          Case{"BO_ 1 M: 99 X\n", "at most 64"}, Case{"BO_ 5000 M: 8 X\n", "11 or 29 bits"},
          Case{"BO_ 1 M: 8 X\n SG_ S : 1|8@1+ (0,0) [0|0] \"\" X\n", "Line 2"},
          Case{"BO_ 1 M: 8 X\n SG_ S : 0|8@1+ (1,0) [0|0] \"\" X\nSIG_VALTYPE_ 1 S : 1;\n", "32 or 64"}}) {
        const auto read = readDbc(c.text);
        ASSERT_FALSE(read.ok()) << c.text;
        EXPECT_NE(read.error().english().find(c.says), std::string::npos) << read.error().english();
    }
    // One signal that is too large for its message costs that one only.
    const auto most =
        readDbc("\nBO_ 1 M: 8 X\n SG_ S : 60|8@1+ (1,0) [0|0] \"\" X\n SG_ T : 0|8@1+ (1,0) [0|0] \"\" X\n");
    ASSERT_TRUE(most.ok());
    ASSERT_EQ(most.value().messages[0].signals.size(), 1U);
    EXPECT_EQ(most.value().messages[0].signals[0].name, "T");
    EXPECT_EQ(most.value().leftOut, (std::vector<std::string>{"line 2: the signal S does not fit in M"}));
    EXPECT_TRUE(readDbc("").ok());
    EXPECT_TRUE(readDbc("anything ; else \"; here\" ; SGTYPE_ 1;").ok());
    EXPECT_EQ(readDbc("BO_ 1 M: 1 X\n SG_ S : 0|8@1+ (1,0) [0|0] \"\xB0"
                      "C\" X\n")
                  .value()
                  .messages[0]
                  .signals[0]
                  .unit,
              "°C");
}

TEST(CanFrame, BitsOnTheBusAreCountedWithTheirStuffing) {
    // ISO 11898-1, 8.4.2: 44 bits and 8 a byte for 11 bits of identifier, 64 for 29, 3 between two; at most a stuff bit
    // for each four of the first 34 (54) and the data.
    for (std::uint32_t id = 0; id < 0x800; id += 37)
        for (std::uint8_t n = 0; n <= 8; ++n) {
            CanFrame f;
            f.id = id;
            f.length = n;
            f.data.fill(static_cast<std::uint8_t>(id * n));
            EXPECT_GE(bitsOnBus(f), 47U + 8 * n);
            EXPECT_LE(bitsOnBus(f), 47U + 8 * n + (34U + 8 * n - 1) / 4);
            f.extended = true;
            EXPECT_GE(bitsOnBus(f), 67U + 8 * n);
        }
    // Made by hand: identifier 0x555 and one byte 0x55 alternate nearly throughout.
    EXPECT_LE(bitsOnBus(frameOf(0x555, {0x55})), 57U);
    EXPECT_GE(bitsOnBus(frameOf(0, {0, 0, 0, 0, 0, 0, 0, 0})), 125U) << "five equal bits again and again";
}

TEST(Slcan, FramesReadBackAsTheyWereWritten) {
    std::vector<CanFrame> frames{frameOf(0x123, {1, 2, 3}), frameOf(0x7FF, {}), frameOf(0x18FEF100, {255})};
    frames[2].extended = true;
    frames.push_back(frames[0]);
    frames[3].remote = true;
    frames[3].data.fill(0);
    frames.push_back({});
    frames[4].fd = frames[4].bitRateSwitch = true;
    frames[4].length = 24;
    frames[4].data[23] = 9;
    EXPECT_EQ(slcanText(frames[0]), "t1233010203\r");
    EXPECT_EQ(slcanText(frames[2]), "T18FEF1001FF\r");
    std::string all = "\rz\r";
    for (const CanFrame& f : frames) all += slcanText(f);
    all += "\at12\rt123201021A2B\r";
    for (std::size_t step = 1; step < all.size(); ++step) {
        SlcanReader reader;
        std::vector<SlcanReader::Piece> out;
        for (std::size_t at = 0; at < all.size(); at += step) reader.feed(std::string_view(all).substr(at, step), out);
        ASSERT_EQ(out.size(), 10U);
        using What = SlcanReader::Piece::What;
        EXPECT_EQ(out[0].what, What::done);
        for (std::size_t i = 0; i < frames.size(); ++i) EXPECT_EQ(out[i + 2].frame, frames[i]) << i;
        EXPECT_EQ(out[7].what, What::refused);
        EXPECT_EQ(out[8].what, What::nonsense);
        EXPECT_EQ(out[9].what, What::frame) << "with a time stamp behind";
    }
}

class BusListener : public test::DeviceListener {
public:
    explicit BusListener(const json& settings) : DeviceListener("can", jsonText(settings)) {}
};

class Can : public ::testing::Test {
protected:
    test::TempFolder folder;
    PumpBus bus;
    std::unique_ptr<StandInHost> host = std::move(StandInHost::onPty(bus.begin(), folder.file("port")).value());
    [[nodiscard]] json settings(const json& more = json::object()) const {
        json j{{"address", host->address()},
               {"database", std::string(test::sourceFolder) + "/examples/pump-bus.dbc"},
               {"bit-rate", 250000}};
        j.update(more);
        return j;
    }
};

TEST_F(Can, EverySignalOfTheDescriptionIsRead) {
    BusListener listener(settings());
    ASSERT_TRUE(eventually([&] {
        return listener.count("Drive.Speed") > 20 && listener.count("Temperatures.Inverter") > 4 &&
               listener.count("Shake.Vibration") > 4;
    })) << listener.status().sentence.english();
    const auto speed = listener.samples("Drive.Speed");
    const auto current = listener.samples("Drive.Current");
    for (std::size_t i = 0; i < speed.size(); ++i) EXPECT_EQ(speed[i].v * 0.25, PumpBus::speed(i)) << "nothing is lost";
    for (std::size_t i = 0; i < current.size(); ++i) EXPECT_NEAR(current[i].v * 0.01, PumpBus::current(i), 1e-9);
    EXPECT_EQ(listener.samples("Drive.Running")[3].v, 1);
    EXPECT_EQ(listener.samples("Drive.State")[3].v, 2);
    const auto inverter = listener.samples("Temperatures.Inverter");
    for (std::size_t i = 0; i < inverter.size(); ++i)
        EXPECT_NEAR(inverter[i].v * 0.1, PumpBus::temperature(3 * i + 2), 1e-9);
    EXPECT_EQ(listener.samples("Shake.Vibration")[3].v, PumpBus::vibration(3));
    EXPECT_EQ(listener.status().rejected, 0U);
    // 100, 50 and 20 frames a second of about 110 bits at 250 kbit/s; more for a while where the machine has stood
    // still.
    EXPECT_TRUE(eventually([&] {
        const double share = listener.status().linkShare.value_or(0);
        return share > 0.03 && share < 0.12;
    }));
    EXPECT_EQ(bus.told().at(0), "C");
    EXPECT_EQ(bus.told().at(1), "S5");
    EXPECT_EQ(bus.told().at(2), "O");
}

TEST_F(Can, ValuesAreSentWhenAllOfAMessageAreKnown) {
    const json sends = settings({{"send", {{"Wanted", "every 0.01"}}}});
    const auto terminals = deviceKind("can")->terminals(jsonText(sends));
    const auto wanted = std::ranges::find(terminals, "Wanted.WantedSpeed", &TerminalInfo::terminal);
    ASSERT_NE(wanted, terminals.end());
    EXPECT_EQ(wanted->ranges.at(0), (Scale{0, 3000})) << "as the description has it";
    BusListener listener(sends);
    ASSERT_TRUE(listener.reaches(LinkState::live));
    const auto sent = [&] {
        return std::ranges::count_if(bus.told(), [](const std::string& s) { return s.starts_with("t300"); });
    };
    listener.device().setOutput("Wanted.WantedSpeed", 1200);
    const auto frames = bus.sent();
    ASSERT_TRUE(eventually([&] { return bus.sent() > frames + 10; }));
    EXPECT_EQ(sent(), 0) << "the other value was never set, and is not made up";
    listener.device().setOutput("Wanted.Enable", 1);
    ASSERT_TRUE(eventually([&] { return sent() > 3; })) << "again and again";
    EXPECT_EQ(bus.askedSpeed(), 1200);
    EXPECT_EQ(bus.told().back(), "t3004C0120100");
    listener.device().setOutput("Wanted.WantedSpeed", 0);
    listener.stop();
    EXPECT_TRUE(eventually([&] { return bus.told().back() == "C"; }));
    EXPECT_EQ(bus.askedSpeed(), 0) << "what was set last goes out before the link is closed";
}

TEST_F(Can, ACrashSendsItsSafeValues) {
    BusListener listener(settings({{"send", {{"Wanted", "on change"}}}}));
    listener.device().setSafeValues({{"Wanted.WantedSpeed", 0}, {"Wanted.Enable", 0}});
    listener.device().setOutput("Wanted.WantedSpeed", 1200);
    listener.device().setOutput("Wanted.Enable", 1);
    ASSERT_TRUE(eventually([&] { return bus.askedSpeed() == 1200; }));
    EXPECT_TRUE(eventually([&] {
        CrashSend::sendAll();
        return bus.askedSpeed() == 0;
    }));
}

TEST_F(Can, ThePeersMistakesCostBoundedMemoryAndAreShown) {
    BusListener listener(settings());
    ASSERT_TRUE(listener.reaches(LinkState::live));
    const auto rejected = [&](const std::string& words) {
        return eventually([&] {
            for (const Rejected& r : listener.status().lastRejected)
                if (r.reason.english().find(words) != std::string::npos) return true;
            return false;
        });
    };
    bus.faults.shortened = true;
    EXPECT_TRUE(rejected("7 bytes instead of 8"));
    bus.faults.shortened = false;
    bus.faults.garbage = true;
    EXPECT_TRUE(rejected("no frame"));
    bus.faults.garbage = false;
    bus.faults.endless = true;
    EXPECT_TRUE(rejected("no frame"));
    bus.faults.endless = false;
    bus.faults.quiet = true;
    EXPECT_TRUE(listener.reaches(LinkState::silent));
    bus.faults.quiet = false;
    EXPECT_TRUE(listener.reaches(LinkState::live));
}

TEST_F(Can, UnpluggedAgainAndAgainItKeepsEveryGapAndNothingElse) {
    PumpBus fast(50);
    host = nullptr;
    host = std::move(StandInHost::onPty(fast.begin(), folder.file("fast")).value());
    BusListener listener(settings());
    test::unplugAgainAndAgain(
        listener, "Drive.Speed", SANITIZED ? 100 : 1000, [&] { host->unplug(); }, [&] { host->plug(); });
    listener.stop();
    host = nullptr;
}

TEST(CanSettings, WhatIsMissingIsSaid) {
    const auto says = [](const json& j) {
        const auto s = canSettings(jsonText(j));
        return s.ok() ? "" : s.error().english();
    };
    EXPECT_NE(says({{"address", ""}}).find("Say where the bus is"), std::string::npos);
    EXPECT_NE(says({{"address", "/dev/x"}, {"bit-rate", 123456}}).find("bit rates"), std::string::npos);
    EXPECT_NE(says({{"address", "can0"}, {"database", "/no/such.dbc"}}).find("cannot be read"), std::string::npos);
    EXPECT_NE(says({{"address", "can0"}, {"send", {{"X", "on change"}}}}).find("no message \"X\""), std::string::npos);
    EXPECT_EQ(says({{"address", "can0"}, {"bit-rate", 83333}}), "") << "an interface of the kernel's has any rate";
}

TEST_F(Can, ASignOfLifeIsSentWhileSomebodyWatches) {
    BusListener listener(settings({{"send", {{"Wanted", "on change"}}}, {"heartbeat", "701 = 05 every 0.05"}}));
    listener.device().setOutput("Wanted.WantedSpeed", 1200);
    listener.device().setOutput("Wanted.Enable", 1);
    ASSERT_TRUE(eventually([&] { return bus.askedSpeed() == 1200; }));
    const auto beats = [&] { return std::ranges::count(bus.told(), "t701105"); };
    ASSERT_TRUE(eventually([&] { return beats() > 5; }));
    // No safe values here: it is the device that puts its output to rest.
    listener.hang(true);
    EXPECT_TRUE(eventually([&] { return bus.askedSpeed() == 0; }));
}

TEST_F(Can, AWrongSignOfLifeIsRefused) {
    for (const char* wrong :
         {"701", "701 = 05", "8FF = 05 every 1", "701 = 5 every 1", "701 = 05 every 0", "70 = 05 every 1",
          "701 = 00 00 00 00 00 00 00 00 00 every 1", "701 = 05 every 1 1", "FFFFFFFF = 05 every 1"})
        EXPECT_FALSE(deviceKind("can")->check(jsonText(settings({{"heartbeat", wrong}}))).ok()) << wrong;
    EXPECT_TRUE(deviceKind("can")->check(jsonText(settings({{"heartbeat", "18FEF100 = every 0.1"}}))).ok());
}

}  // namespace
}  // namespace cruscotto::can_test
