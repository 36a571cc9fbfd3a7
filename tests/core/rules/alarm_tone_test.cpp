#include "core/rules/alarm_tone.h"

#include <gtest/gtest.h>

#include <algorithm>

namespace cruscotto {
namespace {

Alarm alarm(const char* rule, int priority, std::int64_t raised = 0) {
    Alarm a;
    a.rule = rule;
    a.priority = priority;
    a.raised = {raised};
    return a;
}
Instant after(double s) {
    return Instant{} + seconds(s);
}

TEST(AlarmTone, TheMostUrgentIsHeardAgainAndAgain) {
    AlarmTone tone;
    EXPECT_TRUE(tone.due({}, after(0)).empty());
    EXPECT_FALSE(tone.sounds());
    EXPECT_EQ(tone.due({alarm("a", 3)}, after(1)), alarmTones(3));
    EXPECT_TRUE(tone.sounds());
    EXPECT_TRUE(tone.due({alarm("a", 3)}, after(20.9)).empty());
    EXPECT_EQ(tone.due({alarm("a", 3)}, after(21)), alarmTones(3));
    EXPECT_EQ(tone.due({alarm("a", 3), alarm("b", 1)}, after(21.1)), alarmTones(1)) << "at once";
    EXPECT_TRUE(tone.due({alarm("a", 3), alarm("b", 1)}, after(23.5)).empty());
    EXPECT_EQ(tone.due({alarm("a", 3), alarm("b", 1)}, after(23.6)), alarmTones(1));
    EXPECT_LT(alarmTones(3).size(), alarmTones(2).size());
    EXPECT_LT(alarmTones(2).size(), alarmTones(1).size());
}

TEST(AlarmTone, SilencedIsNotAcknowledgedAndAnotherOneIsHeard) {
    AlarmTone tone;
    EXPECT_FALSE(tone.due({alarm("a", 2)}, after(0)).empty());
    tone.silence();
    EXPECT_FALSE(tone.sounds());
    EXPECT_TRUE(tone.due({alarm("a", 2)}, after(100)).empty());
    EXPECT_FALSE(tone.due({alarm("a", 2), alarm("b", 3)}, after(101)).empty()) << "another one";
    tone.silence();
    EXPECT_TRUE(tone.due({alarm("a", 2), alarm("b", 3)}, after(200)).empty());
    EXPECT_FALSE(tone.due({alarm("a", 2, 150), alarm("b", 3)}, after(201)).empty()) << "the same, raised again";
}

TEST(AlarmTone, WhatSomebodyHasDealtWithIsNotHeard) {
    AlarmTone tone;
    for (const AlarmState state :
         {AlarmState::acknowledged, AlarmState::returnedUnacknowledged, AlarmState::shelved, AlarmState::suppressed}) {
        Alarm a = alarm("a", 1);
        a.state = state;
        EXPECT_TRUE(tone.due({a}, after(1)).empty());
    }
}

TEST(AlarmTone, ItsSamplesAreOfItsPitchAndDoNotClick) {
    const auto samples = toneSamples({{880, 0.5}, {0, 0.25}}, 48000);
    ASSERT_EQ(samples.size(), 36000U);
    int rises = 0;
    for (std::size_t i = 1; i < 24000; ++i) rises += samples[i - 1] < 0 && samples[i] >= 0;
    EXPECT_NEAR(rises, 440, 1);
    EXPECT_TRUE(std::ranges::all_of(samples.begin() + 24000, samples.end(), [](auto v) { return v == 0; }));
    int step = 0;
    for (std::size_t i = 1; i < samples.size(); ++i) step = std::max(step, std::abs(samples[i] - samples[i - 1]));
    EXPECT_LT(step, 1200) << "no more than the sine's own";
    EXPECT_EQ(samples[0], 0);
}

}  // namespace
}  // namespace cruscotto
