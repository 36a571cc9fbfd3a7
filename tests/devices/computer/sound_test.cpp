#include "devices/sound/sound_device.h"

#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "devices/device_listener.h"
#include "standins/sound/tone.h"

namespace cruscotto::sound_test {
namespace {

using nlohmann::json;
using test::eventually;

class Sound : public testing::Test {
protected:
    Tone tone{8000, 150};
    std::unique_ptr<StandInHost> host = std::move(StandInHost::onLoopback(tone.begin()).value());
    [[nodiscard]] JsonText settings() const { return jsonText(json{{"stream", host->address()}, {"rate", 8000}}); }
};

TEST_F(Sound, EverySampleIsThereOnceAtItsTime) {
    test::DeviceListener listener("sound-input", settings());
    ASSERT_TRUE(eventually([&] { return listener.count("right") > 8000; })) << listener.status().sentence.english();
    listener.stop();
    const auto left = listener.samples("left"), right = listener.samples("right");
    ASSERT_EQ(left.size(), right.size());
    for (std::size_t i = 0; i < left.size(); ++i) {
        ASSERT_EQ(left[i].v, Tone::left(i, 8000)) << i;
        ASSERT_EQ(right[i].v, Tone::right(i, 8000)) << i;
    }
    // A second of samples lies within a second, however they arrived.
    EXPECT_NEAR((left[7000].t - left[1000].t).seconds(), 6000 / 8000., 0.05);
    EXPECT_EQ(listener.outOfStep(), 0);
    EXPECT_NE(listener.status().sentence.english(), "");
}

TEST_F(Sound, ItsClockIsComparedWithTheComputers) {
    test::DeviceListener listener("sound-input", settings());
    // "... its own is 148 ppm too fast." On a machine that stands still for a moment it takes a while to be that sure.
    const auto ppm = [&] {
        const std::string sentence = listener.status().sentence.english();
        const std::size_t at = sentence.find("own is ");
        if (at == std::string::npos || sentence.find("ppm too fast") == std::string::npos) return 0.;
        return std::strtod(sentence.c_str() + at + 7, nullptr);
    };
    EXPECT_TRUE(eventually([&] { return std::fabs(ppm() - 150) < 60; }, std::chrono::seconds(60)))
        << listener.status().sentence.english();
}

TEST_F(Sound, WhatIsTooLoudIsMarked) {
    tone.faults.clipped = true;
    test::DeviceListener listener("sound-input", settings());
    ASSERT_TRUE(eventually([&] { return listener.count("left") > 1000; }));
    listener.stop();
    const auto left = listener.samples("left");
    EXPECT_TRUE(std::ranges::any_of(
        left, [](const auto& s) { return s.quality == Quality::clipped && std::fabs(s.v) >= 32767; }));
    EXPECT_TRUE(std::ranges::all_of(
        left, [](const auto& s) { return (s.quality == Quality::clipped) == (s.v >= 32767 || s.v <= -32768); }));
    EXPECT_TRUE(
        std::ranges::all_of(listener.samples("right"), [](const auto& s) { return s.quality == Quality::good; }));
}

TEST_F(Sound, SilenceIsSaidAndAFloodIsHeldBack) {
    test::DeviceListener listener("sound-input", settings());
    ASSERT_TRUE(listener.reaches(LinkState::live));
    tone.faults.quiet = true;
    ASSERT_TRUE(listener.reaches(LinkState::silent));
    tone.faults.quiet = false;
    ASSERT_TRUE(listener.reaches(LinkState::live));
    const Instant began = listener.now();
    const std::size_t before = listener.count("left");
    tone.faults.flood = true;
    ASSERT_TRUE(eventually([&] { return listener.now() - began > milliseconds(1500); }));
    EXPECT_LT(listener.count("left") - before, 8000U * 12) << "a second ahead at most, not a hundred times as many";
}

TEST_F(Sound, UnpluggedAgainAndAgainItKeepsEveryGapAndNothingElse) {
    test::DeviceListener listener("sound-input", settings());
    const std::size_t times = SANITIZED ? 100 : 1000;
    ASSERT_TRUE(eventually([&] { return listener.count("left") > 0; }));
    for (std::size_t i = 0; i < times; ++i) {
        host->unplug();
        ASSERT_TRUE(eventually([&] { return listener.status().state != LinkState::live; })) << i;
        const std::size_t before = listener.count("left");
        host->plug();
        ASSERT_TRUE(eventually([&] {
            return listener.count("left") > before && listener.status().state == LinkState::live;
        })) << i;
    }
    listener.stop();
    const auto gaps = listener.gaps();
    ASSERT_EQ(gaps.size(), times);
    for (const Gap& gap : gaps) {
        EXPECT_LE(gap.from, gap.to);
        EXPECT_NEAR(static_cast<double>(gap.lostSamples), (gap.to - gap.from).seconds() * 8000, 1);
    }
}

TEST(SoundByAlsa, AnInputThatIsNotThereSaysSo) {
    test::DeviceListener listener("sound-input", jsonText(json{{"input", "hw:31,0"}}));
    ASSERT_TRUE(eventually([&] {
        return listener.status().state == LinkState::absent || listener.status().state == LinkState::noPermission;
    }));
    EXPECT_NE(listener.status().sentence.english().find("hw:31,0"), std::string::npos);
}

TEST(SoundByAlsa, AlsasOwnNullInputIsReadAndHeldToItsRate) {
    // ALSA's built-in input of zeros: it has always more, so that only the clock holds it back.
    test::DeviceListener listener("sound-input",
                                  jsonText(json{{"input", "null"}, {"channels", 1}, {"bits", 32}, {"rate", 44100}}));
    ASSERT_TRUE(eventually([&] { return listener.count("left") > 20'000; })) << listener.status().sentence.english();
    const Instant began = listener.now();
    const std::size_t before = listener.count("left");
    ASSERT_TRUE(eventually([&] { return listener.now() - began > milliseconds(1000); }));
    EXPECT_LT(listener.count("left") - before, 44100U * 4);
    EXPECT_EQ(listener.latest("left"), 0);
    EXPECT_NE(listener.status().sentence.english().find("44100 Hz"), std::string::npos)
        << listener.status().sentence.english();
}

TEST(SoundSettings, SayWhatIsWrong) {
    const auto why = [](const json& j) {
        const auto s = soundSettings(jsonText(j));
        return s ? std::string() : s.error().english();
    };
    EXPECT_EQ(why(json::object()), "");
    EXPECT_NE(why({{"input", "file:'/tmp/x'"}}).find("input"), std::string::npos) << "a name opens no files";
    for (const char* program :
         {"plug:file:x", "plug:tee", "asym", "shm:a", "hw:0,file", "null,", "raw:hw:0", "default:file=/x"})
        EXPECT_NE(why({{"input", program}}).find("input"), std::string::npos) << program;
    for (const char* usual : {"default", "hw:1,0", "plughw:CARD=Device,DEV=0", "sysdefault:CARD=PCH"})
        EXPECT_EQ(why({{"input", usual}}), "") << usual;
    EXPECT_NE(why({{"input", "{type file}"}}).find("input"), std::string::npos);
    EXPECT_NE(why({{"stream", "/dev/ttyS0"}}).find("stream"), std::string::npos);
    EXPECT_NE(why({{"rate", 12.5}}).find("rate"), std::string::npos);
    EXPECT_NE(why({{"channels", 3}}).find("channels"), std::string::npos);
    EXPECT_NE(why({{"bits", 24}}).find("bits"), std::string::npos);
}

}  // namespace
}  // namespace cruscotto::sound_test
