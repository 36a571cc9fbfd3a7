#include "core/rules/alarm_tone.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace cruscotto {

namespace {
constexpr int leastUrgent = 3;
}

Tones alarmTones(int priority) {
    const int p = std::clamp(priority, 1, leastUrgent);
    constexpr double hertz[] = {988, 784, 587};
    constexpr double lasts = 0.15, pause = 0.1;
    Tones out;
    for (int i = p; i <= leastUrgent; ++i) {
        out.push_back({hertz[p - 1], lasts});
        out.push_back({0, pause});
    }
    return out;
}

Duration alarmTonesAgainAfter(int priority) {
    constexpr Duration after[] = {milliseconds(2500), milliseconds(6000), milliseconds(20'000)};
    return after[std::clamp(priority, 1, leastUrgent) - 1];
}

Tones AlarmTone::due(const std::vector<Alarm>& alarms, Instant now) {
    waiting_.clear();
    int priority = 0;
    for (const Alarm& a : alarms) {
        if (a.state != AlarmState::unacknowledged) continue;
        const Raised raised{a.rule, a.raised.ns};
        waiting_.insert(raised);
        if (!silenced_.contains(raised) && (priority == 0 || a.priority < priority)) priority = a.priority;
    }
    std::erase_if(silenced_, [&](const Raised& r) { return !waiting_.contains(r); });
    const bool sooner = priority > 0 && (priority_ == 0 || priority < priority_);
    priority_ = priority;
    if (priority == 0 || (!sooner && now < next_)) return {};
    next_ = now + alarmTonesAgainAfter(priority);
    return alarmTones(priority);
}

void AlarmTone::silence() {
    silenced_ = waiting_;
    priority_ = 0;
}

std::vector<std::int16_t> toneSamples(const Tones& tones, unsigned rate) {
    constexpr double loud = 9000, edge = 0.008;
    std::vector<std::int16_t> out;
    for (const Tone& tone : tones) {
        const auto n = static_cast<std::size_t>(std::lround(tone.seconds * rate));
        for (std::size_t i = 0; i < n; ++i) {
            const double t = static_cast<double>(i) / rate, left = static_cast<double>(n - i) / rate;
            const double ramp = std::min({1.0, t / edge, left / edge});
            out.push_back(static_cast<std::int16_t>(loud * ramp * std::sin(2 * std::numbers::pi * tone.hertz * t)));
        }
    }
    return out;
}

}  // namespace cruscotto
