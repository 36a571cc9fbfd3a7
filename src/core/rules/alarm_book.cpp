#include "core/rules/alarm_book.h"

#include <algorithm>
#include <array>
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
        case AlarmState::suppressed:
            return "suppressed";
        case AlarmState::shelved:
            break;
    }
    return "shelved";
}

const char* alarmEventName(AlarmEvent::What what) {
    constexpr std::array names{"raised",    "returned",   "acknowledged", "shelved",
                               "unshelved", "suppressed", "unsuppressed"};
    return names.at(static_cast<std::size_t>(what));
}

std::string alarmEventText(const AlarmEvent& e) {
    std::string words =
        std::string(alarmEventName(e.what)) + ": " + e.words + ", priority " + std::to_string(e.priority);
    const bool byHand = e.what == AlarmEvent::What::acknowledged || e.what == AlarmEvent::What::shelved ||
                        e.what == AlarmEvent::What::unshelved;
    if (byHand)
        words += ", by " + (e.person.empty() ? "somebody" : e.person) + (e.comment.empty() ? "" : ": " + e.comment);
    return words;
}

std::optional<AlarmEvent> alarmEventFrom(const std::string& text) {
    const std::string priority = ", priority ", by = ", by ";
    const std::size_t colon = text.find(": "), at = text.rfind(priority);
    if (colon == std::string::npos || at == std::string::npos || at < colon + 2) return std::nullopt;
    AlarmEvent out;
    const std::string name = text.substr(0, colon);
    int what = 0;
    while (what <= static_cast<int>(AlarmEvent::What::unsuppressed) &&
           alarmEventName(static_cast<AlarmEvent::What>(what)) != name)
        ++what;
    if (what > static_cast<int>(AlarmEvent::What::unsuppressed)) return std::nullopt;
    out.what = static_cast<AlarmEvent::What>(what);
    out.words = text.substr(colon + 2, at - colon - 2);
    const std::size_t digit = at + priority.size();
    if (digit >= text.size() || text[digit] < '1' || text[digit] > '3') return std::nullopt;
    out.priority = text[digit] - '0';
    if (text.compare(digit + 1, by.size(), by) == 0) {
        const std::size_t from = digit + 1 + by.size(), end = std::min(text.find(": ", from), text.size());
        out.person = text.substr(from, end - from);
        if (end < text.size()) out.comment = text.substr(end + 2);
    }
    return out;
}

void AlarmBook::note(const Alarm& a, AlarmEvent::What what, Instant at) {
    events_.push_back({at, what, a.rule, a.words, a.priority, a.person, a.comment});
}

void AlarmBook::raise(const std::string& rule, int priority, const std::string& words, Instant at,
                      const std::vector<std::string>& signals) {
    const auto [it, fresh] = alarms_.try_emplace(rule);
    Alarm& a = it->second;
    if (!fresh && !a.returned) {
        a.words = words;
        return;
    }
    const std::size_t times = fresh || a.state == AlarmState::acknowledged ? 1 : a.times + 1;
    const auto shelved = fresh ? std::nullopt : a.shelvedUntil;
    a = {rule, priority, words, AlarmState::unacknowledged, at, {}, {}, {}, shelved, times, false, signals};
    note(a, AlarmEvent::What::raised, at);
}

void AlarmBook::clear(const std::string& rule, Instant at) {
    const auto it = alarms_.find(rule);
    if (it == alarms_.end() || it->second.returned) return;
    note(it->second, AlarmEvent::What::returned, at);
    if (it->second.state == AlarmState::acknowledged) {
        alarms_.erase(it);
        return;
    }
    it->second.returned = at;
    it->second.state = AlarmState::returnedUnacknowledged;
}

bool AlarmBook::acknowledge(const std::string& rule, const std::string& person, const std::string& comment,
                            Instant at) {
    const auto it = alarms_.find(rule);
    if (it == alarms_.end() || it->second.state == AlarmState::acknowledged) return false;
    it->second.person = person;
    it->second.comment = comment;
    note(it->second, AlarmEvent::What::acknowledged, at);
    if (it->second.returned)
        alarms_.erase(it);
    else
        it->second.state = AlarmState::acknowledged;
    return true;
}

void AlarmBook::shelve(const std::string& rule, Instant until, const std::string& person, const std::string& comment,
                       Instant at) {
    const auto it = alarms_.find(rule);
    if (it == alarms_.end()) return;
    it->second.shelvedUntil = until;
    note(it->second, until > at ? AlarmEvent::What::shelved : AlarmEvent::What::unshelved, at);
    events_.back().person = person;
    events_.back().comment = comment;
}

void AlarmBook::suppress(const std::string& rule, bool suppressed, Instant at) {
    if (suppressed ? !suppressed_.insert(rule).second : suppressed_.erase(rule) == 0) return;
    if (const auto it = alarms_.find(rule); it != alarms_.end())
        note(it->second, suppressed ? AlarmEvent::What::suppressed : AlarmEvent::What::unsuppressed, at);
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
        if (suppressed_.contains(rule)) a.state = AlarmState::suppressed;
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
