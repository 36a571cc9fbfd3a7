#include "devices/iolink/iolink_settings.h"

#include <gtest/gtest.h>

#include <fstream>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "core/base/units.h"
#include "devices/device_kind.h"
#include "devices/device_listener.h"
#include "standins/iolink/sensor_master.h"
#include "test_stages.h"

namespace cruscotto::iolink_test {
namespace {

using nlohmann::json;
using test::eventually;

const std::string descriptions = std::string(test::sourceFolder) + "/examples/iodd/";

TEST(Iodd, EverythingOfADescriptionIsRead) {
    const auto read = loadIodd(descriptions + "brine-level.xml");
    ASSERT_TRUE(read.ok()) << read.error().english();
    const Iodd& d = read.value();
    EXPECT_EQ(d.vendorId, 999U);
    EXPECT_EQ(d.deviceId, 4711U);
    EXPECT_EQ(d.device, "Brine level");
    ASSERT_EQ(d.in.size(), 4U);
    EXPECT_EQ(d.inBits, 32U);
    EXPECT_EQ(d.in[0].name, "Temperature");
    EXPECT_EQ(d.in[0].type, IoddValue::Type::signedWhole);
    EXPECT_EQ(d.in[0].gradient, 0.1);
    EXPECT_EQ(d.in[0].unit, "Cel");
    EXPECT_EQ(d.in[1].bits, 14U);
    EXPECT_EQ(d.in[1].unit, "mm");
    EXPECT_EQ(d.in[3].type, IoddValue::Type::boolean);
    EXPECT_EQ(d.in[3].words.at(1).second, "on");
    ASSERT_EQ(d.parameters.size(), 5U);
    EXPECT_EQ(d.parameters[0].value.name, "Switching, Output 1 is on above");
    EXPECT_EQ(d.parameters[0].index, 60);
    EXPECT_EQ(d.parameters[0].subindex, 1);
    EXPECT_EQ(d.parameters[0].value.limits->high, 1000);
    EXPECT_EQ(d.parameters[3].value.unit, "s");
    EXPECT_EQ(d.commands.at(0), (std::pair<int, std::string>{128, "Device reset"}));
    EXPECT_TRUE(losesConnection(128));
    EXPECT_FALSE(losesConnection(129));
    const auto valve = loadIodd(descriptions + "brine-valve.xml");
    ASSERT_TRUE(valve.ok());
    EXPECT_EQ(valve.value().outBits, 8U);
    EXPECT_EQ(valve.value().out.at(0).name, "Open");
}

TEST(Iodd, WhatIsNoneIsRefusedWithTheReason) {
    const auto why = [](const std::string& xml) {
        const auto read = readIodd(xml);
        return read ? std::string() : read.error().english();
    };
    EXPECT_NE(why("").find("no XML"), std::string::npos);
    EXPECT_NE(why("<a><b></a>").find("at byte"), std::string::npos);
    EXPECT_NE(why("<html/>").find("html"), std::string::npos);
    EXPECT_NE(why("<IODevice/>").find("vendorId"), std::string::npos);
    EXPECT_NE(why(R"(<IODevice><ProfileBody><DeviceIdentity vendorId="1" deviceId="2"/></ProfileBody></IODevice>)")
                  .find("neither"),
              std::string::npos);
    EXPECT_FALSE(loadIodd("/nowhere.xml").ok());
    // Entities of other files are not followed.
    const auto entity = readIodd(
        R"(<?xml version="1.0"?><!DOCTYPE a [<!ENTITY x SYSTEM "file:///etc/passwd">]><IODevice>&x;</IODevice>)");
    EXPECT_FALSE(entity.ok());
}

TEST(Iodd, ManyVariablesOfOneNameAreToldApart) {
    std::string xml = R"(<IODevice><ProfileBody><DeviceIdentity vendorId="1" deviceId="2"/><DeviceFunction>
        <VariableCollection>)";
    for (int i = 0; i < 100'000; ++i)
        xml += R"(<Variable id="Level" index="60"><Datatype xsi:type="UIntegerT" bitLength="8"/></Variable>)";
    const auto read = readIodd(xml + "</VariableCollection></DeviceFunction></ProfileBody></IODevice>");
    ASSERT_TRUE(read.ok()) << read.error().english();
    const auto& parameters = read.value().parameters;
    ASSERT_EQ(parameters.size(), 2000U) << "so many can be shown";
    EXPECT_EQ(parameters[0].value.name, "Level");
    EXPECT_EQ(parameters[1].value.name, "Level 2");
    EXPECT_EQ(parameters[1999].value.name, "Level 2000");
}

TEST(IoddValue, LiesWhereItsBitsSay) {
    IoddValue v;
    v.type = IoddValue::Type::signedWhole;
    v.bitOffset = 16;
    v.bits = 16;
    EXPECT_EQ(v.raw(std::string("\xff\xab\x08\x2a", 4)), -85);
    EXPECT_FALSE(v.raw("\x01\x02"));
    for (std::size_t bits = 1; bits <= 52; ++bits)
        for (std::size_t offset = 0; offset + bits <= 64; offset += 5) {
            IoddValue w;
            w.type = bits % 2 != 0 ? IoddValue::Type::signedWhole : IoddValue::Type::unsignedWhole;
            w.bits = bits;
            w.bitOffset = offset;
            std::string bytes = "\xa5\x5a\xc3\x3c\x96\x69\x0f\xf0";
            const double value = w.type == IoddValue::Type::signedWhole ? -std::ldexp(1, static_cast<int>(bits) - 1)
                                                                        : std::ldexp(1, static_cast<int>(bits)) - 1;
            const auto before = w.raw(bytes);
            std::string changed = bytes;
            w.put(value, changed);
            ASSERT_EQ(w.raw(changed), value) << bits << " at " << offset;
            w.put(*before, changed);
            ASSERT_EQ(changed, bytes) << "nothing else changes";
        }
}

TEST(IoLinkSettings, UnitsOfEitherSystem) {
    using Units = IoLinkSettings::Units;
    EXPECT_EQ(unitIn(Units::unitedStates, "Cel"), "[degF]");
    EXPECT_EQ(unitIn(Units::unitedStates, "kPa"), "[psi]");
    EXPECT_EQ(unitIn(Units::unitedStates, "m3/h"), "[gal_us]/min");
    EXPECT_EQ(unitIn(Units::unitedStates, "mm"), "[in_i]");
    EXPECT_EQ(unitIn(Units::unitedStates, "V"), "V");
    EXPECT_EQ(unitIn(Units::metric, "[degF]"), "Cel");
    EXPECT_EQ(unitIn(Units::metric, "kPa"), "kPa");
    EXPECT_EQ(unitIn(Units::asDescribed, "[degF]"), "[degF]");
    EXPECT_EQ(ioddUnit(1137), "bar");
    EXPECT_EQ(ioddUnit(1999), "{unit 1999}");
}

TEST(IoLinkSettings, SayWhatIsWrong) {
    const auto why = [](const json& j) {
        const auto s = ioLinkSettings(jsonText(j));
        return s ? std::string() : s.error().english();
    };
    EXPECT_NE(why(json::object()).find("where the device is"), std::string::npos);
    EXPECT_NE(why({{"address", "/dev/ttyUSB0"}}).find("over the network"), std::string::npos);
    EXPECT_NE(why({{"address", "a b"}}).find("no name of a host"), std::string::npos);
    EXPECT_NE(why({{"address", "localhost"}, {"sensors", {{"level", "/nowhere.xml"}}}}).find("/nowhere.xml"),
              std::string::npos);
    EXPECT_NE(why({{"address", "localhost"}, {"units", "ells"}}).find("metric"), std::string::npos);
    EXPECT_EQ(why({{"address", "http://127.0.0.1:8080/"}}), "");
}

class IoLink : public testing::Test {
protected:
    SensorMaster master;
    std::unique_ptr<StandInHost> host = std::move(StandInHost::onLoopback(master.begin()).value());
    [[nodiscard]] JsonText settings(const json& more = {}) const {
        json j{{"address", host->address()},
               {"every-s", 0.02},
               {"sensors", {{"level", descriptions + "brine-level.xml"}, {"valve", descriptions + "brine-valve.xml"}}}};
        if (more.is_object()) j.update(more);
        return jsonText(j);
    }
    static const DeviceParameter* parameter(const DeviceStatus& s, const std::string& key) {
        const auto it = std::ranges::find(s.parameters, key, &DeviceParameter::key);
        return it == s.parameters.end() ? nullptr : &*it;
    }
    static std::string there(test::DeviceListener& listener, const std::string& key) {
        const DeviceStatus s = listener.status();
        const DeviceParameter* p = parameter(s, key);
        return p && p->there ? *p->there : "";
    }
};

TEST_F(IoLink, ProcessDataIsReadWithItsUnits) {
    test::DeviceListener listener("io-link-master", settings());
    ASSERT_TRUE(eventually([&] { return listener.count("level.Level") > 20; })) << listener.status().sentence.english();
    EXPECT_GE(listener.latest("level.Level"), 390);
    EXPECT_LE(listener.latest("level.Level"), 650);
    EXPECT_LE(listener.latest("level.Temperature"), -79);
    EXPECT_EQ(listener.latest("level.Output 1"), listener.latest("level.Level") > 600 ? 1 : 0);
    EXPECT_EQ(listener.latest("valve.Ready"), 0);
    EXPECT_EQ(listener.status().sentence.english(), "Cold-store master 2 answers. Sensors read: 2.");
    for (const TerminalInfo& t : deviceKind("io-link-master")->terminals(settings()))
        if (t.terminal == "level.Temperature") EXPECT_EQ(t.chain.at(0), (slopeOffset(0.1, 0, "Cel")));
    for (const TerminalInfo& t : deviceKind("io-link-master")->terminals(settings({{"units", "United States"}})))
        if (t.terminal == "level.Temperature") {
            const Stage& stage = t.chain.at(0);
            EXPECT_EQ(stage.text("unit"), "[degF]");
            EXPECT_NEAR(-85 * stage.number("slope") + stage.number("offset"), 16.7, 1e-9) << "-8.5 degC";
        }
}

TEST_F(IoLink, SettingsOfASensorAreListedComparedChangedAndWritten) {
    test::DeviceListener listener("io-link-master",
                                  settings({{"parameters", {{"level/Switching, Output 1 is on above", "620"}}}}));
    const std::string key = "level/Switching, Output 1 is on above";
    ASSERT_TRUE(eventually([&] { return there(listener, key) == "600"; }));
    EXPECT_EQ(there(listener, "level/Damping"), "0.2") << "in seconds, as the description has it";
    EXPECT_EQ(there(listener, "level/Application tag"), "brine");
    EXPECT_EQ(there(listener, "level/Switching, Output 1 when on"), "high");
    ASSERT_TRUE(eventually(
        [&] { return listener.status().sentence.english().find("differ from the bench") != std::string::npos; }));
    EXPECT_TRUE(parameter(listener.status(), key)->differs());
    listener.device().setParameter(key, "620");
    EXPECT_TRUE(eventually([&] { return there(listener, key) == "620"; }));
    EXPECT_EQ(master.parameter(60, 1), 620);
    listener.device().setParameter("level/Switching, Output 1 when on", "low");
    EXPECT_TRUE(eventually([&] { return master.parameter(61, 1) == 1; }));
    listener.device().setParameter("level/Damping", "1.5");
    EXPECT_TRUE(eventually([&] { return master.parameter(80, 0) == 15; }));
    listener.device().setParameter("level/Application tag", "tank 2");
    EXPECT_TRUE(eventually([&] { return there(listener, "level/Application tag") == "tank 2"; }));
    // What it does not take is said, and nothing is written.
    listener.device().setParameter(key, "2000");
    ASSERT_TRUE(eventually([&] { return !parameter(listener.status(), key)->problem.empty(); }));
    EXPECT_EQ(master.parameter(60, 1), 620);
}

TEST_F(IoLink, ALimitInTheSensorMakesItsOwnOutputSwitch) {
    test::DeviceListener listener("io-link-master", settings());
    ASSERT_TRUE(eventually([&] { return listener.latest("level.Output 1") == 0; }));
    listener.device().setParameter("level/Switching, Output 1 is on above", "100");
    EXPECT_TRUE(eventually([&] { return listener.latest("level.Output 1") == 1; })) << "every level is above 100 mm";
}

TEST_F(IoLink, AResetThatKeepsTheConnectionAndOneThatLosesIt) {
    test::DeviceListener listener("io-link-master", settings());
    ASSERT_TRUE(eventually([&] { return listener.count("level.Level") > 3; }));
    const DeviceStatus s = listener.status();
    const DeviceParameter* command = parameter(s, "level/Command");
    ASSERT_TRUE(command);
    EXPECT_EQ(command->warned, (std::vector<std::string>{"Device reset", "Restore factory settings"}));
    EXPECT_FALSE(command->warning.empty());
    master.setParameter(61, 1, 1);
    listener.device().setParameter("level/Command", "Application reset");
    EXPECT_TRUE(eventually([&] { return there(listener, "level/Switching, Output 1 when on") == "high"; }))
        << "it is read anew";
    EXPECT_TRUE(listener.gapsOf("level.Level").empty());
    const auto done = [&] { return parameter(listener.status(), "level/Command")->done.english(); };
    EXPECT_TRUE(eventually([&] { return done() == "Done: Application reset"; })) << done();
    listener.device().setParameter("level/Command", "Sing");
    EXPECT_TRUE(eventually([&] { return done().empty(); })) << "that was not done";
    listener.device().setParameter("level/Command", "Device reset");
    ASSERT_TRUE(eventually(
        [&] { return listener.status().sentence.english().find("level is not well") != std::string::npos; }));
    EXPECT_EQ(listener.status().state, LinkState::live) << "the others go on";
    ASSERT_TRUE(eventually([&] { return listener.gapsOf("level.Level").size() == 1; }));
    const std::size_t valve = listener.count("valve.Ready");
    EXPECT_TRUE(eventually([&] { return listener.count("valve.Ready") > valve; }));
    EXPECT_TRUE(listener.gapsOf("valve.Ready").empty());
}

TEST_F(IoLink, OutputsGoOutAndAreSafeAtTheEnd) {
    test::DeviceListener listener("io-link-master", settings());
    ASSERT_TRUE(listener.reaches(LinkState::live));
    listener.device().setOutput("valve.Open", 1);
    EXPECT_TRUE(eventually([&] { return master.valveOpen(); }));
    EXPECT_TRUE(eventually([&] { return listener.latest("valve.Is open") == 1; })) << "read back";
    listener.device().setOutput("valve.Open", 0);
    listener.stop();
    EXPECT_FALSE(master.valveOpen());
}

TEST_F(IoLink, ASensorThatIsGoneHasItsOutputsSafeBeforeAnythingElseWhenItIsBack) {
    test::DeviceListener listener("io-link-master", settings());
    listener.device().setSafeValues({{"valve.Open", 0}});
    ASSERT_TRUE(listener.reaches(LinkState::live));
    listener.device().setOutput("valve.Open", 1);
    ASSERT_TRUE(eventually([&] { return master.valveOpen(); }));
    master.faults.valvePulled = true;
    ASSERT_TRUE(eventually([&] { return listener.status().fallen == std::set<std::string>{"valve.Open"}; }));
    listener.device().setOutput("valve.Open", 1);  // decided before that was known
    const std::size_t others = listener.count("level.Level");
    ASSERT_TRUE(eventually([&] { return listener.count("level.Level") > others + 3; })) << "the others go on";
    master.faults.valvePulled = false;
    EXPECT_TRUE(eventually([&] { return !master.valveOpen(); }));
    EXPECT_TRUE(eventually([&] { return listener.status().fallen.empty(); }));
    EXPECT_FALSE(master.valveOpen());
}

TEST_F(IoLink, ACableThatIsPulledFromTheMasterIsAGapOfThatSensor) {
    test::DeviceListener listener("io-link-master", settings());
    ASSERT_TRUE(eventually([&] { return listener.count("level.Level") > 3; }));
    master.faults.pulled = true;
    ASSERT_TRUE(eventually(
        [&] { return listener.status().sentence.english().find("does not communicate") != std::string::npos; }));
    master.faults.pulled = false;
    EXPECT_TRUE(eventually([&] { return listener.gapsOf("level.Level").size() == 1; }));
    master.faults.invalid = true;
    EXPECT_TRUE(eventually([&] { return listener.samples("level.Level").back().quality == Quality::outOfRange; }));
}

TEST_F(IoLink, UnpluggedAgainAndAgainItKeepsEveryGapAndNothingElse) {
    test::DeviceListener listener("io-link-master", settings());
    test::unplugAgainAndAgain(
        listener, "level.Level", SANITIZED ? 50 : 1000, [&] { host->unplug(); }, [&] { host->plug(); });
}

TEST_F(IoLink, AMastersMistakesCostBoundedTimeAndMemory) {
    test::DeviceListener listener("io-link-master", settings({{"timeout-s", 0.3}}));
    ASSERT_TRUE(listener.reaches(LinkState::live));
    for (auto* fault : {&master.faults.silent, &master.faults.notHttp, &master.faults.giant, &master.faults.slowDrip}) {
        *fault = true;
        EXPECT_TRUE(eventually([&] { return listener.status().state != LinkState::live; }))
            << listener.status().sentence.english();
        *fault = false;
        EXPECT_TRUE(listener.reaches(LinkState::live));
    }
    master.faults.strange = true;
    EXPECT_TRUE(eventually([&] { return listener.status().rejected > 0; }));
    master.faults.strange = false;
    EXPECT_TRUE(
        eventually([&] { return listener.status().sentence.english().find("Sensors read: 2") != std::string::npos; }));
}

TEST_F(IoLink, WithoutADescriptionThereAreTheBytes) {
    test::DeviceListener listener("io-link-master", settings({{"sensors", {{"level", ""}}}}));
    ASSERT_TRUE(eventually([&] { return listener.count("level.Byte 4") > 3; })) << listener.status().sentence.english();
    EXPECT_EQ(listener.latest("level.Byte 1"), 0xff) << "a temperature below zero";
    EXPECT_NE(listener.status().sentence.english().find("Also there: valve"), std::string::npos);
}

TEST_F(IoLink, TheDescriptionOfAnotherSensorIsNotUsed) {
    test::DeviceListener listener("io-link-master",
                                  settings({{"sensors", {{"level", descriptions + "brine-valve.xml"}}}}));
    ASSERT_TRUE(eventually([&] {
        return listener.status().sentence.english().find("the description is of device 4712") != std::string::npos;
    })) << listener.status().sentence.english();
    EXPECT_EQ(listener.count("level.Ready"), 0U);
}

TEST(IoLinkAgainstAnotherServer, AServerThatIsNotOursIsReadAndAskedAsTheInterfaceSays) {
    // Python's own HTTP server, with what the interface's text says of these paths.
    test::TempFolder folder;
    test::writeFile(folder.file("server.py"), R"(
import http.server, json
class Master(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def do_GET(self):
        path = self.path.split("?")[0]
        known = {"/iolink/v1/gateway/identification": {"productName": "Another master"},
                 "/iolink/v1/devices": [{"deviceAlias": "level"}],
                 "/iolink/v1/devices/level/identification": {"vendorId": 999, "deviceId": 4711},
                 "/iolink/v1/devices/level/processdata/value": {"getData": {"ioLink": {"valid": True, "value": [255, 171, 8, 41]}}},
                 "/iolink/v1/devices/level/parameters/60/subindices/1/value": {"value": [2, 88]}}
        body = json.dumps(known.get(path, {"code": 301, "message": "not found"})).encode()
        self.send_response(200 if path in known else 404)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)
    def log_message(self, *a): pass
server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Master)
print(server.server_port, flush=True)
server.serve_forever()
)");
    FILE* server = popen(("exec /usr/bin/python3 " + folder.file("server.py")).c_str(), "r");
    ASSERT_TRUE(server);
    int port = 0;
    ASSERT_EQ(fscanf(server, "%d", &port), 1);
    {
        test::DeviceListener listener("io-link-master",
                                      jsonText(json{{"address", "127.0.0.1:" + std::to_string(port)},
                                                    {"every-s", 0.05},
                                                    {"sensors", {{"level", descriptions + "brine-level.xml"}}}}));
        EXPECT_TRUE(eventually([&] { return listener.count("level.Level") > 3; }))
            << listener.status().sentence.english();
        EXPECT_EQ(listener.latest("level.Level"), 522);
        EXPECT_EQ(listener.latest("level.Temperature"), -85);
        EXPECT_EQ(listener.latest("level.Output 1"), 1);
        const DeviceStatus s = listener.status();
        const auto p = std::ranges::find(s.parameters, "level/Switching, Output 1 is on above", &DeviceParameter::key);
        EXPECT_EQ(p->there, "600");
        EXPECT_EQ(s.sentence.english(), "Another master answers. Sensors read: 1.");
    }
    (void)system(("pkill -f " + folder.file("server.py")).c_str());
    pclose(server);
}

}  // namespace
}  // namespace cruscotto::iolink_test
