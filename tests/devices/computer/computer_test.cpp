#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstring>
#include <mutex>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "core/chain/common_stages.h"
#include "devices/computer/iio_buffer.h"
#include "devices/computer/sensor_tree.h"
#include "devices/device_listener.h"
#include "devices/kernel_file.h"

namespace cruscotto::computer_test {
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
    const Stage& line = s.info.chain.at(0);
    return line.number("slope") * readKernelNumber(s.path).value_or(NAN) + line.number("offset");
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
        EXPECT_EQ(it->info.chain.at(0).text("unit"), c.unit);
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

TEST(Computer, WhatIsAskedForMeanwhileIsReadAtOnce) {
    const Tree tree;
    test::DeviceListener listener("computer", jsonText(json{{"root", tree.root()}, {"every-s", 3600}}),
                                  requests({"cpu.temp1"}));
    ASSERT_TRUE(eventually([&] { return listener.count("cpu.temp1") == 1; }));
    EXPECT_TRUE(listener.device().request(requests({"encoder.count0"})));
    EXPECT_TRUE(eventually([&] { return listener.count("encoder.count0") == 1; }));
    EXPECT_TRUE(listener.device().request(requests({"cpu.temp1", "encoder.count0"})));
    EXPECT_TRUE(eventually([&] { return listener.count("encoder.count0") == 2; }));
    EXPECT_EQ(listener.count("cpu.temp1"), 2U);
    EXPECT_EQ(listener.gapsOf("cpu.temp1").size(), 1U) << "it was not read in between";
    EXPECT_TRUE(listener.gapsOf("encoder.count0").empty());
}

TEST(Computer, WhatACountIsWorthIsChosenAndNothingIsReadWhereItIsNotSo) {
    const Tree tree;
    const std::string adc = "sys/bus/iio/devices/iio:device0/";
    tree.put(adc + "in_voltage1_scale_available", "2 0.5 0.125\n");
    const JsonText settings = jsonText(json{{"root", tree.root()}, {"every-s", 0.002}});
    const DeviceKind& kind = *deviceKind("computer");
    EXPECT_TRUE(kind.setup(settings, "cpu.temp1", {}).empty());
    const auto offered = kind.setup(settings, "adc.voltage1", {});
    ASSERT_EQ(offered.size(), 1U);
    ASSERT_EQ(offered[0].choices.size(), 4U);
    EXPECT_EQ(offered[0].choices[2].title.english(), "0.0005 V");
    // The chain follows: (count - 20) * 0.5 mV.
    EXPECT_EQ(kind.chain(settings, {"adc.voltage1", {}, {{"scale", "0.5"}}}),
              ChainSpec{slopeOffset(0.0005, -0.01, "V")});
    EXPECT_EQ(kind.chain(settings, {"adc.voltage1"}), ChainSpec{slopeOffset(0.002, -0.04, "V")});

    test::DeviceListener listener("computer", settings, {{"adc.voltage1", {}, {{"scale", "0.5"}}}});
    ASSERT_TRUE(eventually([&] { return listener.count("adc.voltage1") > 2; })) << listener.status().sentence.english();
    EXPECT_EQ(kernelLine(tree.root() + adc + "in_voltage1_scale"), "0.5");
    EXPECT_TRUE(listener.device().request({{"adc.voltage1", {}, {{"scale", "0.3 V"}}}}));
    ASSERT_TRUE(eventually([&] {
        return listener.status().sentence.english().find("cannot be made 0.3 V") != std::string::npos;
    })) << listener.status().sentence.english();
    const std::size_t before = listener.count("adc.voltage1");
    EXPECT_TRUE(listener.device().request({{"adc.voltage1", {}, {{"scale", "2"}}}}));
    ASSERT_TRUE(eventually([&] { return listener.count("adc.voltage1") > before; }));
    EXPECT_EQ(listener.gapsOf("adc.voltage1").size(), 1U) << "not read while a count was worth something else";
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

TEST(IioElement, HowAChannelIsPackedIsRead) {
    struct Case {
        const char* text;
        std::string bytes;
        double value;
    };
    using namespace std::string_literals;
    for (const Case& c :
         {Case{"le:s12/16>>4", "\xf0\xff"s, -1}, Case{"be:u12/16>>4", "\x12\x34"s, 0x123},
          Case{"le:u8/8>>0", "\xff"s, 255}, Case{"le:s64/64>>0", "\xfe\xff\xff\xff\xff\xff\xff\xff"s, -2},
          Case{"be:s24/32>>8", "\xff\xff\xfe\x07"s, -2}, Case{"le:u16/16X2>>0", "\x01\x02\x03\x04"s, 0x201}}) {
        const auto element = iioElement(c.text);
        ASSERT_TRUE(element.ok()) << c.text;
        EXPECT_EQ(element.value().value(c.bytes.data()), c.value) << c.text;
    }
    for (const char* wrong : {"", "le:s12", "xx:s12/16>>4", "le:s12/15>>0", "le:s16/16>>1", "le:s12/16>>4x",
                              "le:f32/32>>0", "le:s12/16X0>>0"})
        EXPECT_FALSE(iioElement(wrong).ok()) << wrong;
    std::vector<std::size_t> offsets;
    const IioElement narrow = iioElement("le:s16/16>>0").value(), wide = iioElement("le:s64/64>>0").value();
    EXPECT_EQ(layOutScan({narrow, narrow, narrow, wide}, offsets), 16U);
    EXPECT_EQ(offsets, (std::vector<std::size_t>{0, 2, 4, 8}));
}

/// A made input with a buffer: /dev/iio:device0 is a pipe into which a test writes scans, as the kernel would.
class IioBufferTest : public testing::Test {
protected:
    Tree tree;
    int writer = -1;
    void SetUp() override {
        const std::string d = "sys/bus/iio/devices/iio:device0/";
        for (const auto& [name, type, index] :
             {std::tuple{"voltage0", "le:s12/16>>4", 0}, std::tuple{"voltage1", "le:u16/16>>0", 1},
              std::tuple{"timestamp", "le:s64/64>>0", 2}}) {
            const std::string e = d + "scan_elements/in_" + name;
            tree.put(e + "_type", type + std::string("\n"));
            tree.put(e + "_index", std::to_string(index) + "\n");
            tree.put(e + "_en", "0\n");
        }
        tree.put(d + "trigger/current_trigger", "\n");
        tree.put(d + "buffer/enable", "0\n");
        tree.put(d + "buffer/length", "2\n");
        tree.put(d + "sampling_frequency", "100\n");
        tree.put("dev/none", "");
        plug();
    }
    void TearDown() override { unplug(); }
    [[nodiscard]] std::string pipe() const { return tree.root() + "dev/iio:device0"; }
    void plug() {
        ASSERT_EQ(mkfifo(pipe().c_str(), 0600), 0);
        writer = open(pipe().c_str(), O_RDWR | O_NONBLOCK | O_CLOEXEC);
        ASSERT_GE(writer, 0);
    }
    void unplug() {
        unlink(pipe().c_str());
        close(writer);
        writer = -1;
    }
    void scan(std::int16_t a, std::uint16_t b, std::int64_t ns) const {
        std::string bytes(16, '\0');
        const auto shifted = static_cast<std::int16_t>(a * 16);
        memcpy(bytes.data(), &shifted, 2);
        memcpy(bytes.data() + 2, &b, 2);
        memcpy(bytes.data() + 8, &ns, 8);
        ASSERT_EQ(write(writer, bytes.data(), bytes.size()), 16);
    }
    [[nodiscard]] std::string written(const std::string& file) const {
        return test::readFile(tree.root() + "sys/bus/iio/devices/iio:device0/" + file);
    }
    [[nodiscard]] JsonText settings() const {
        return jsonText(json{{"root", tree.root()}, {"device", "adc"}, {"trigger", "every-10-ms"}, {"rate", 250}});
    }
};

TEST_F(IioBufferTest, EveryScanIsReadAtTheKernelsTimeAndWhatWasSetUpIsEnded) {
    {
        test::DeviceListener listener("iio-buffer", settings());
        ASSERT_TRUE(listener.reaches(LinkState::starting)) << listener.status().sentence.english();
        ASSERT_TRUE(eventually([&] { return written("buffer/enable") == "1\n"; }));
        EXPECT_EQ(written("trigger/current_trigger"), "every-10-ms\n");
        EXPECT_EQ(written("sampling_frequency"), "250\n");
        EXPECT_EQ(written("scan_elements/in_voltage1_en"), "1\n");
        for (int i = 0; i < 200; ++i)
            scan(static_cast<std::int16_t>(i - 100), static_cast<std::uint16_t>(60000 + i),
                 1'700'000'000'000'000'000 + 4'000'000LL * i);
        ASSERT_TRUE(eventually([&] { return listener.count("adc.voltage0") == 200; }))
            << listener.status().sentence.english();
        EXPECT_TRUE(listener.reaches(LinkState::live));
        const auto a = listener.samples("adc.voltage0"), b = listener.samples("adc.voltage1");
        for (std::size_t i = 0; i < 200; ++i) {
            EXPECT_EQ(a[i].v, static_cast<double>(i) - 100);
            EXPECT_EQ(b[i].v, 60000 + static_cast<double>(i));
        }
        const auto found = listener.status().found;
        ASSERT_EQ(found.size(), 2U);
        EXPECT_EQ(found[0].chain.at(0).text("unit"), "V") << "its scale is known from its attributes";
    }
    EXPECT_EQ(written("buffer/enable"), "0\n");
}

TEST_F(IioBufferTest, OnlyChannelsThatAreUsedAreCaptured) {
    test::DeviceListener listener("iio-buffer", settings(), requests({"adc.voltage1"}));
    ASSERT_TRUE(eventually([&] { return written("buffer/enable") == "1\n"; }));
    EXPECT_EQ(written("scan_elements/in_voltage0_en"), "0\n");
    EXPECT_EQ(written("scan_elements/in_voltage1_en"), "1\n");
    EXPECT_TRUE(listener.device().request(requests({"adc.voltage1"})));
    EXPECT_FALSE(listener.device().request(requests({"adc.voltage0", "adc.voltage1"}))) << "it must be made anew";
}

TEST_F(IioBufferTest, NothingOutsideAnotherRootIsWrittenWhateverLinksLieThere) {
    test::TempFolder elsewhere;
    const std::string theirs = elsewhere.file("theirs");
    test::writeFile(theirs, "as it was");
    const fs::path root(tree.root()), device = root / "sys/bus/iio/devices/iio:device0";
    // Every file that is written to is a link that leads out; and then the folder with all of them.
    for (const char* leaf : {"buffer/enable", "buffer/length", "sampling_frequency", "trigger/current_trigger"}) {
        std::filesystem::remove(device / leaf);
        std::filesystem::create_symlink(theirs, device / leaf);
    }
    for (const fs::path& path : {device / "buffer/enable", device / "sampling_frequency"})
        EXPECT_NE(writeKernelFile(root, path, "ours"), 0) << path;
    std::filesystem::remove_all(device / "buffer");
    std::filesystem::create_symlink(elsewhere.file(""), device / "buffer");
    EXPECT_NE(writeKernelFile(root, device / "buffer/theirs", "ours"), 0);
    EXPECT_NE(writeKernelFile(root, root / "../../etc/hostname", "ours"), 0);
    std::filesystem::remove(device / "buffer");
    std::filesystem::create_symlink("buffer", device / "buffer");
    EXPECT_EQ(writeKernelFile(root, device / "buffer/enable", "1"), ELOOP);
    test::DeviceListener listener("iio-buffer", settings());
    EXPECT_TRUE(listener.reaches(LinkState::failed)) << "a link that leads to itself is a sentence";
    listener.stop();
    EXPECT_EQ(test::readFile(theirs), "as it was");
}

TEST_F(IioBufferTest, WhatIsMissingIsSaid) {
    test::DeviceListener none("iio-buffer", jsonText(json{{"root", tree.root()}, {"device", "nothing"}}));
    ASSERT_TRUE(none.reaches(LinkState::absent));
    unplug();
    test::DeviceListener gone("iio-buffer", settings());
    ASSERT_TRUE(gone.reaches(LinkState::failed));
    EXPECT_NE(gone.status().sentence.english().find("does not open"), std::string::npos);
    EXPECT_EQ(written("buffer/enable"), "0\n") << "what could not be read is not left running";
    plug();
    EXPECT_TRUE(eventually([&] { return written("buffer/enable") == "1\n"; }));
    ASSERT_TRUE(gone.reaches(LinkState::silent));
    EXPECT_NE(gone.status().sentence.english().find("trigger"), std::string::npos);
}

TEST_F(IioBufferTest, UnpluggedAgainAndAgainItKeepsEveryGapAndNothingElse) {
    std::mutex mutex;
    const auto guarded = [&](auto&& what) {
        const std::lock_guard lock(mutex);
        what();
    };
    std::jthread kernel([&](const std::stop_token& stop) {
        while (!stop.stop_requested()) {
            guarded([&] {
                if (writer < 0) return;
                const std::string bytes(16, '\1');
                (void)!write(writer, bytes.data(), bytes.size());
            });
            std::this_thread::sleep_for(std::chrono::milliseconds(1));
        }
    });
    tree.put("sys/bus/iio/devices/iio:device0/scan_elements/in_timestamp_type", "none\n");
    test::DeviceListener listener("iio-buffer", settings());
    test::unplugAgainAndAgain(
        listener, "adc.voltage0", SANITIZED ? 100 : 1000, [&] { guarded([&] { unplug(); }); },
        [&] { guarded([&] { plug(); }); });
}

}  // namespace
}  // namespace cruscotto::computer_test
