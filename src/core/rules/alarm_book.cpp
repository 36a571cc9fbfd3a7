#include "core/rules/alarm_book.h"

#include <algorithm>
#include <tuple>

namespace cruscotto {

namespace {
/// Alarms that come within this time of another one come together.
constexpr Duration together = milliseconds(1000);
}  // namespace

const char* alarmStateWord(AlarmState state) {
    switch (state) {
        case AlarmState::unacknowledged:
            return "unacknowledged";
        case AlarmState::acknowledged:
            return "acknowledged";
        case AlarmState::returnedUnacknowledged:
            return "returned, unacknowledged";
        case AlarmState::shelved:
            break;
    }
    return "shelved";
}

void AlarmBook::raise(const std::string& rule, int priority, const std::string& words, Instant at) {
    const auto [it, fresh] = alarms_.try_emplace(rule);
    Alarm& a = it->second;
    if (!fresh && !a.returned) {
        a.words = words;
        return;
    }
    const std::size_t times = fresh || a.state == AlarmState::acknowledged ? 1 : a.times + 1;
    const auto shelved = fresh ? std::nullopt : a.shelvedUntil;
    a = {rule, priority, words, AlarmState::unacknowledged, at, {}, {}, {}, shelved, times, false};
}

void AlarmBook::clear(const std::string& rule, Instant at) {
    const auto it = alarms_.find(rule);
    if (it == alarms_.end() || it->second.returned) return;
    if (it->second.state == AlarmState::acknowledged) {
        alarms_.erase(it);
        return;
    }
    it->second.returned = at;
    it->second.state = AlarmState::returnedUnacknowledged;
}

bool AlarmBook::acknowledge(const std::string& rule, const std::string& person, const std::string& comment, Instant) {
    const auto it = alarms_.find(rule);
    if (it == alarms_.end() || it->second.state == AlarmState::acknowledged) return false;
    if (it->second.returned) {
        alarms_.erase(it);
        return true;
    }
    it->second.state = AlarmState::acknowledged;
    it->second.person = person;
    it->second.comment = comment;
    return true;
}

void AlarmBook::shelve(const std::string& rule, Instant until) {
    if (const auto it = alarms_.find(rule); it != alarms_.end()) it->second.shelvedUntil = until;
}

std::vector<Alarm> AlarmBook::list(Instant now) const {
    std::vector<Alarm> out;
    for (const auto& entry : alarms_) {
        const std::string& rule = entry.first;
        const Alarm& alarm = entry.second;
        out.push_back(alarm);
        Alarm& a = out.back();
        if (a.shelvedUntil && now < *a.shelvedUntil)
            a.state = AlarmState::shelved;
        else
            a.shelvedUntil.reset();
        const bool others = std::ranges::any_of(alarms_, [&](const auto& other) {
            return other.first != rule && other.second.raised - alarm.raised <= together &&
                   alarm.raised - other.second.raised <= together;
        });
        a.first = others && std::ranges::none_of(alarms_, [&](const auto& other) {
                      const Duration earlier = alarm.raised - other.second.raised;
                      return other.first != rule && earlier.ns > 0 && earlier <= together;
                  });
    }
    const auto urgency = [](const Alarm& a) {
        const int waits = a.state == AlarmState::unacknowledged           ? 0
                          : a.state == AlarmState::returnedUnacknowledged ? 1
                          : a.state == AlarmState::acknowledged           ? 2
                                                                          : 3;
        return std::tuple(waits, a.priority, -a.raised.ns);
    };
    std::ranges::stable_sort(out, {}, urgency);
    return out;
}

}  // namespace cruscotto
