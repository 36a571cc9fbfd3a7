#include "core/base/crash_send.h"
#include "devices/frames/frame_device.h"

#include <gtest/gtest.h>

#include <atomic>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "devices/device_listener.h"
#include "devices/frames/frame_guess.h"
#include "devices/link/board_clock.h"
#include "standins/frameboard/weather_board.h"

namespace cruscotto::frames_test {
namespace {

using nlohmann::json;
using namespace std::string_literals;
using test::eventually;

std::string refusal(const std::string& words) {
    const auto layout = frameLayout(words);
    return layout ? "" : layout.error().english();
}

TEST(FrameLayout, WordsAreReadAndWrittenTheSame) {
    for (const char* words : {"begin aa55 length 12 check crc16-modbus", "end 0d0a",
                              "begin 7e length-at 1 u8 +4 check sum8 from 1", "cobs check crc16-ccitt be",
                              "slip length 8", "begin 02 length-at 1 u16be -3 end 03", "", "length 5 end 0a"}) {
        const auto layout = frameLayout(words);
        ASSERT_TRUE(layout.ok()) << words << ": " << layout.error().english();
        EXPECT_EQ(frameLayoutText(layout.value()), words);
    }
    EXPECT_EQ(frameLayout("begin aa 55, length 12").value(), frameLayout("begin aa55 length 12").value());
}

TEST(FrameLayout, WhatTellsNoFrameIsRefusedInWords) {
    EXPECT_NE(refusal("begin xx").find("hexadecimal"), std::string::npos);
    EXPECT_NE(refusal("begin aa55").find("where does it end"), std::string::npos);
    EXPECT_NE(refusal("length 12").find("where a frame begins or ends"), std::string::npos);
    EXPECT_NE(refusal("begin aa length 2 check crc32").find("at least 5"), std::string::npos);
    EXPECT_NE(refusal("cobs begin aa").find("need no begin"), std::string::npos);
    EXPECT_NE(refusal("end 0a check crc99").find("crc16-modbus"), std::string::npos);
    EXPECT_NE(refusal("begin 01 length 9 length-at 1 u8").find("Either"), std::string::npos);
    EXPECT_NE(refusal("sideways").find("not understood"), std::string::npos);
}

TEST(FrameField, EveryTypeAndOrderIsDecoded) {
    const std::string frame = "\x01\x80\xff\xfe\x00\x00\x80\x3f\xc0\x09\x21\xfb\x54\x44\x2d\x18"s;
    const std::vector<std::pair<std::string, double>> cases{
        {"0 u8", 1},
        {"1 i8", -128},
        {"0 u16le", 0x8001},
        {"0 u16be", 0x0180},
        {"2 i16be", -2},
        {"2 i16le", -257},
        {"1 u24be", 0x80fffe},
        {"1 i24be", -0x7f0002},
        {"4 f32le", 1},
        {"8 f64be", -3.141592653589793},
        {"0 u40le", 0x00feff8001},
        {"0 i64le", static_cast<double>(0x3f800000feff8001)},
        {"1 u8 bit 7", 1},
        {"1 u8 bit 0", 0},
        {"0 u16le bits 12-15", 8},
        {"0 i16le bits 12-15", -8},
    };
    for (const auto& [words, expected] : cases) {
        const auto field = frameField("x", words);
        ASSERT_TRUE(field.ok()) << field.error().english();
        EXPECT_EQ(
            field.value().value(words == "8 f64be" ? frame.substr(0, 8) + "\xc0\x09\x21\xfb\x54\x44\x2d\x18" : frame),
            expected)
            << words;
        EXPECT_EQ(frameFieldText(field.value()), words);
    }
    for (const char* wrong : {"", "2", "2 u12", "2 f16", "x u8", "2 u8 bit 8", "2 f32 bit 1", "2 u8 bits 5-3",
                              "2 u8 when 1", "2000 u8", "2 u8 maybe"})
        EXPECT_FALSE(frameField("x", wrong).ok()) << wrong;
}

struct Cut {
    std::vector<std::string> frames, problems;
};
/// Whatever the pieces in which the bytes come, the same frames come out.
Cut cut(const std::string& words, const std::string& bytes, std::size_t piece) {
    FrameCutter cutter(frameLayout(words).value());
    Cut out;
    std::vector<FrameCutter::Piece> pieces;
    for (std::size_t i = 0; i < bytes.size(); i += piece) cutter.feed(std::string_view(bytes).substr(i, piece), pieces);
    for (const auto& p : pieces)
        p.problem.empty() ? out.frames.push_back(p.bytes) : out.problems.push_back(p.problem.english());
    return out;
}

TEST(FrameCutter, FramesAreFoundWhereverTheBytesAreCutAndNoiseIsSkipped) {
    struct Case {
        std::string words, bytes;
        std::vector<std::string> frames;
        std::size_t problems;
    };
    const std::string a = "\xaa\x55\x01\x02\x03"s, b = "\xaa\x55\x0a\xaa\x55"s;
    const std::vector<Case> cases{
        {"begin aa55 length 5", "tail" + a + b, {a, b}, 0},
        {"begin aa55 length 5", a + "noise" + b, {a, b}, 1},
        {"begin 02 length-at 1 u8 +3 end 03",
         "\x02\x01x\x03\x02\x03\x02yz\x03"s + "\x02\x00\x03"s,
         {"\x02\x01x\x03"s, "\x02\x03\x02yz\x03"s, "\x02\x00\x03"s},
         0},
        {"begin 02 length-at 1 u16be +3", "\x02\x00\x01x\x02\x00\x02xy"s, {}, 0},
        {"end 0d0a", "lost\r\nab\r\n\r\ncd\ne\r\n", {"lost\r\n", "ab\r\n", "\r\n", "cd\ne\r\n"}, 0},
        {"end 0a length 4", "b\nabc\nde\n\nabcd\n", {"abc\n", "de\n\n", "bcd\n"}, 1},
        {"begin 24 check xor8 from 1 end 0a", "$ab\x03\n$ac\x03\n$ad\x05\n", {"$ab\x03\n", "$ad\x05\n"}, 1},
        // RFC 1055, and the examples of the COBS paper
        {"slip", "tail\xc0\x01\xdb\xdc\xdb\xdd\x02\xc0\xc0\x05\xc0"s, {"tail", "\x01\xc0\xdb\x02"s, "\x05"s}, 0},
        {"slip", "x\xc0\x01\xdb\x07\xc0\x05\xc0"s, {"x", "\x05"s}, 1},
        {"cobs",
         "\x00\x01\x01\x00\x03\x11\x22\x02\x33\x00\x01\x01\x01\x00"s,
         {"\x00"s, "\x11\x22\x00\x33"s, "\x00\x00"s},
         0},
        {"cobs", "\x02x\x00\x09xy\x00\x02z\x00"s, {"x", "z"}, 1},
    };
    for (const Case& c : cases)
        for (const std::size_t piece : {std::size_t{1}, std::size_t{3}, std::size_t{1000}}) {
            const Cut got = cut(c.words, c.bytes, piece);
            if (!c.frames.empty()) EXPECT_EQ(got.frames, c.frames) << c.words << ", pieces of " << piece;
            EXPECT_EQ(got.problems.size(), c.problems) << c.words << ", pieces of " << piece;
        }
}

TEST(FrameCutter, WhatNeverEndsCostsBoundedMemoryAndIsTold) {
    for (const char* words : {"begin aa length-at 1 u16le", "end 0d0a", "cobs", "slip",
                              "begin aa length 900 check crc32", "begin aa55 length 12"}) {
        FrameCutter cutter(frameLayout(words).value());
        std::vector<FrameCutter::Piece> pieces;
        std::size_t told = 0, largest = 0;
        for (int i = 0; i < 30; ++i) {
            cutter.feed(std::string(3000, i % 2 != 0 ? '\xaa' : 'x'), pieces);
            told += pieces.size();
            for (const auto& p : pieces) largest = std::max(largest, p.bytes.size());
            pieces.clear();
        }
        EXPECT_GT(told, 0U) << words;
        EXPECT_LE(largest, 4096 + FrameLayout::longest) << words;
    }
}

TEST(CheckSum, TheKnownAnswersOfTheirCatalogue) {
    // The check values of the catalogued algorithms: of the nine characters 123456789.
    const std::string nine = "123456789";
    EXPECT_EQ(checkSum(CheckSum::crc8, nine), 0xF4U);
    EXPECT_EQ(checkSum(CheckSum::crc8Maxim, nine), 0xA1U);
    EXPECT_EQ(checkSum(CheckSum::crc16Modbus, nine), 0x4B37U);
    EXPECT_EQ(checkSum(CheckSum::crc16Ccitt, nine), 0x29B1U);
    EXPECT_EQ(checkSum(CheckSum::crc16Xmodem, nine), 0x31C3U);
    EXPECT_EQ(checkSum(CheckSum::crc32, nine), 0xCBF43926U);
    EXPECT_EQ(checkSum(CheckSum::sum8, nine), 0xDDU);
    EXPECT_EQ(checkSum(CheckSum::sum8Negated, nine), 0x23U);
    EXPECT_EQ(checkSum(CheckSum::xor8, nine), 0x31U);
    for (const auto& [kind, name] : checkSums()) EXPECT_EQ(checkSumNamed(name), kind);
}

TEST(BoardClock, ALateArrivalMovesNoSampleAndTheCounterGoesRound) {
    // 16 bits of milliseconds go round every 65.536 s; each line is up to 30 ms late, the board's clock 100 ppm fast.
    BoardClock clock(16, 0.001);
    std::uint64_t random = 1;
    double worst = 0;
    Instant before{};
    for (int i = 0; i < 20'000; ++i) {
        const double taken = 0.01 * i;
        random = random * 6364136223846793005ULL + 1442695040888963407ULL;
        const double late = 0.001 + 0.03 * static_cast<double>(random >> 40) / (1 << 24);
        const auto stamp = static_cast<std::uint64_t>((taken * (1 + 100e-6) + 3.0) * 1000);
        const Instant at = clock.at(stamp & 0xffff, Instant{seconds(5 + taken + late).ns});
        if (i > 500) worst = std::max(worst, std::fabs(at.seconds() - 5 - taken));
        if (i > 0) EXPECT_GE(at.ns, before.ns);
        before = at;
    }
    EXPECT_LT(worst, 0.004) << "the stamps count milliseconds";
    EXPECT_EQ(clock.restarts(), 0U);
}

TEST(BoardClock, ASilenceLongerThanTheCounterIsCountedAndAResetBeginsAnew) {
    BoardClock clock(16, 0.001);
    clock.at(1000, Instant{seconds(10).ns});
    // 200 s later: three times round and a bit
    const Instant later = clock.at((1000 + 200'000) & 0xffff, Instant{seconds(210.01).ns});
    EXPECT_NEAR(later.seconds(), 210, 0.02);
    EXPECT_EQ(clock.restarts(), 0U);
    BoardClock wide(32, 0.001);
    wide.at(500'000, Instant{seconds(10).ns});
    const Instant reset = wide.at(20, Instant{seconds(11).ns});
    EXPECT_EQ(reset, Instant{seconds(11).ns});
    EXPECT_EQ(wide.restarts(), 1U);
    EXPECT_NEAR(wide.at(1020, Instant{seconds(12).ns}).seconds(), 12, 1e-6);
}

TEST(BoardClock, ABoardWhoseCounterStandsStillWhileItSleepsIsFollowedAgain) {
    BoardClock clock(32, 0.001);
    double slept = 0;
    for (int i = 0; i < 2000; ++i) {
        const double taken = 0.01 * i;
        if (i == 1000) slept = 1.5;
        const double arrived = 5 + taken + slept + 0.001 * (i % 7);
        const Instant at =
            clock.at(static_cast<std::uint64_t>(std::lround(taken * 1000)), Instant{seconds(arrived).ns});
        if (i < 1000 || i > 1210) EXPECT_NEAR(at.seconds(), 5 + taken + slept, 0.01) << i;
    }
    EXPECT_EQ(clock.restarts(), 1U);
}

std::string said(const WeatherOptions& options, std::size_t frames) {
    std::string out;
    for (std::uint64_t n = 0; n < frames; ++n) out += WeatherBoard::frame(options, n);
    return out;
}

TEST(FrameGuess, TheFramesOfABoardThatNobodyDescribedAreFound) {
    using Format = WeatherOptions::Format;
    const std::vector<std::pair<Format, std::string>> cases{
        {Format::fixed, "begin a53c length 18 check crc16-modbus"},
        {Format::lengthFirst, "begin 7e length-at 1 u8 +4 check crc16-ccitt from 1 be"},
        {Format::cobs, "cobs check crc8"},
        {Format::slip, "slip check crc16-xmodem be"}};
    for (const auto& [format, words] : cases) {
        WeatherOptions options;
        options.format = format;
        const auto guesses = guessLayouts("\x01\x02" + said(options, 100));
        ASSERT_FALSE(guesses.empty()) << words;
        EXPECT_EQ(frameLayoutText(guesses.front()), words);
    }
    std::string noise;
    std::uint64_t random = 7;
    for (int i = 0; i < 4096; ++i) noise += static_cast<char>((random = random * 6364136223846793005ULL + 1) >> 56);
    EXPECT_TRUE(guessLayouts(noise).empty()) << "nothing is seen in noise";
    EXPECT_TRUE(guessLayouts("").empty());
}

TEST(FrameGuess, TheValuesOfAFrameAreParted) {
    std::vector<std::string> frames;
    for (std::uint64_t n = 0; n < 400; ++n) frames.push_back(WeatherBoard::frame({}, n));
    const auto layout = frameLayout("begin a53c length 18 check crc16-modbus").value();
    std::vector<std::string> found;
    for (const FieldGuess& g : guessFields(layout, frames)) found.push_back(frameFieldText(g.field));
    // The stamp's highest byte does not move in that time, so that a shorter one is as good.
    EXPECT_NE(std::ranges::find(found, "6 i16le"), found.end()) << testing::PrintToString(found);
    EXPECT_NE(std::ranges::find(found, "9 f32le"), found.end()) << testing::PrintToString(found);
    const auto wind = guessField(frames, 9, 4);
    ASSERT_FALSE(wind.empty());
    EXPECT_EQ(frameFieldText(wind.front().field), "9 f32le");
    EXPECT_NEAR(wind.front().value, WeatherBoard::wind(399), 1e-5);
    const auto temperature = guessField(frames, 6, 2);
    EXPECT_EQ(frameFieldText(temperature.front().field), "6 i16le");
    EXPECT_TRUE(guessField(frames, 6, 9).empty());
}

class FrameBoardTest : public testing::Test {
protected:
    test::TempFolder folder;
    WeatherBoard board{{}};
    std::unique_ptr<StandInHost> host = std::move(StandInHost::onPty(board.begin(), folder.file("board")).value());
    [[nodiscard]] JsonText settings(const json& more = {}) const {
        json j{{"address", host->address()},
               {"frame", "begin a53c length 18 check crc16-modbus"},
               {"fields",
                {{"time", "2 u32le"},
                 {"temperature", "6 i16le"},
                 {"humidity", "8 u8"},
                 {"wind", "9 f32le"},
                 {"rain", "13 u16be"},
                 {"door", "15 u8 bit 0"},
                 {"battery", "15 u8 bits 4-7"}}},
               {"stamp", "time"}};
        if (more.is_object()) j.update(more);
        return jsonText(j);
    }
};

TEST_F(FrameBoardTest, EveryValueOfEveryFrameIsReadAtTheBoardsTime) {
    test::DeviceListener listener("frame-board", settings());
    ASSERT_TRUE(eventually([&] { return listener.count("wind") > 100; })) << listener.status().sentence.english();
    // The samples stand a hundredth of a second apart, however they arrived, but where the fit finds out that earlier
    // ones came late.
    EXPECT_TRUE(eventually([&] {
        const auto wind = listener.samples("wind");
        std::size_t even = 0;
        for (std::size_t i = wind.size() - 99; i < wind.size(); ++i)
            even += std::fabs((wind[i].t - wind[i - 1].t).seconds() - 0.01) < 0.002;
        return even > 80;
    }));
    listener.stop();
    const auto time = listener.samples("time");
    const auto temperature = listener.samples("temperature");
    const auto wind = listener.samples("wind");
    const auto rain = listener.samples("rain");
    const auto battery = listener.samples("battery");
    ASSERT_EQ(time.size(), wind.size());
    for (std::size_t i = 0; i < time.size(); ++i) {
        const auto n = static_cast<std::uint64_t>(std::llround(time[i].v - WeatherBoard::firstStamp)) / 10;
        EXPECT_EQ(temperature[i].v, std::lround(10 * WeatherBoard::temperature(n)));
        EXPECT_FLOAT_EQ(static_cast<float>(wind[i].v), static_cast<float>(WeatherBoard::wind(n)));
        EXPECT_EQ(rain[i].v, WeatherBoard::rain(n));
        EXPECT_EQ(battery[i].v, 11);
        if (i > 0) EXPECT_EQ(time[i].v - time[i - 1].v, 10) << "no frame is left out";
    }
    EXPECT_EQ(listener.status().rejected, 0U);
}

TEST_F(FrameBoardTest, WithoutADescriptionItSaysWhatTheBytesLookLike) {
    test::DeviceListener listener("frame-board", jsonText(json{{"address", host->address()}}));
    ASSERT_TRUE(eventually([&] { return !listener.status().suggestions.empty(); }))
        << listener.status().sentence.english();
    EXPECT_EQ(listener.status().state, LinkState::nonsense);
    const auto suggestion = listener.status().suggestions.front();
    EXPECT_EQ(suggestion.key, "frame");
    EXPECT_EQ(suggestion.value, "begin a53c length 18 check crc16-modbus");
    EXPECT_NE(suggestion.label.english().find("begin a53c"), std::string::npos);
}

TEST_F(FrameBoardTest, DamagedFramesAreCountedAndSkipped) {
    test::DeviceListener listener("frame-board", settings());
    ASSERT_TRUE(listener.reaches(LinkState::live));
    board.faults.wrongCheckSum = true;
    ASSERT_TRUE(eventually([&] { return listener.status().rejected > 2; }));
    EXPECT_NE(listener.status().lastRejected.front().reason.english().find("the check sum is"), std::string::npos);
    ASSERT_TRUE(listener.reaches(LinkState::nonsense)) << "not one fits for a second";
    board.faults.wrongCheckSum = false;
    board.faults.noise = true;
    ASSERT_TRUE(listener.reaches(LinkState::live)) << "between the noise the frames are found";
}

TEST_F(FrameBoardTest, SilenceIsNoNonsense) {
    test::DeviceListener listener("frame-board", settings({{"silence-s", 1.5}}));
    ASSERT_TRUE(listener.reaches(LinkState::live));
    board.faults.quiet = true;
    ASSERT_TRUE(listener.reaches(LinkState::silent));
    board.faults.quiet = false;
    ASSERT_TRUE(listener.reaches(LinkState::live));
    const auto states = listener.states();
    EXPECT_EQ(std::ranges::find(states, LinkState::nonsense), states.end());
}

TEST_F(FrameBoardTest, AnEndlessFrameCostsBoundedMemory) {
    test::DeviceListener listener("frame-board",
                                  settings({{"frame", "begin a53c length-at 2 u16le check crc16-modbus"}}));
    board.faults.endless = true;
    ASSERT_TRUE(eventually([&] { return listener.status().rejected > 5; }));
    for (const Rejected& r : listener.status().lastRejected) EXPECT_LE(r.bytes.size(), 200U);
    board.faults.endless = false;
    listener.stop();
}

TEST_F(FrameBoardTest, OutputsAreSentAsBytesAndAgainWhenTheBoardIsBack) {
    test::DeviceListener listener("frame-board", settings({{"outputs", {{"heater", "\\xa5W{u8}"}}}}));
    ASSERT_TRUE(listener.reaches(LinkState::live));
    listener.device().setOutput("heater", 40);
    EXPECT_TRUE(eventually([&] { return board.heater() == 40; }));
    host->unplug();
    ASSERT_TRUE(eventually([&] { return listener.status().state != LinkState::live; }));
    board.forget();
    host->plug();
    EXPECT_TRUE(eventually([&] { return board.heater() == 40; })) << "it does not know what it stands at";
    listener.device().setOutput("heater", 0);
    listener.stop();
    EXPECT_TRUE(eventually([&] { return board.heater() == 0; }));
}

TEST_F(FrameBoardTest, ACrashSendsItsSafeValues) {
    test::DeviceListener listener("frame-board", settings({{"outputs", {{"heater", "\\xa5W{u8}"}}}}));
    listener.device().setSafeValues({{"heater", 3}});
    listener.device().setOutput("heater", 40);
    ASSERT_TRUE(eventually([&] { return board.heater() == 40; }));
    EXPECT_TRUE(eventually([&] {
        CrashSend::sendAll();
        return board.heater() == 3;
    }));
}

TEST_F(FrameBoardTest, UnpluggedAgainAndAgainItKeepsEveryGapAndNothingElse) {
    test::DeviceListener listener("frame-board", settings({{"stamp", ""}}));
    test::unplugAgainAndAgain(
        listener, "wind", SANITIZED ? 100 : 1000, [&] { host->unplug(); }, [&] { host->plug(); });
}

TEST_F(FrameBoardTest, TheWireShowsEachValueWhereItStands) {
    test::DeviceListener listener("frame-board", settings());
    listener.wire->open();
    ASSERT_TRUE(eventually([&] { return listener.wire->since(0).size() > 5; }));
    const auto message = listener.wire->since(0).back();
    ASSERT_EQ(message->fields.size(), 7U);
    EXPECT_EQ(message->fields[1].terminal, "temperature");
    EXPECT_EQ(message->fields[1].start, 6U);
    EXPECT_EQ(message->fields[1].length, 2U);
    listener.wire->close();
    listener.stop();
    EXPECT_TRUE(listener.wire->since(0).empty());
}

TEST(FrameBoardSettings, SayWhatIsWrong) {
    const auto why = [](const json& j) {
        const auto s = frameBoardSettings(jsonText(j));
        return s ? std::string() : s.error().english();
    };
    EXPECT_NE(why(json::object()).find("where the device is"), std::string::npos);
    EXPECT_NE(why({{"address", "/dev/x"}, {"frame", "begin"}}).find("\"frame\""), std::string::npos);
    EXPECT_NE(
        why({{"address", "/dev/x"}, {"frame", "begin aa length 4"}, {"fields", {{"a", "3 u16"}}}}).find("ends behind"),
        std::string::npos);
    EXPECT_NE(why({{"address", "/dev/x"}, {"stamp", "t"}}).find("stamp"), std::string::npos);
    EXPECT_NE(why({{"address", "/dev/x"}, {"baud", 0}}).find("baud"), std::string::npos);
    EXPECT_EQ(why({{"address", "/dev/x"}}), "");
}

}  // namespace
}  // namespace cruscotto::frames_test
