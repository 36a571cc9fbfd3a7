#include <fcntl.h>
#include <poll.h>
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
#include <map>
#include <mutex>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "devices/device_kind.h"
#include "devices/device_listener.h"
#include "devices/link/serial_port.h"
#include "other_process.h"
#include "standins/beehive/beehive.h"
#include "support.h"

namespace cruscotto::serial_device_test {
namespace {

using nlohmann::json;
using test::eventually;

class Listener : public test::DeviceListener {
public:
    explicit Listener(const json& settings) : DeviceListener("serial-line-board", jsonText(settings)) {}
};

std::unique_ptr<Beehive> openHive(BeehiveOptions options = {}) {
    auto hive = Beehive::open(options);
    if (!hive) throw std::runtime_error(hive.error().english());
    return std::move(hive.value());
}

json settingsFor(const Beehive& hive, const json& more = {}) {
    json j{{"port", hive.path()}, {"baud", 115200}};
    if (more.is_object()) j.update(more);
    return j;
}

/// The listener has opened the pty when a first byte can be sent, and listens when it says so: what came before that is
/// thrown away. Behind a line end that it has heard, it knows that the next line is whole.
void meet(Beehive& hive, Listener& listener) {
    ASSERT_TRUE(eventually([&] { return hive.send("\n"); }));
    ASSERT_TRUE(eventually([&] {
        const DeviceStatus s = listener.status();
        return s.state != LinkState::lost && s.state != LinkState::absent && !s.sentence.empty();
    }));
    ASSERT_TRUE(hive.send("\n"));
}

TEST(SerialBoard, ReadsTheBeehiveInEachOfItsFormats) {
    struct Case {
        BeehiveOptions::Format format;
        json settings;
        const char* weight;
        const char* brood;
        double weightFactor, broodFactor;
    };
    const json fields = parseJson(
        R"([{"name":"w","start":0,"width":4,"base":16},{"name":"t","start":4,"width":4,"base":16,"signed":true},
                                        {"name":"rh","start":8,"width":2,"base":16},{"name":"n","start":10,"width":4,"base":16}])");
    for (const Case& c :
         {Case{BeehiveOptions::Format::delimited, {{"lines", "delimited"}, {"field-count", 4}}, "1", "2", 1, 1},
          Case{BeehiveOptions::Format::labelled, {{"lines", "labelled"}}, "weight", "T", 1, 1},
          Case{BeehiveOptions::Format::hex,
               {{"lines", "fixed"}, {"header", "H"}, {"fields", fields}},
               "w",
               "t",
               0.01,
               0.1}}) {
        BeehiveOptions options;
        options.format = c.format;
        const auto hive = openHive(options);
        Listener listener(settingsFor(*hive, c.settings));
        meet(*hive, listener);
        for (int i = 0; i < 20; ++i) ASSERT_TRUE(eventually([&] { return hive->sendLine(); }));
        ASSERT_TRUE(eventually([&] { return listener.count(c.weight) == 20 && listener.count(c.brood) == 20; }))
            << listener.count(c.weight);
        EXPECT_EQ(listener.status().rejected, 0U);
        EXPECT_TRUE(listener.reaches(LinkState::live));
        // The same lines in plain text say what must come out.
        for (std::size_t i = 0; i < 20; ++i) {
            double weight = 0, brood = 0;
            ASSERT_EQ(std::sscanf(Beehive::line({}, i).c_str(), "%lf %lf", &weight, &brood), 2);
            EXPECT_NEAR(listener.samples(c.weight)[i].v * c.weightFactor, weight, 1e-9);
            EXPECT_NEAR(listener.samples(c.brood)[i].v * c.broodFactor, brood, 1e-9);
        }
    }
}

TEST(SerialBoard, LinesThatDoNotFitAreCountedKeptAndSkipped) {
    const auto hive = openHive();
    Listener listener(settingsFor(*hive, {{"field-count", 2}}));
    meet(*hive, listener);
    ASSERT_TRUE(hive->send("1 2\nbooting v1.2...\n3 4 5\n\n5 6\n" + std::string(5000, 'z') + "\n7 8\n"));
    ASSERT_TRUE(eventually([&] { return listener.count("1") == 3; }));
    ASSERT_TRUE(eventually([&] { return listener.status().rejected == 3; }));
    const DeviceStatus status = listener.status();
    EXPECT_EQ(status.lines, 6U);
    EXPECT_EQ(status.lastRejected[0].bytes, "booting v1.2...");
    EXPECT_EQ(status.lastRejected[1].bytes, "3 4 5");
    EXPECT_EQ(status.lastRejected[1].reason.english(), "3 fields instead of 2");
    EXPECT_LE(status.lastRejected[2].bytes.size(), 200U);
    EXPECT_EQ(listener.samples("2").back().v, 8);
}

TEST(SerialBoard, SlowlySplitBytesMakeTheSameLines) {
    const auto hive = openHive();
    Listener listener(settingsFor(*hive));
    meet(*hive, listener);
    for (const char c : std::string("12.5 7\r\n-3 8\r\n")) {
        ASSERT_TRUE(hive->send(std::string(1, c)));
    }
    ASSERT_TRUE(eventually([&] { return listener.count("1") == 2; }));
    EXPECT_EQ(listener.samples("1")[0].v, 12.5);
    EXPECT_EQ(listener.samples("1")[1].v, -3);
}

TEST(SerialBoard, TimesNeverGoBackAndLinesOfOneReadKeepTheirOrder) {
    const auto hive = openHive();
    Listener listener(settingsFor(*hive));
    meet(*hive, listener);
    std::string burst;
    for (int i = 0; i < 200; ++i) burst += std::to_string(i) + "\n";
    ASSERT_TRUE(hive->send(burst));
    ASSERT_TRUE(eventually([&] { return listener.count("1") == 200; }));
    const auto samples = listener.samples("1");
    for (std::size_t i = 1; i < samples.size(); ++i) {
        EXPECT_LT(samples[i - 1].t, samples[i].t);
        EXPECT_EQ(samples[i].v, static_cast<double>(i));
    }
    EXPECT_LE(samples.back().t, listener.now());
}

TEST(SerialBoard, APortThatIsNotThereHasItsSentence) {
    Listener listener(json{{"port", "/dev/cruscotto-no-such-port"}});
    ASSERT_TRUE(listener.reaches(LinkState::absent));
    EXPECT_EQ(listener.status().sentence.english(),
              "There is no port /dev/cruscotto-no-such-port. Plug the board in; its readings begin by themselves.");
}

TEST(SerialBoard, AFileIsNoPort) {
    test::TempFolder folder;
    test::writeFile(folder.file("x"), "1 2 3\n");
    Listener listener(json{{"port", folder.file("x")}});
    ASSERT_TRUE(listener.reaches(LinkState::failed));
    EXPECT_NE(listener.status().sentence.english().find("is not a serial port"), std::string::npos);
    EXPECT_EQ(test::readFile(folder.file("x")), "1 2 3\n");
}

TEST(SerialBoard, WithoutPermissionItSaysTheCommandThatMendsIt) {
    if (geteuid() == 0) {
        // Root may open everything: try as nobody, in a process of its own.
        const test::OtherProcess other([](const std::string& path) {
            if (setgid(65534) != 0 || setuid(65534) != 0) return 2;
            SerialSettings s;
            s.port = path;
            SerialPort port;
            const auto refused = port.open(s);
            const bool fine = refused && refused->state == LinkState::noPermission &&
                              refused->sentence.english().find("sudo usermod -aG ") != std::string::npos;
            return fine ? 0 : 1;
        });
        const auto hive = openHive();
        ASSERT_EQ(chmod(hive->path().c_str(), 0600), 0);
        EXPECT_EQ(other.workOn(hive->path()), 0);
        return;
    }
    test::TempFolder folder;
    test::writeFile(folder.file("x"), "");
    ASSERT_EQ(chmod(folder.file("x").c_str(), 0), 0);
    Listener listener(json{{"port", folder.file("x")}});
    ASSERT_TRUE(listener.reaches(LinkState::noPermission));
    EXPECT_NE(listener.status().sentence.english().find("sudo usermod -aG "), std::string::npos);
}

TEST(SerialBoard, AWrongSpeedIsToldFromAWrongFormat) {
    BeehiveOptions options;
    options.baud = 57600;
    const auto hive = openHive(options);
    Listener listener(settingsFor(*hive, {{"baud", 9600}}));
    meet(*hive, listener);
    // One status, looked at as a whole: once nothing is sent any more, the next one says that.
    DeviceStatus said;
    ASSERT_TRUE(eventually([&] {
        hive->sendLine();
        said = listener.status();
        return said.state == LinkState::nonsense &&
               said.sentence.english().find("make no sense at 9600 baud") != std::string::npos;
    })) << said.sentence.english();
    ASSERT_EQ(said.suggestions.size(), 1U);
    EXPECT_EQ(said.suggestions[0].key, "baud");
    EXPECT_EQ(said.suggestions[0].value, "0");

    const auto other = openHive();
    Listener strict(settingsFor(*other, {{"field-count", 7}}));
    meet(*other, strict);
    EXPECT_TRUE(eventually([&] {
        other->sendLine();
        said = strict.status();
        return said.state == LinkState::nonsense &&
               said.sentence.english().find("none fits: 4 fields instead of 7") != std::string::npos;
    })) << said.sentence.english();
}

TEST(SerialBoard, TheSpeedIsFoundByListening) {
    BeehiveOptions options;
    options.baud = 57600;
    options.linesPerSecond = 100;
    const auto hive = openHive(options);
    std::atomic<bool> stop = false;
    std::jthread board([&] { hive->run(stop); });
    Listener listener(settingsFor(*hive, {{"baud", 0}}));
    EXPECT_TRUE(listener.reaches(LinkState::live));
    stop = true;
    const DeviceStatus status = listener.status();
    EXPECT_NE(status.sentence.english().find("The speed was found: lines arrive on"), std::string::npos);
    EXPECT_NE(status.sentence.english().find("at 57600 baud"), std::string::npos) << status.sentence.english();
    ASSERT_EQ(status.suggestions.size(), 1U);
    EXPECT_EQ(status.suggestions[0].label.english(), "Stay at 57600 baud");
    EXPECT_EQ(status.suggestions[0].value, "57600");
}

TEST(SerialBoard, NothingIsSentWhileTheSpeedIsLookedFor) {
    const auto hive = openHive();
    {
        Listener listener(settingsFor(*hive, {{"baud", 0}}));
        meet(*hive, listener);
        ASSERT_TRUE(
            eventually([&] { return listener.status().sentence.english().find("2 of 14") != std::string::npos; }));
        EXPECT_NE(listener.status().sentence.english().find("Nothing is sent."), std::string::npos);
    }
    EXPECT_EQ(hive->hear(), "");
}

TEST(SerialBoard, APortThatAnotherHasIsBusyAndTheHolderIsNamed) {
    SerialPort port;
    test::OtherProcess other(
        [&port](const std::string& path) {
            SerialSettings s;
            s.port = path;
            return port.open(s) ? 1 : 0;
        },
        true);
    const auto hive = openHive();
    ASSERT_EQ(other.workOn(hive->path()), 0);
    Listener listener(settingsFor(*hive));
    ASSERT_TRUE(listener.reaches(LinkState::busy));
    EXPECT_NE(listener.status().sentence.english().find("(" + std::to_string(other.pid()) + ") has " + hive->path() +
                                                        " open"),
              std::string::npos)
        << listener.status().sentence.english();
    other.end();
    ASSERT_TRUE(eventually([&] {
        hive->send("1 2\n");
        return listener.status().state == LinkState::live;
    })) << "it goes on by itself";
}

TEST(SerialBoard, WhoeverLooksAtTheWireSeesEachByteWithItsMeaning) {
    const auto hive = openHive();
    Listener listener(settingsFor(*hive, {{"lines", "labelled"}}));
    meet(*hive, listener);
    ASSERT_TRUE(hive->send("T=1\n"));
    ASSERT_TRUE(eventually([&] { return listener.count("T") == 1; }));
    EXPECT_TRUE(listener.wire->since(0).empty()) << "nobody looks yet";
    listener.wire->open();
    ASSERT_TRUE(hive->send("weight 31.42 T=34.8\r\nbooting\nend"));
    ASSERT_TRUE(eventually([&] { return listener.wire->since(0).size() == 3; }));
    const auto seen = listener.wire->since(0);
    EXPECT_EQ(seen[0]->bytes, "weight 31.42 T=34.8\r\n");
    EXPECT_EQ(seen[0]->way, WireMessage::Way::received);
    EXPECT_EQ(seen[1]->bytes, "booting\n");
    EXPECT_FALSE(seen[1]->problem.empty());
    EXPECT_EQ(seen[2]->bytes, "end") << "nothing came behind it";
    EXPECT_LE(seen[0]->at, seen[1]->at);
    ASSERT_TRUE(hive->send("\nweight 31.42 T=34.8\r\n"));
    ASSERT_TRUE(eventually([&] { return listener.wire->since(0).size() == 5; }));
    const auto whole = listener.wire->since(0).back();
    EXPECT_TRUE(whole->problem.empty()) << whole->problem.english();
    const std::vector<WireField> fields{{7, 5, "weight", 31.42}, {15, 4, "T", 34.8}};
    EXPECT_EQ(whole->fields, fields);
}

TEST(SerialBoard, HowMuchOfTheLineIsUsedIsTold) {
    const auto hive = openHive();
    Listener listener(settingsFor(*hive, {{"baud", 1200}}));
    meet(*hive, listener);
    // 1200 baud carry 120 bytes a second; a pty carries any number.
    ASSERT_TRUE(eventually([&] {
        hive->send("31.42 34.8 61 1207\n");
        return listener.status().linkShare.value_or(0) > 0.95 && !listener.status().linkAdvice.empty();
    }));
    EXPECT_NE(listener.status().linkAdvice.english().find("The line is full"), std::string::npos);
}

TEST(SerialBoard, ABoardThatAnswersOnlyWhenItIsAskedIsAsked) {
    BeehiveOptions options;
    options.asked = true;
    const auto hive = openHive(options);
    std::atomic<bool> gone = false;
    std::jthread board([&] { hive->run(gone); });
    Listener listener(settingsFor(*hive, {{"ask", "?\\n"}, {"ask-every-s", 0.02}}));
    listener.wire->open();
    EXPECT_TRUE(eventually([&] { return listener.count("1") > 10; }));
    EXPECT_TRUE(listener.reaches(LinkState::live));
    gone = true;
    const auto seen = listener.wire->since(0);
    const auto sent = std::ranges::count_if(
        seen, [](const WireMessagePtr& m) { return m->way == WireMessage::Way::sent && m->bytes == "?\n"; });
    EXPECT_GT(sent, 5) << "the wire shows both ways";
}

TEST(SerialBoard, OutputsAreSentAsTheirTemplateSaysAndAgainWhenTheBoardIsBack) {
    test::TempFolder folder;
    BeehiveOptions options;
    options.link = folder.file("port");
    auto hive = openHive(options);
    Listener listener(json{{"port", options.link}, {"outputs", {{"heater", "H{value:0}\\n"}}}});
    meet(*hive, listener);
    listener.device().setOutput("heater", 40);
    listener.device().setOutput("no such output", 1);
    ASSERT_TRUE(eventually([&] {
        hive->hear();
        return hive->heater() == 40;
    }));
    hive.reset();
    ASSERT_TRUE(listener.reaches(LinkState::absent));
    listener.device().setOutput("heater", 15);
    hive = openHive(options);
    ASSERT_TRUE(eventually([&] {
        hive->hear();
        return hive->heater() == 15;
    })) << "what was set while it was away is what it comes back to";
    // What is set last before the stop still goes out: safe values do.
    listener.device().setOutput("heater", 0);
    listener.stop();
    ASSERT_TRUE(eventually([&] {
        hive->hear();
        return hive->heater() == 0;
    }));
}

TEST(SerialBoard, AnOutputOfABoardIsASignalOfTheBench) {
    const std::string settings = R"({"port":"x","lines":"labelled","outputs":{"heater":"H{value}\\n"}})";
    const DeviceKind* kind = deviceKind("serial-line-board");
    ASSERT_TRUE(kind->check(settings).ok()) << kind->check(settings).error().english();
    const auto terminals = kind->terminals(settings);
    ASSERT_EQ(terminals.size(), 1U);
    EXPECT_EQ(terminals[0].kind, ChannelKind::analogOutput);
    Bench bench = withDevice({}, {"hive", "Hive", "serial-line-board", settings, ""});
    SignalSpec s;
    s.device = "hive";
    s.id = s.name = "weight";
    s.terminal = "weight";
    bench = withSignal(bench, s);
    s.id = s.name = s.terminal = "heater";
    s.kind = ChannelKind::digitalOutput;
    s.output = OutputSpec{};
    EXPECT_TRUE(checkDevices(withSignal(bench, s)).empty()) << "labels turn up while it runs";
    s.terminal = "no such output";
    EXPECT_EQ(checkDevices(withSignal(bench, s)).size(), 1U);
}

TEST(SerialBoard, WhatCannotBeSentIsRefused) {
    for (const auto& [settings, words] :
         {std::pair(R"({"port":"x","ask":"\\q"})", "\"ask\" cannot be sent"),
          std::pair(R"({"port":"x","ask-every-s":0})", "ask-every-s"),
          std::pair(R"({"port":"x","outputs":[]})", "an object in braces"),
          std::pair(R"({"port":"x","outputs":{"a":1}})", "needs a name"),
          std::pair(R"({"port":"x","outputs":{"a":"{nothing}"}})", "The output \"a\"")}) {
        const auto checked = deviceKind("serial-line-board")->check(settings);
        ASSERT_FALSE(checked.ok()) << settings;
        EXPECT_NE(checked.error().english().find(words), std::string::npos) << checked.error().english();
    }
}

TEST(SerialBoard, SilenceIsSaidAndEndsByItself) {
    const auto hive = openHive();
    Listener listener(settingsFor(*hive, {{"silence-s", 0.2}}));
    meet(*hive, listener);
    ASSERT_TRUE(hive->send("1 2\n"));
    ASSERT_TRUE(listener.reaches(LinkState::silent));
    EXPECT_NE(listener.status().sentence.english().find("nothing has arrived for 0.2 s"), std::string::npos);
    ASSERT_TRUE(hive->send("3 4\n"));
    ASSERT_TRUE(listener.reaches(LinkState::live));
    EXPECT_EQ(listener.count("1"), 2U);
    ASSERT_EQ(listener.gaps().size(), 2U) << "of each number in the line";
    for (const Gap& gap : listener.gaps()) EXPECT_EQ(gap.quality, Quality::stale) << "the board was there all the time";
}

TEST(SerialBoard, UnpluggedAndBackAgainItGoesOnAndTheGapIsKept) {
    test::TempFolder folder;
    BeehiveOptions options;
    options.link = folder.file("port");
    auto hive = openHive(options);
    Listener listener(json{{"port", options.link}});
    meet(*hive, listener);
    ASSERT_TRUE(hive->send("1 2\n"));
    ASSERT_TRUE(eventually([&] { return listener.count("1") == 1; }));
    hive.reset();  // the cable comes out
    ASSERT_TRUE(eventually(
        [&] { return listener.status().state == LinkState::lost || listener.status().state == LinkState::absent; }));
    ASSERT_TRUE(listener.reaches(LinkState::absent));
    const Instant away = listener.now();
    hive = openHive(options);
    meet(*hive, listener);
    ASSERT_TRUE(eventually([&] {
        hive->send("5 6\n");
        return listener.count("1") >= 2;
    }));
    ASSERT_TRUE(listener.reaches(LinkState::live));
    ASSERT_GE(listener.gaps().size(), 1U);
    const Gap gap = listener.gaps().front();
    EXPECT_GE(gap.from, listener.samples("1")[0].t);
    EXPECT_LE(gap.from, away);
    EXPECT_EQ(gap.to, listener.samples("1")[1].t);
    EXPECT_EQ(listener.samples("1")[1].v, 5);
}

TEST(SerialBoard, AThousandTimesUnpluggedItHasKeptEveryGapAndNothingElse) {
    test::TempFolder folder;
    BeehiveOptions options;
    options.link = folder.file("port");
    Listener listener(json{{"port", options.link}});
    std::size_t files = 0, threads = 0;
    constexpr std::size_t times = SANITIZED ? 200 : 1000;  // leaks would show by then
    for (std::size_t i = 0; i < times; ++i) {
        auto hive = openHive(options);
        const std::size_t before = listener.count("1");
        ASSERT_TRUE(eventually([&] {
            hive->send("1\n");
            // Lines of the board before may still be on their way; only a gap tells that it is the new one's.
            return listener.count("1") > before && listener.gaps().size() >= i;
        })) << "stuck after "
            << i << " times: " << listener.status().sentence.english();
        if (i == 1) {
            files = test::entries("/proc/self/fd");
            threads = test::entries("/proc/self/task");
        }
        if (i + 1 < times) continue;
        EXPECT_EQ(test::entries("/proc/self/fd"), files);
        EXPECT_EQ(test::entries("/proc/self/task"), threads);
    }
    listener.stop();
    const auto samples = listener.samples("1");
    const auto gaps = listener.gaps();
    ASSERT_EQ(gaps.size(), times - 1);
    test::eachGapLiesBetweenSamples(gaps, samples);
}

TEST(SerialBoard, OpensAnyBaudRate) {
    const auto hive = openHive();
    for (const unsigned baud : {50U, 9600U, 74880U, 250000U, 3000000U}) {
        SerialSettings s;
        s.port = hive->path();
        s.baud = baud;
        s.dataBits = 7;
        s.parity = SerialSettings::Parity::even;
        s.stopBits = 2;
        SerialPort port;
        const auto refused = port.open(s);
        EXPECT_FALSE(refused) << baud << ": " << refused->sentence.english();
    }
}

TEST(SerialBoard, ABoardThatMakesUpLabelsCostsBoundedMemory) {
    const auto hive = openHive();
    Listener listener(settingsFor(*hive, {{"lines", "labelled"}}));
    meet(*hive, listener);
    int sent = 0;
    while (sent < 2000) {
        std::string lines;
        for (int i = 0; i < 20; ++i) lines += "label" + std::to_string(sent + i) + " 1\n";
        if (hive->send(lines)) sent += 20;
    }
    ASSERT_TRUE(eventually([&] { return listener.status().lines >= 1; }));
    ASSERT_TRUE(eventually([&] { return listener.count("label255") == 1; }));
    EXPECT_EQ(listener.count("label256"), 0U);
}

TEST(Beehive, SpeaksOnlyWhileSomebodyListens) {
    const auto hive = openHive();
    EXPECT_FALSE(hive->sendLine()) << "nobody has the port open";
    const int fd = open(hive->path().c_str(), O_RDWR | O_NOCTTY | O_CLOEXEC);
    ASSERT_GE(fd, 0);
    EXPECT_TRUE(eventually([&] { return hive->sendLine(); }));
    std::string got(100, '\0');
    got.resize(static_cast<std::size_t>(read(fd, got.data(), got.size())));
    EXPECT_TRUE(got.ends_with("\r\n")) << got;
    close(fd);
}

TEST(Beehive, ReplacesOnlyItsOwnOldLink) {
    test::TempFolder folder;
    test::writeFile(folder.file("mine"), "precious");
    BeehiveOptions options;
    options.link = folder.file("mine");
    EXPECT_FALSE(Beehive::open(options).ok());
    EXPECT_EQ(test::readFile(folder.file("mine")), "precious");
}

}  // namespace
}  // namespace cruscotto::serial_device_test
