#pragma once

#include <cstdint>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "core/rules/alarm_book.h"

namespace cruscotto {

/// A tone of so many hertz (0: a pause) for so many seconds.
struct Tone {
    double hertz = 0, seconds = 0;
    bool operator==(const Tone&) const = default;
};
using Tones = std::vector<Tone>;

/// One tone for a rule that asks for one.
inline const Tones ruleTone{{880, 0.6}};
/// Of an alarm of this priority: the more urgent, the more tones, the higher, and the sooner again.
Tones alarmTones(int priority);
Duration alarmTonesAgainAfter(int priority);

/// What is to be heard of the alarms that stand: the tones of the most urgent that is neither acknowledged nor shelved,
/// again and again, until somebody silences them; another one is heard again. To silence is not to acknowledge.
/// Confined to one thread.
class AlarmTone {
public:
    /// What is due now; nothing: not yet, or there is none. `now`: any clock that does not step.
    Tones due(const std::vector<Alarm>& alarms, Instant now);
    void silence();
    /// There is one that is heard.
    [[nodiscard]] bool sounds() const { return priority_ > 0; }

private:
    using Raised = std::pair<std::string, std::int64_t>;  // the rule and when
    std::set<Raised> waiting_, silenced_;
    int priority_ = 0;  // of what is heard; 0: nothing is
    Instant next_;
};

/// The tones as samples, each with a short rise and fall, so that it does not click.
std::vector<std::int16_t> toneSamples(const Tones& tones, unsigned rate);

}  // namespace cruscotto
