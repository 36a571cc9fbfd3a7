#include <nlohmann/json.hpp>

#include "core/json_text.h"
#include "devices/computer/sensor_tree.h"
#include "devices/device_listener.h"

namespace cruscotto {
namespace {

using nlohmann::json;
using test::eventually;
namespace fs = std::filesystem;

/// A tree as the kernel would have it.
class Tree {
public:
    Tree() {
        put("sys/class/hwmon/hwmon3/name", "cpu\n");
        put("sys/class/hwmon/hwmon3/temp1_input", "41500\n");
        put("sys/class/hwmon/hwmon3/temp1_label", "Package\n");
        put("sys/class/hwmon/hwmon3/fan2_input", "1180\n");
        put("sys/class/hwmon/hwmon3/in0_input", "-1200\n");
        put("sys/class/hwmon/hwmon3/temp1_max", "90000\n");
        put("sys/class/hwmon/hwmon4/name", "cpu\n");
        put("sys/class/hwmon/hwmon4/power1_input", "2500000\n");
        put("sys/bus/iio/devices/iio:device0/name", "adc\n");
        put("sys/bus/iio/devices/iio:device0/in_voltage0_raw", "2048\n");
        put("sys/bus/iio/devices/iio:device0/in_voltage_scale", "0.805664\n");
        put("sys/bus/iio/devices/iio:device0/in_voltage1_raw", "100\n");
        put("sys/bus/iio/devices/iio:device0/in_voltage1_scale", "2\n");
        put("sys/bus/iio/devices/iio:device0/in_voltage1_offset", "-20\n");
        put("sys/bus/iio/devices/iio:device0/in_accel_x_raw", "-16\n");
        put("sys/bus/iio/devices/iio:device0/in_accel_scale", "0.5\n");
        put("sys/bus/iio/devices/iio:device0/in_humidityrelative_input", "45300\n");
        put("sys/bus/iio/devices/trigger0/name", "in_voltage9_raw\n");
        put("sys/bus/counter/devices/counter0/name", "encoder\n");
        put("sys/bus/counter/devices/counter0/count0/count", "4294967290\n");
        put("sys/bus/counter/devices/counter0/count0/name", "Channel 1\n");
    }
    void put(const std::string& path, const std::string& text) const {
        fs::create_directories(fs::path(root() + path).parent_path());
        test::writeFile(root() + path, text);
    }
    [[nodiscard]] std::string root() const { return folder_.file("tree/"); }

private:
    test::TempFolder folder_;
};

double reading(const KernelSensor& s) {
    const auto& line = std::get<SlopeOffset>(s.info.chain.at(0));
    return line.slope * readKernelNumber(s.path).value_or(NAN) + line.offset;
}

TEST(SensorTree, EverySensorIsFoundWithItsScaleAndUnit) {
    const Tree tree;
    const auto found = findKernelSensors(tree.root());
    struct Case {
        const char* name;
        double value;
        const char* unit;
    };
    for (const Case& c :
         {Case{"cpu.temp1", 41.5, "Cel"}, Case{"cpu.fan2", 1180, "{rpm}"}, Case{"cpu.in0", -1.2, "V"},
          Case{"cpu#2.power1", 2.5, "W"}, Case{"adc.voltage0", 2.048 * 0.805664, "V"}, Case{"adc.voltage1", 0.16, "V"},
          Case{"adc.accel_x", -8, "m/s2"}, Case{"adc.humidityrelative", 45.3, "%"}}) {
        const auto it = std::ranges::find(found, c.name, [](const KernelSensor& s) { return s.info.terminal; });
        ASSERT_NE(it, found.end()) << c.name;
        EXPECT_NEAR(reading(*it), c.value, 1e-9) << c.name;
        EXPECT_EQ(std::get<SlopeOffset>(it->info.chain.at(0)).unit, c.unit);
    }
    EXPECT_EQ(found.size(), 9U) << "limits and triggers are no readings";
    EXPECT_EQ(std::ranges::find(found, "cpu.temp1", [](const KernelSensor& s) { return s.info.terminal; })
                  ->info.title.english(),
              "Package");
    EXPECT_TRUE(findKernelSensors("/no/such/tree").empty());
}

std::vector<TerminalRequest> requests(std::initializer_list<const char*> names) {
    std::vector<TerminalRequest> out;
    for (const char* n : names) out.push_back({n, {}});
    return out;
}

TEST(Computer, ReadsWhatTheBenchUsesAndSaysWhatIsMissing) {
    const Tree tree;
    test::DeviceListener listener("computer", jsonText(json{{"root", tree.root()}, {"every-s", 0.002}}),
                                  requests({"cpu.temp1", "encoder.count0", "cpu.temp9"}));
    ASSERT_TRUE(eventually([&] { return listener.count("cpu.temp1") > 5; }));
    EXPECT_EQ(listener.latest("cpu.temp1"), 41500);
    EXPECT_EQ(listener.latest("encoder.count0"), 4294967290.);
    EXPECT_EQ(listener.status().found.size(), 9U);
    EXPECT_NE(listener.status().sentence.english().find("there is no cpu.temp9"), std::string::npos)
        << listener.status().sentence.english();
    tree.put("sys/class/hwmon/hwmon3/temp1_input", "no number");
    ASSERT_TRUE(eventually([&] {
        return listener.status().sentence.english().find("cpu.temp1 cannot be read now") != std::string::npos;
    }));
    tree.put("sys/class/hwmon/hwmon3/temp1_input", "42000\n");
    ASSERT_TRUE(eventually([&] { return listener.latest("cpu.temp1") == 42000; }));
    EXPECT_EQ(listener.gapsOf("cpu.temp1").size(), 1U);
}

TEST(Computer, NothingThereSaysWhereItLooked) {
    test::TempFolder empty;
    test::DeviceListener listener("computer", jsonText(json{{"root", empty.file("none")}}));
    ASSERT_TRUE(listener.reaches(LinkState::absent));
    EXPECT_NE(listener.status().sentence.english().find("sys/class/hwmon"), std::string::npos);
}

TEST(Computer, UnpluggedAgainAndAgainItKeepsEveryGapAndNothingElse) {
    const Tree tree;
    const std::string there = tree.root() + "sys", away = tree.root() + "gone";
    test::DeviceListener listener("computer", jsonText(json{{"root", tree.root()}, {"every-s", 0.001}}),
                                  requests({"cpu.temp1"}));
    test::unplugAgainAndAgain(
        listener, "cpu.temp1", SANITIZED ? 100 : 1000, [&] { fs::rename(there, away); },
        [&] { fs::rename(away, there); });
}

}  // namespace
}  // namespace cruscotto
