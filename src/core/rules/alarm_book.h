#pragma once

#include <map>
#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "core/base/time.h"

namespace cruscotto {

/// The states of an alarm (IEC 62682:2014, 5.3; ISA-18.2).
enum class AlarmState { unacknowledged, acknowledged, returnedUnacknowledged, shelved, suppressed };
const char* alarmStateWord(AlarmState state);

struct Alarm {
    std::string rule;  ///< the id of the rule that raises it
    int priority = 2;  ///< 1 is the most urgent
    std::string words;
    AlarmState state = AlarmState::unacknowledged;
    Instant raised;
    std::optional<Instant> returned;  ///< what raised it is over
    std::string person, comment;      ///< of who acknowledged it
    std::optional<Instant> shelvedUntil;
    std::size_t times = 1;                  ///< that it was raised since it was acknowledged last
    bool first = false;                     ///< of several that came together: the one that came first
    std::vector<std::string> signals = {};  ///< the ids of those that it is about
    bool operator==(const Alarm&) const = default;
};

/// Something that became of an alarm, for the journal.
struct AlarmEvent {
    enum class What { raised, returned, acknowledged, shelved, unshelved, suppressed, unsuppressed };
    Instant at;
    What what = What::raised;
    std::string rule, words;
    int priority = 2;
    std::string person, comment;
    bool operator==(const AlarmEvent&) const = default;
};
/// "raised" ...; frozen.
const char* alarmEventName(AlarmEvent::What what);

/// What a run says of it: "acknowledged: The guard door is open, priority 1, by somebody: looked at".
std::string alarmEventText(const AlarmEvent& event);
/// And back, but for its time and rule; nothing: these are no such words.
std::optional<AlarmEvent> alarmEventFrom(const std::string& text);

/// All alarms that stand, and what people did about them. Confined to one thread.
class AlarmBook {
public:
    /// Again, where it stands already: its words are the new ones, and it is unacknowledged again if it had returned.
    void raise(const std::string& rule, int priority, const std::string& words, Instant at,
               const std::vector<std::string>& signals = {});
    /// What raised it is over: it stays until it is acknowledged, unless it has been.
    void clear(const std::string& rule, Instant at);
    /// False where there is none that waits for it.
    bool acknowledge(const std::string& rule, const std::string& person, const std::string& comment, Instant at);
    /// Not shown among the urgent ones until then; what is there comes back by itself. At once, where `until` is past.
    void shelve(const std::string& rule, Instant until, const std::string& person, const std::string& comment,
                Instant at);
    /// By design: a condition of its rule holds. What is raised meanwhile stands, and is not among the urgent ones.
    void suppress(const std::string& rule, bool suppressed, Instant at);
    /// What became of them since it was asked last, in order.
    std::vector<AlarmEvent> takeEvents() { return std::exchange(events_, {}); }
    /// In the order of urgency: unacknowledged first, then by priority, then the newest first; shelved last.
    [[nodiscard]] std::vector<Alarm> list(Instant now) const;

private:
    void note(const Alarm& alarm, AlarmEvent::What what, Instant at);
    std::map<std::string, Alarm> alarms_;
    std::set<std::string> suppressed_;
    std::vector<AlarmEvent> events_;
};

}  // namespace cruscotto
