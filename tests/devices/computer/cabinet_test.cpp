#include "standins/cabinet/cabinet_computer.h"

#include <linux/gpio.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "devices/device_kind.h"
#include "devices/device_listener.h"
#include "devices/discovery/device_trial.h"
#include "devices/discovery/kernel_inputs.h"
#include "devices/link/kernel_calls.h"

namespace cruscotto::cabinet_test {
namespace {

using nlohmann::json;
using test::eventually;
namespace fs = std::filesystem;

/// The drivers against the stand-in, by the system's own calls.
class Cabinet : public testing::Test {
protected:
    test::TempFolder folder{test::TempFolder::Where::memory};  // how busy the disk is must not count
    std::unique_ptr<CabinetComputer> computer = std::move(CabinetComputer::open(folder.file("c")).value());
    [[nodiscard]] std::string root() const { return computer->folder(); }
    [[nodiscard]] JsonText chip(const json& lines) const {
        return jsonText(json{{"chip", root() + "/dev/gpiochip0"}, {"lines", lines}});
    }
    [[nodiscard]] JsonText counter(const json& watches) const {
        return jsonText(json{{"device", root() + "/dev/counter0"}, {"watches", watches}});
    }
    static std::string sentence(test::DeviceListener& listener) { return listener.status().sentence.english(); }
    static bool says(test::DeviceListener& listener, const std::string& words) {
        return eventually([&] { return sentence(listener).find(words) != std::string::npos; });
    }
    /// On and off again, behind an absence that has everybody open anew.
    void opensAnewWith(std::atomic<bool>& fault, test::DeviceListener& listener, LinkState state,
                       const std::string& words) {
        computer->unplug();
        ASSERT_TRUE(listener.reaches(LinkState::absent)) << sentence(listener);
        fault = true;
        computer->plug();
        ASSERT_TRUE(listener.reaches(state)) << sentence(listener);
        EXPECT_TRUE(says(listener, words)) << sentence(listener);
        fault = false;
        ASSERT_TRUE(listener.reaches(LinkState::live)) << sentence(listener);
    }
};

TEST_F(Cabinet, TakesOnlyAnEmptyFolderAndLeavesWhatIsNotItsOwn) {
    EXPECT_FALSE(CabinetComputer::open(root()).ok()) << "it is in use";
    EXPECT_FALSE(CabinetComputer::open(folder.file(std::string(200, 'x'))).ok()) << "no socket has so long a path";
    test::writeFile(root() + "/dev/mine", "kept");
    computer.reset();
    EXPECT_EQ(test::readFile(folder.file("c/dev/mine")), "kept");
    EXPECT_FALSE(fs::exists(folder.file("c/sys")));
    fs::remove_all(folder.file("c"));
    computer = std::move(CabinetComputer::open(folder.file("c")).value());
    computer.reset();
    EXPECT_FALSE(fs::exists(folder.file("c")));
}

TEST_F(Cabinet, AllThatTheKernelOffersIsFoundWithWhatItTakesToReadIt) {
    test::writeFile(folder.file("c/pcm"), "");
    fs::create_directories(root() + "/proc/asound");
    test::writeFile(root() + "/proc/asound/pcm",
                    "00-03: HDMI 0 : HDMI 0 : playback 1\n01-00: USB Audio : USB Audio : playback 1 : capture 1\n");
    const auto found = findKernelInputs(root());
    std::vector<std::string> kinds;
    for (const FoundInput& f : found) {
        kinds.push_back(f.kind + " " + f.name);
        const DeviceKind* kind = f.kind == "can" ? nullptr : deviceKind(f.kind);
        ASSERT_TRUE(kind) << f.kind;
        EXPECT_TRUE(kind->check(f.settings).ok()) << f.settings;
        EXPECT_TRUE(std::ranges::any_of(kind->settings, [&](const auto& s) { return s.key == f.key; })) << f.key;
    }
    EXPECT_EQ(kinds, (std::vector<std::string>{"computer ", "iio-buffer adc", "gpio-lines gpiochip0",
                                               "counter-events pulses", "sound-input USB Audio"}));
    EXPECT_EQ(found[0].what.english(), "Sensors that the kernel offers: 8");
    EXPECT_NE(found[1].what.english().find("channels: 2"), std::string::npos) << "the time stamp is none";
    EXPECT_EQ(parseJson(found[1].settings)["trigger"], "timer") << "the only one there is";
    EXPECT_EQ(found[4].value, "plughw:1,0");
    EXPECT_TRUE(findKernelInputs(folder.file("nowhere")).empty());
}

TEST_F(Cabinet, AChipIsLookedIntoBeforeItsLinesAreTaken) {
    test::DeviceListener listener("gpio-lines", chip(json::object()));
    ASSERT_TRUE(listener.reaches(LinkState::live)) << sentence(listener);
    const DeviceStatus status = listener.status();
    EXPECT_NE(sentence(listener).find("has 8 lines"), std::string::npos);
    ASSERT_EQ(status.parts.size(), 8U);
    EXPECT_EQ(status.parts[4].what.english(), "lamp, output");
    EXPECT_EQ(status.parts[6].what.english(), "spi0-select, output, used by spi0 CS0");
    ASSERT_EQ(status.suggestions.size(), 1U);
    EXPECT_EQ(status.suggestions[0].value,
              "guard-door = 0 in\nshaft-mark = 1 in\nlamp-seen = 2 in\nstop-chain = 3 in\nline7 = 7 in\n")
        << "what drives something is not made an input";
    computer->unplug();
    EXPECT_TRUE(listener.reaches(LinkState::absent));
    computer->plug();
    EXPECT_TRUE(listener.reaches(LinkState::live));
}

TEST_F(Cabinet, LookingInsideTakesWhatIsProposedAndReadsIt) {
    DeviceTrial look(*deviceKind("gpio-lines"), chip(json::object()));
    EXPECT_TRUE(eventually([&] { return look.state().channels.size() == 5; }));
    EXPECT_TRUE(eventually([&] {
        const auto state = look.state();
        return std::ranges::any_of(state.channels,
                                   [](const auto& c) { return c.info.terminal == "stop-chain" && c.reading == "1"; });
    }));
    DeviceTrial counts(*deviceKind("counter-events"), counter(json::object()));
    EXPECT_TRUE(eventually([&] { return counts.state().channels.size() == 3; }));
}

TEST_F(Cabinet, LinesAreReadAndSetAndWhatIsSetIsSeen) {
    test::DeviceListener listener(
        "gpio-lines",
        chip({{"mark", "1"}, {"seen", "2 in"}, {"unseen", "3 in active-low"}, {"lamp", "4 out"}, {"pump", "5 out"}}));
    ASSERT_TRUE(listener.reaches(LinkState::live)) << sentence(listener);
    EXPECT_TRUE(eventually([&] { return listener.latest("seen") == 0 && listener.latest("unseen") == 0; }));
    EXPECT_TRUE(eventually([&] { return !computer->state().pump; })) << "taken as an output, it begins low";
    listener.device().setOutput("lamp", 1);
    listener.device().setOutput("pump", 1);
    EXPECT_TRUE(eventually([&] { return listener.latest("seen") == 1; }));
    EXPECT_TRUE(eventually([&] { return computer->state().lamp; }));
    ASSERT_TRUE(eventually([&] { return computer->state().turnsPerSecond > 24; }));
    const std::uint32_t from = computer->state().turns;
    const std::size_t before = listener.count("mark");
    ASSERT_TRUE(eventually([&] { return computer->state().turns >= from + 40; }));
    // Two edges a turn, and twice a second where it stands.
    ASSERT_TRUE(eventually([&] { return listener.count("mark") >= before + 80; }));
    for (const Gap& gap : listener.gaps()) ADD_FAILURE() << gap.cause;
    const auto samples = listener.samples("mark");
    EXPECT_TRUE(std::ranges::is_sorted(samples, {}, [](const auto& s) { return s.t.ns; }));
    std::vector<Instant> rises;
    for (std::size_t i = samples.size() - 60; i < samples.size(); ++i)
        if (samples[i].v > samples[i - 1].v) rises.push_back(samples[i].t);
    ASSERT_GT(rises.size(), 15U);
    for (std::size_t i = 1; i < rises.size(); ++i)
        EXPECT_NEAR((rises[i] - rises[i - 1]).seconds(), 0.04, 0.01) << "25 turns a second, at the kernel's time";
    listener.stop();
    EXPECT_TRUE(eventually([&] { return !computer->state().lamp; })) << "safe";
}

TEST_F(Cabinet, EdgesThatCameTooFastAreAGapWithTheirNumber) {
    test::DeviceListener listener("gpio-lines", chip({{"mark", "1"}}));
    ASSERT_TRUE(eventually([&] { return listener.count("mark") > 20; })) << sentence(listener);
    computer->faults.hurried = true;
    ASSERT_TRUE(eventually([&] { return !listener.gapsOf("mark").empty(); }));
    EXPECT_EQ(listener.gapsOf("mark")[0].cause, "3 edges came faster than they were fetched.");
    EXPECT_EQ(listener.status().rejected % 3, 0U);
}

TEST_F(Cabinet, AChipThatTellsNoEdgesIsReadAllTheTime) {
    computer->faults.edgeless = true;
    test::DeviceListener listener("gpio-lines", chip({{"seen", "2 in"}, {"stop", "3 pull-up"}, {"lamp", "4 out"}}));
    ASSERT_TRUE(listener.reaches(LinkState::live)) << sentence(listener);
    EXPECT_TRUE(says(listener, "tells no edges: they are read 100 times a second"));
    EXPECT_TRUE(eventually([&] { return listener.latest("seen") == 0 && listener.latest("stop") == 1; }));
    listener.device().setOutput("lamp", 1);
    EXPECT_TRUE(eventually([&] { return listener.latest("seen") == 1; }));
    EXPECT_TRUE(eventually([&] { return listener.count("stop") > 3; })) << "that it stands still is known too";
    EXPECT_LT(listener.count("stop"), 100U);
    computer->unplug();
    EXPECT_TRUE(listener.reaches(LinkState::absent));
    computer->faults.edgeless = false;
    computer->plug();
    EXPECT_TRUE(listener.reaches(LinkState::live));
    EXPECT_TRUE(eventually([&] { return sentence(listener).find("no edges") == std::string::npos; }));
}

TEST_F(Cabinet, EveryStateOfLinesAndCountersHasItsSentence) {
    test::DeviceListener lines("gpio-lines", chip({{"door", "0 in debounce 0.005"}}));
    test::DeviceListener counts("counter-events", counter({{"turns", "count 1 on index"}}));
    ASSERT_TRUE(lines.reaches(LinkState::live)) << sentence(lines);
    ASSERT_TRUE(counts.reaches(LinkState::live)) << sentence(counts);
    opensAnewWith(computer->faults.forbidden, lines, LinkState::noPermission, "Run: sudo ");
    opensAnewWith(computer->faults.forbidden, counts, LinkState::noPermission, "Run: sudo ");
    opensAnewWith(computer->faults.busy, lines, LinkState::busy, "\"door\" (line 0)");
    opensAnewWith(computer->faults.busy, lines, LinkState::busy, "in use by relay-board");
    opensAnewWith(computer->faults.busy, counts, LinkState::busy, "in use by another program");
    test::DeviceListener second("counter-events", counter({{"turns", "count 1 on index"}}));
    EXPECT_TRUE(second.reaches(LinkState::busy)) << "one at a time has it";
    test::DeviceListener taken("gpio-lines", chip({{"bus", "6"}}));
    EXPECT_TRUE(says(taken, "in use by spi0 CS0")) << sentence(taken);
    test::DeviceListener wrong("counter-events", counter({{"x", "count 1 on capture"}}));
    counts.stop();
    second.stop();
    EXPECT_TRUE(says(wrong, "cannot tell of \"x\"")) << sentence(wrong);
    test::DeviceListener no("counter-events", jsonText(json{{"device", root() + "/dev/gpiochip0"}}));
    EXPECT_TRUE(says(no, "is no counter")) << sentence(no);
}

TEST_F(Cabinet, WhatDoesNotAnswerIsGivenUpAfterASecond) {
    computer->faults.mute = true;
    const KernelCalls calls = KernelCalls::system();
    const std::string path = root() + "/dev/gpiochip0";
    EXPECT_EQ(calls.open(path.c_str()), -1);
    EXPECT_EQ(errno, ETIMEDOUT);
    computer->faults.mute = false;
    const int fd = calls.open(path.c_str());
    ASSERT_GE(fd, 0);
    gpiochip_info about{};
    EXPECT_EQ(calls.control(fd, GPIO_GET_CHIPINFO_IOCTL, &about), 0);
    EXPECT_EQ(about.lines, 8U);
    computer->faults.mute = true;
    EXPECT_EQ(calls.control(fd, GPIO_GET_CHIPINFO_IOCTL, &about), -1);
    EXPECT_EQ(errno, ETIMEDOUT);
    close(fd);
    EXPECT_EQ(calls.open((root() + std::string(120, 'x')).c_str()), -1);
}

/// Answers with whatever it was told to.
class Peer {
public:
    explicit Peer(const std::string& path) {
        sockaddr_un at{};
        at.sun_family = AF_UNIX;
        path.copy(at.sun_path, sizeof at.sun_path - 1);
        fd_ = socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0);
        EXPECT_EQ(bind(fd_, reinterpret_cast<sockaddr*>(&at), sizeof at), 0);
        EXPECT_EQ(listen(fd_, 4), 0);
    }
    ~Peer() { close(fd_); }
    Peer(const Peer&) = delete;
    Peer& operator=(const Peer&) = delete;
    /// Lets one in with these bytes, and hangs up.
    void greet(const std::string& bytes) {
        thread_ = std::jthread([this, bytes] {
            const int in = accept(fd_, nullptr, nullptr);
            (void)!send(in, bytes.data(), bytes.size(), MSG_NOSIGNAL);
            close(in);
        });
    }
    void wait() { thread_.join(); }

private:
    int fd_ = -1;
    std::jthread thread_;
};

TEST_F(Cabinet, AStrangerAtTheSocketIsRefused) {
    const KernelCalls calls = KernelCalls::system();
    const std::string path = folder.file("s");
    Peer peer(path);
    for (const std::string& hello : {std::string(), std::string("x"), std::string(100, '\0')}) {
        peer.greet(hello);
        const int fd = calls.open(path.c_str());
        if (fd >= 0) {  // what is longer is cut: then nobody answers
            gpiochip_info about{};
            EXPECT_EQ(calls.control(fd, GPIO_GET_CHIPINFO_IOCTL, &about), -1);
            close(fd);
        }
        EXPECT_EQ(fd >= 0, hello.size() > 4) << hello.size();
        peer.wait();
    }
    test::DeviceListener listener("gpio-lines", jsonText(json{{"chip", folder.file("plain")}}));
    EXPECT_TRUE(listener.reaches(LinkState::absent));
    test::writeFile(folder.file("plain"), "text");
    EXPECT_TRUE(says(listener, "is no GPIO chip")) << sentence(listener);
}

TEST_F(Cabinet, EventsOfCountersAreReadAtTheKernelsTime) {
    test::DeviceListener listener("counter-events",
                                  counter({{"turns", "count 1 on index"}, {"flow", "count 0 on change"}}));
    ASSERT_TRUE(eventually([&] { return listener.count("turns") > 40; })) << sentence(listener);
    EXPECT_EQ(listener.status().parts.size(), 2U);
    const auto turns = listener.samples("turns");
    for (std::size_t i = 1; i < 40; ++i) EXPECT_EQ(turns[i].v, turns[i - 1].v + 1) << "none is missing";
    EXPECT_NEAR((turns[39].t - turns[19].t).seconds(), 20. / computer->state().turnsPerSecond, 0.1);
    EXPECT_GT(listener.count("flow"), listener.count("turns"));
    const std::size_t before = listener.status().rejected;
    computer->faults.unreadable = true;
    EXPECT_TRUE(eventually([&] { return listener.status().rejected > before + 3; }));
    computer->unplug();
    ASSERT_TRUE(listener.reaches(LinkState::absent));
    computer->faults.unreadable = false;
    computer->plug();
    ASSERT_TRUE(listener.reaches(LinkState::live));
    EXPECT_TRUE(eventually([&] { return listener.gapsOf("turns").size() == 1; }));
}

TEST_F(Cabinet, EveryScanOfTheBufferIsReadOnce) {
    const JsonText settings = jsonText(json{{"root", root()}, {"device", "adc"}, {"trigger", "timer"}, {"rate", 500}});
    {
        test::DeviceListener listener("iio-buffer", settings);
        ASSERT_TRUE(eventually([&] { return listener.count("adc.voltage0") > 500; })) << sentence(listener);
        const auto pressure = listener.samples("adc.voltage0");
        EXPECT_NEAR((pressure[500].t - pressure[100].t).seconds(), 0.8, 0.2);
        EXPECT_TRUE(eventually([&] {
            return std::abs(listener.latest("adc.voltage0") -
                            CabinetComputer::pressureCounts(computer->state().outletBar)) < 20;
        }));
        EXPECT_EQ(listener.status().found[0].name, "outlet pressure");
        computer->faults.still = true;
        ASSERT_TRUE(listener.reaches(LinkState::silent));
        EXPECT_TRUE(says(listener, "trigger fire"));
        EXPECT_EQ(listener.count("adc.voltage0"), computer->state().scans) << "each once, and none lost";
        computer->faults.still = false;
        ASSERT_TRUE(listener.reaches(LinkState::live));
    }
    EXPECT_EQ(test::readFile(root() + "/sys/bus/iio/devices/iio:device0/buffer/enable"), "0\n");
}

TEST_F(Cabinet, SensorsAreReadAndOneThatSleepsIsSaidToBeThereAllTheSame) {
    test::DeviceListener listener("computer", jsonText(json{{"root", root()}, {"every-s", 0.05}}),
                                  {{"cabinet.temp1", {}}});
    ASSERT_TRUE(eventually([&] { return listener.count("cabinet.temp1") > 5; })) << sentence(listener);
    EXPECT_NEAR(listener.latest("cabinet.temp1") / 1000, computer->state().processor, 5);
    EXPECT_EQ(listener.status().found.size(), 8U);
    computer->faults.asleep = true;
    ASSERT_TRUE(listener.reaches(LinkState::silent));
    EXPECT_EQ(sentence(listener), "cabinet.temp1 is there, but cannot be read now. It is tried again.");
    computer->faults.asleep = false;
    ASSERT_TRUE(listener.reaches(LinkState::live));
    EXPECT_TRUE(eventually([&] { return listener.gaps().size() == 1; }));
    computer->unplug();
    EXPECT_TRUE(listener.reaches(LinkState::absent));
    computer->plug();
    EXPECT_TRUE(listener.reaches(LinkState::live));
}

}  // namespace
}  // namespace cruscotto::cabinet_test
