#include <nlohmann/json.hpp>

#include "core/base/crash_send.h"
#include "core/base/json_text.h"
#include "core/bench/control_file.h"
#include "devices/device_listener.h"
#include "devices/scpi/scpi_settings.h"
#include "engine/engine.h"
#include "standins/meter/bench_meter.h"

namespace cruscotto::scpi_test {
namespace {

using nlohmann::json;
using test::eventually;

TEST(ScpiQuery, IsReadFromWords) {
    const auto scan = scpiQuery("scan", "READ? (@101:103, 106) every 5");
    ASSERT_TRUE(scan.ok()) << scan.error().english();
    EXPECT_EQ(scan.value().text, "READ? (@101:103, 106)");
    EXPECT_EQ(scan.value().everySeconds, 5);
    EXPECT_EQ(scan.value().terminals(), (std::vector<std::string>{"scan.101", "scan.102", "scan.103", "scan.106"}));
    EXPECT_EQ(scpiQuery("two", "FETC? list 2").value().terminals(), (std::vector<std::string>{"two.1", "two.2"}));
    EXPECT_EQ(scpiQuery("v", "MEAS:VOLT? 10,0.001").value().text, "MEAS:VOLT? 10,0.001");
    const auto wave = scpiQuery("w", "CURV? block i16be step 1e-6").value();
    EXPECT_EQ(wave.sample, ScpiQuery::Sample::i16);
    EXPECT_FALSE(wave.littleEndian);
    EXPECT_EQ(wave.stepSeconds, 1e-6);
    for (const char* wrong : {"", "VOLT 3", "READ? (@1:999)", "READ? (@x)", "X? every 0", "X? list 0", "X? block i16",
                              "X? block q step 1", "X? every 1 often"})
        EXPECT_FALSE(scpiQuery("q", wrong).ok()) << wrong;
}

TEST(ScpiNumbers, AreReadInEveryFormOfTheStandard) {
    const auto n = scpiNumbers("+1.5E-3, 42,-.5,9.9E37,9.91E37,-9.9E+37, 1.5 V");
    ASSERT_TRUE(n.ok()) << n.error().english();
    ASSERT_EQ(n.value().size(), 7U);
    EXPECT_EQ(n.value()[0], (ScpiNumber{1.5e-3, Quality::good}));
    EXPECT_EQ(n.value()[1].value, 42);
    EXPECT_EQ(n.value()[2].value, -.5);
    EXPECT_EQ(n.value()[3].quality, Quality::clipped);
    EXPECT_EQ(n.value()[4].quality, Quality::outOfRange);
    EXPECT_EQ(n.value()[5].quality, Quality::clipped);
    EXPECT_EQ(n.value()[6].value, 1.5);
    for (const char* wrong : {"", "abc", "1,", "1,,2", "1.2.3", "1e5e5", "nan", "inf", "--1"})
        EXPECT_FALSE(scpiNumbers(wrong).ok()) << wrong;
}

TEST(ScpiAnswers, LinesAndBlocksAreFoundInPiecesOfAnySize) {
    const std::string all = "1.5\r\n#15a\nb\nc\n+2\n#206\x01\x02\n\n\n\x03\n\n#0x\n";
    for (std::size_t step = 1; step <= all.size(); ++step) {
        ScpiAnswers answers;
        std::vector<ScpiAnswers::Piece> out;
        for (std::size_t at = 0; at < all.size(); at += step) answers.feed(std::string_view(all).substr(at, step), out);
        ASSERT_EQ(out.size(), 6U) << step;
        EXPECT_EQ(out[0].text, "1.5");
        EXPECT_TRUE(out[1].block);
        EXPECT_EQ(out[1].text, "a\nb\nc");
        EXPECT_EQ(out[2].text, "+2");
        EXPECT_EQ(out[3].text, std::string("\x01\x02\n\n\n\x03"));
        EXPECT_EQ(out[5].text, "#0x") << "an indefinite block is a line to us";
    }
}

json settingsFor(const std::string& address, const json& queries, const json& more = json::object()) {
    json j{{"address", address}, {"queries", queries}, {"every-s", 0.01}, {"timeout-s", 0.3}, {"baud", 115200}};
    j.update(more);
    return j;
}

class MeterListener : public test::DeviceListener {
public:
    explicit MeterListener(const json& settings) : DeviceListener("scpi", jsonText(settings)) {}
    bool says(const std::string& words) {
        return eventually([&] { return status().sentence.english().find(words) != std::string::npos; });
    }
};

class Scpi : public ::testing::Test {
protected:
    BenchMeter meter;
    test::TempFolder folder;
    std::unique_ptr<StandInHost> host = std::move(StandInHost::onLoopback(meter.begin()).value());
};

TEST_F(Scpi, ReadsAMeterOverTheNetworkAndOverASerialLine) {
    const auto pty = std::move(StandInHost::onPty(meter.begin(), folder.file("port")).value());
    for (const std::string& address : {host->address(), pty->address()}) {
        MeterListener listener(settingsFor(address,
                                           {{"supply", "MEAS:VOLT?"},
                                            {"both", "FETC? list 2"},
                                            {"scan", "READ? (@101:104,106)"},
                                            {"over", "OVER? list 4"},
                                            {"wave", "CURV? block i16 step 1e-4"}},
                                           {{"timeout-s", 10}}));
        ASSERT_TRUE(eventually([&] {
            return listener.count("wave") >= 500 && listener.count("scan.106") > 0 && listener.count("over.4") > 0 &&
                   listener.count("both.2") > 0 && listener.count("supply") > 0;
        })) << listener.status().sentence.english();
        EXPECT_NEAR(listener.latest("supply"), 5, 0.01);
        EXPECT_NEAR(listener.latest("both.2"), 5. / 47, 1e-4);
        EXPECT_NEAR(listener.latest("scan.106"), 106, 0.2);
        EXPECT_EQ(listener.samples("over.1").front().quality, Quality::clipped);
        EXPECT_EQ(listener.samples("over.2").front().quality, Quality::outOfRange);
        EXPECT_EQ(listener.samples("over.4").front().quality, Quality::good);
        const auto wave = listener.samples("wave");
        EXPECT_EQ(wave[12].v, std::round(8000 * std::sin(2 * 3.14159265358979 * 12 / 50)));
        EXPECT_EQ((wave[1].t - wave[0].t).ns, 100'000);
        EXPECT_TRUE(listener.says(std::string(BenchMeter::identity) + " answers."));
        EXPECT_EQ(listener.status().rejected, 0U);
    }
}

TEST_F(Scpi, SetsWhatItIsAskedToAndShowsWhatTheInstrumentSaysAgainstIt) {
    MeterListener listener(
        settingsFor(host->address(), {{"supply", "MEAS:VOLT?"}},
                    {{"outputs", {{"level", "VOLT {value:3}"}}}, {"setup", "*CLS | VOLT 7 | NONSENSE 1"}}));
    EXPECT_TRUE(listener.says("-113,\"Undefined header\""));
    EXPECT_TRUE(eventually([&] { return meter.source() == 7; }));
    listener.device().setOutput("level", 12.5);
    EXPECT_TRUE(eventually([&] { return meter.source() == 12.5; }));
    listener.device().setOutput("level", 99);
    EXPECT_TRUE(listener.says("-222,\"Data out of range\""));
    EXPECT_TRUE(eventually([&] { return std::abs(listener.latest("supply") - 12.5) < 0.01; }));
    listener.device().setOutput("level", 1);
    listener.stop();
    EXPECT_TRUE(eventually([&] { return meter.source() == 1; })) << "what was set last before the stop goes out";
}

TEST_F(Scpi, ACrashSendsItsSafeValues) {
    MeterListener listener(
        settingsFor(host->address(), {{"supply", "MEAS:VOLT?"}}, {{"outputs", {{"level", "VOLT {value:3}"}}}}));
    listener.device().setSafeValues({{"level", 0.5}});
    listener.device().setOutput("level", 12.5);
    ASSERT_TRUE(eventually([&] { return meter.source() == 12.5; }));
    EXPECT_TRUE(eventually([&] {
        CrashSend::sendAll();
        return meter.source() == 0.5;
    }));
}

json withLists(json more = json::object()) {
    more["outputs"] = {{"level", "VOLT {value:3}"}};
    more["lists"] = {{"level", "LIST:VOLT {values} | LIST:DWEL {seconds} | VOLT:MODE LIST | INIT"}};
    more["list-ends"] = {{"level", "ABOR | VOLT:MODE FIX"}};
    return more;
}

TEST_F(Scpi, AnInstrumentThatIsNotReachedPlaysNoList) {
    const auto device =
        deviceKind("scpi")->make({"device", Pace::realTime, {}, nullptr, false, nullptr},
                                 jsonText(settingsFor(host->address(), {{"supply", "MEAS:VOLT?"}}, withLists())), {});
    EXPECT_FALSE(device->playByItself("level", {{1, 0.1}, {2, 0.1}}));
}

TEST_F(Scpi, AListIsPlayedByTheInstrumentUntilItIsToldAValue) {
    MeterListener listener(settingsFor(host->address(), {{"supply", "MEAS:VOLT?"}}, withLists()));
    Device& device = listener.device();
    device.setSafeValues({{"level", 0.5}});
    ASSERT_TRUE(listener.reaches(LinkState::live));
    EXPECT_FALSE(device.playByItself("other", {{1, 0.1}, {2, 0.1}}));
    listener.wire->open();
    device.setOutput("level", 1);
    ASSERT_TRUE(device.playByItself("level", {{1, 0.05}, {2, 0.05}, {3.25, 60}}));
    EXPECT_TRUE(eventually([&] { return meter.source() == 3.25; }));
    std::vector<std::string> told;
    for (const auto& message : listener.wire->since(0))
        if (message->way == WireMessage::Way::sent && message->bytes.find('?') == std::string::npos)
            told.push_back(message->bytes);
    EXPECT_EQ(told, (std::vector<std::string>{"ABOR\n", "VOLT:MODE FIX\n", "VOLT 1.000\n", "LIST:VOLT 1,2,3.25\n",
                                              "LIST:DWEL 0.05,0.05,60\n", "VOLT:MODE LIST\n", "INIT\n"}));
    EXPECT_EQ(meter.lists(), 1);
    device.setOutput("level", 7);
    EXPECT_TRUE(eventually([&] { return meter.source() == 7; })) << "a single value ends it";
    ASSERT_TRUE(device.playByItself("level", {{1, 0.01}, {4, 60}}));
    EXPECT_TRUE(eventually([&] { return meter.source() == 4; }));
    EXPECT_TRUE(eventually([&] {
        CrashSend::sendAll();
        return meter.source() == 0.5;
    })) << "a crash ends it too";
    const int begun = meter.lists();
    ASSERT_TRUE(device.playByItself("level", {{1, 0.01}, {99, 60}}));
    EXPECT_TRUE(listener.says("-222,\"Data out of range\""));
    EXPECT_TRUE(eventually([&] { return listener.status().outputProblems.contains("level"); }));
    EXPECT_EQ(meter.lists(), begun) << "not the one before in its place";
}

TEST(ScpiSettings, AListNeedsItsOutputAndBothItsMarks) {
    const auto wrong = [](const json& more) {
        const auto settings = scpiSettings(jsonText(settingsFor("127.0.0.1", json::object(), more)));
        return settings ? std::string() : settings.error().english();
    };
    EXPECT_EQ(wrong(withLists()), "");
    EXPECT_NE(wrong({{"lists", {{"level", "LIST:VOLT {values} | LIST:DWEL {seconds}"}}}}).find("there is not"),
              std::string::npos);
    json lists = withLists();
    lists["lists"]["level"] = "LIST:VOLT {values} | INIT";
    EXPECT_NE(wrong(lists).find("{seconds}"), std::string::npos);
    lists["lists"]["level"] = "LIST:VOLT {values} | LIST:DWEL {seconds} | LIST:DWEL?";
    EXPECT_NE(wrong(lists).find("query"), std::string::npos);
}

/// What a bench plays on the meter's source, in a whole engine.
class ScpiPlayed : public Scpi {
protected:
    Bench playing(std::size_t steps, double every, double firstLasts) {
        Bench bench =
            withDevice({}, {"meter", "Meter", "scpi",
                            jsonText(settingsFor(host->address(), {{"supply", "MEAS:VOLT?"}}, withLists())), ""});
        SignalSpec level;
        level.id = level.name = "level";
        level.device = "meter";
        level.terminal = "level";
        level.kind = ChannelKind::analogOutput;
        level.output = OutputSpec{};
        level.output->low = 0;
        level.output->high = 10;
        level.output->safe = 0.25;
        ControlSpec play;
        play.id = play.name = "play";
        play.output = "level";
        play.kind = ControlKind::play;
        play.played.points = {{0, 1}};
        for (std::size_t i = 1; i < steps; ++i)
            play.played.points.emplace_back(firstLasts + every * static_cast<double>(i - 1), i % 2 == 0 ? 1 : 2);
        play.played.lasts = play.played.points.back().first + 60;
        return withControl(withSignal(bench, level), play);
    }
    static bool byDevice(Engine& engine) {
        const auto reports = engine.controlReports();
        return reports.size() == 1 && reports[0].byDevice;
    }
};

TEST_F(ScpiPlayed, ItIsToldAllOfItOnceAndWhoeverPrevailsEndsIt) {
    const auto engine = Engine::start(playing(60, 0.1, 0.3));
    ASSERT_TRUE(eventually([&] { return byDevice(*engine) && meter.lists() == 1; }))
        << engine->deviceStatus()["meter"].sentence.english();
    EXPECT_TRUE(eventually([&] { return meter.source() == 2; })) << "it goes on";
    EXPECT_TRUE(eventually([&] { return meter.source() == 1; }));
    EXPECT_TRUE(engine->setOutput("level", 7));
    EXPECT_TRUE(eventually([&] { return meter.source() == 7; }));
    EXPECT_TRUE(eventually([&] { return !byDevice(*engine); }));
    EXPECT_TRUE(engine->releaseOutput("level"));
    EXPECT_TRUE(eventually([&] { return meter.lists() == 2; })) << "what is left of it";
    engine->stop();
    EXPECT_TRUE(eventually([&] { return meter.source() == 0.25; })) << "safe at the end";
}

TEST_F(ScpiPlayed, AListThatIsRefusedIsToldValueByValue) {
    const auto engine = Engine::start(playing(150, 0.1, 0.3));
    EXPECT_TRUE(eventually([&] { return engine->deviceStatus()["meter"].rejected > 0; })) << "more than it can hold";
    EXPECT_TRUE(eventually([&] { return meter.source() == 2; }));
    EXPECT_TRUE(eventually([&] { return meter.source() == 1; }));
    EXPECT_FALSE(byDevice(*engine));
    EXPECT_EQ(meter.lists(), 0);
}

TEST_F(ScpiPlayed, AnEditThatTakesThePlayAwayEndsIt) {
    Bench bench = playing(60, 0.1, 0.3);
    const auto engine = Engine::start(bench);
    ASSERT_TRUE(eventually([&] { return byDevice(*engine) && meter.lists() == 1; }));
    bench = withControl(bench, [&] {
        ControlSpec off = *bench.controls[0];
        off.enabled = false;
        return off;
    }());
    engine->apply(bench);
    EXPECT_TRUE(eventually([&] { return meter.source() == 0; })) << "the value that it starts with";
    EXPECT_FALSE(byDevice(*engine));
}

TEST_F(Scpi, AnAnswerThatComesTooLateIsNotTakenForTheNext) {
    MeterListener listener(
        settingsFor(host->address(), {{"supply", "MEAS:VOLT?"}, {"scan", "READ? (@101:102)"}}, {{"timeout-s", 0.25}}));
    ASSERT_TRUE(listener.reaches(LinkState::live));
    meter.faults.answersAfterMs = 350;
    ASSERT_TRUE(eventually([&] {
        return std::ranges::any_of(listener.status().lastRejected, [](const auto& rejected) {
            return rejected.reason.english().find("too late") != std::string::npos;
        });
    }));
    meter.faults.answersAfterMs = 0;
    const std::size_t before = listener.count("supply");
    ASSERT_TRUE(eventually([&] { return listener.count("supply") > before + 5; }))
        << listener.status().sentence.english();
    for (const auto& s : listener.samples("supply")) EXPECT_NEAR(s.v, 5, 0.01);
    for (const auto& s : listener.samples("scan.102")) EXPECT_NEAR(s.v, 102, 0.2);
}

TEST_F(Scpi, AReadingThatComesBehindTheIdentificationIsNotTakenForTheNext) {
    MeterListener listener(
        settingsFor(host->address(), {{"supply", "MEAS:VOLT?"}, {"scan", "READ? (@101:102)"}}, {{"timeout-s", 0.25}}));
    ASSERT_TRUE(listener.reaches(LinkState::live));
    meter.faults.identifiesAtOnce = true;
    meter.faults.answersAfterMs = 350;
    ASSERT_TRUE(eventually([&] {
        const auto s = listener.status();
        return !s.lastRejected.empty() && s.lastRejected.back().reason.english().find("too late") != std::string::npos;
    }));
    meter.faults.answersAfterMs = 0;
    const std::size_t before = listener.count("supply"), scans = listener.count("scan.102");
    ASSERT_TRUE(eventually([&] { return listener.count("supply") > before + 5 && listener.count("scan.102") > scans; }))
        << listener.status().sentence.english();
    for (const auto& s : listener.samples("supply")) EXPECT_NEAR(s.v, 5, 0.01);
    for (const auto& s : listener.samples("scan.102")) EXPECT_NEAR(s.v, 102, 0.2);
}

TEST_F(Scpi, ThePeersMistakesCostBoundedMemoryAndAreShown) {
    MeterListener listener(settingsFor(
        host->address(), {{"supply", "MEAS:VOLT?"}, {"wave", "CURV? block i16 step 1e-4"}, {"three", "FETC? list 3"}}));
    EXPECT_TRUE(listener.says("2 numbers instead of 3"));
    const auto rejected = [&](const std::string& words) {
        return eventually([&] {
            for (const Rejected& r : listener.status().lastRejected)
                if (r.reason.english().find(words) != std::string::npos) return true;
            return false;
        });
    };
    meter.faults.wrongLength = true;
    EXPECT_TRUE(rejected("does not end where its length says"));
    meter.faults.wrongLength = false;
    meter.faults.giantBlock = true;
    EXPECT_TRUE(rejected("longer than 16 MiB"));
    meter.faults.giantBlock = false;
    meter.faults.endless = true;
    EXPECT_TRUE(rejected("longer than 65536 characters"));
    meter.faults.endless = false;
    meter.faults.silent = true;
    ASSERT_TRUE(listener.reaches(LinkState::silent));
    meter.faults.silent = false;
    EXPECT_TRUE(listener.reaches(LinkState::live)) << listener.status().sentence.english();
}

TEST_F(Scpi, WithNothingToAskItTellsWhatTheInstrumentIsAndLeavesNoErrorBehind) {
    const auto says = [](MeterListener& listener) {
        std::map<std::string, std::string> out;
        for (const auto& part : listener.status().parts) out[part.place] = part.what.english();
        return out;
    };
    for (const bool plain : {false, true}) {
        meter.faults.plain = plain;
        MeterListener listener(json{{"address", host->address()}, {"timeout-s", 0.3}});
        ASSERT_TRUE(eventually([&] { return listener.status().state == LinkState::live; }))
            << listener.status().sentence.english();
        const auto parts = says(listener);
        EXPECT_EQ(parts.at("model"), "Bench meter stand-in");
        EXPECT_EQ(parts.contains("option 2"), !plain);
        EXPECT_FALSE(parts.contains("option 1")) << "nothing is in it";
        if (!plain) {
            EXPECT_EQ(parts.at("option 2"), "SWITCH-6");
            EXPECT_EQ(parts.at("instrument 2"), "METER, SLOW");
        }
        EXPECT_EQ(listener.status().sentence.english(),
                  std::string(BenchMeter::identity) + " answers. Write under Questions what to ask it.");
        EXPECT_EQ(meter.answer("SYST:ERR?"), "0,\"No error\"\n");
    }
}

TEST(ScpiEntries, AreSplitAtCommasOutsideOfQuotes) {
    using Entries = std::vector<std::string>;
    EXPECT_EQ(scpiEntries("0, A1 ,\"b,c\"", 9), (Entries{"0", "A1", "b,c"}));
    EXPECT_EQ(scpiEntries("", 9), Entries{""});
    EXPECT_EQ(scpiEntries("a,b,c", 2), (Entries{"a", "b"}));
    EXPECT_EQ(scpiEntries("\"never ends,", 9), Entries{"never ends,"});
}

TEST_F(Scpi, UnpluggedAgainAndAgainItKeepsEveryGapAndNothingElse) {
    MeterListener listener(settingsFor(host->address(), {{"supply", "MEAS:VOLT?"}}, {{"every-s", 0.001}}));
    test::unplugAgainAndAgain(
        listener, "supply", SANITIZED ? 100 : 1000, [&] { host->unplug(); }, [&] { host->plug(); });
}

}  // namespace
}  // namespace cruscotto::scpi_test
