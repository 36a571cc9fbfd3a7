#pragma once

#include <optional>
#include <string>
#include <vector>

namespace cruscotto {

/// What a rule looks at. Those that are momentary hold for an instant only.
enum class ConditionKind {
    above,       ///< the reading is above `level`, until it is `hysteresis` below it
    below,       ///< and the other way
    inside,      ///< from `level` to `upper`, until it is `hysteresis` outside
    outside,     ///< and the other way
    rises,       ///< momentary: through `level`, having been `hysteresis` below it
    falls,       ///< momentary, the other way
    faster,      ///< changes by more than `level` a second, over the last `overSeconds`, either way
    on,          ///< of a state
    off,         ///< of a state
    changes,     ///< momentary: by more than `hysteresis`, or a state to the other one
    becomes,     ///< momentary: to `level` (within `hysteresis`), or to that state, having been another
    stale,       ///< nothing came for more than `level` seconds
    bad,         ///< the reading is of a quality worse than suspect
    suspect,     ///< of the quality suspect, or worse
    timeOfDay,   ///< momentary: `level` seconds after midnight, by the clock on the wall
    every,       ///< momentary: every `level` seconds
    mark,        ///< momentary: one is set whose words contain `of`, or any
    deviceAway,  ///< the device `of` cannot be reached
    rule,        ///< the rule `of` holds
    all,
    any,
    no,  ///< of `parts`; `no` has one
};
/// Frozen, in files: "above", "time-of-day" ...
const char* conditionName(ConditionKind kind);
std::optional<ConditionKind> conditionNamed(const std::string& name);
bool isMomentary(ConditionKind kind);
/// It looks at the readings of a signal.
bool isOfSignal(ConditionKind kind);
/// It can look at a measure of the readings instead of them.
bool canMeasure(ConditionKind kind);

/// Whether something holds. A condition of a reading that is not known (none yet, a gap, an open sensor) does neither
/// hold nor not: its opposite does not hold either, so that a dead input keeps nothing on.
struct Condition {
    ConditionKind kind = ConditionKind::above;
    std::string of = {};          ///< the id of a signal, device or rule; words of a mark
    double level = 0, upper = 0;  ///< in `unit`, or as its kind says
    double hysteresis = 0;        ///< in `unit`, 0 or more
    std::string unit = {};        ///< UCUM, of these; empty: the signal's own, whatever that is
    double overSeconds = 1;       ///< see `faster` and `measure`
    /// Of above to falls: it looks at this measure of the signal's last `overSeconds` (its name, frozen), worked out
    /// ten times in them, but not more often than twenty times a second; the levels are then in the measure's unit.
    /// Empty: at the readings themselves.
    std::string measure = {};
    double forSeconds = 0;  ///< it must have held for so long
    std::vector<Condition> parts = {};
    bool operator==(const Condition&) const = default;
};

enum class ActionKind {
    set,      ///< the output `on` to `value`
    step,     ///< by `value` from where it is
    toggle,   ///< to the other of its two states
    ramp,     ///< to `value` within `seconds`
    release,  ///< no rule wants anything of it any more
    hold,  ///< an interlock: to `value`, whatever anybody else wants, while the rule holds; `latched`: until a person
           ///< resets it
    command,  ///< the setting `key` of the device `on` to `words`
    alarm,    ///< of `priority`, with `words`, while the rule holds
    mark,     ///< with `words`, in which {signal} is its reading
    record,   ///< begins a recording
    endRecording,
    keep,   ///< the last `seconds` as a run
    page,   ///< shows the page `on`
    tone,   ///< of `value` hertz for `seconds`
    reset,  ///< sets the total, position or integral of the signal `on` to zero
};
const char* actionName(ActionKind kind);
std::optional<ActionKind> actionNamed(const std::string& name);
/// It decides what an output is.
bool isOfOutput(ActionKind kind);

struct Action {
    ActionKind kind = ActionKind::mark;
    std::string on = {};
    double value = 0, seconds = 0;
    std::string key = {}, words = {};
    int priority = 2;  ///< 1 is the most urgent, 3 the least
    bool latched = false;
    bool operator==(const Action&) const = default;
};

/// When it holds, `then` is done once; when it no longer does, `otherwise` is, and what it had set goes back. With
/// `until` it holds on until that does. A rule of something momentary without `until` is over at once, and what it has
/// set stays.
struct RuleSpec {
    std::string id, name;
    bool enabled = true;
    Condition when;
    std::vector<Action> then, otherwise = {};
    std::optional<Condition> until = {};
    std::optional<Condition> suppress = {};  ///< while it holds, alarms of the rule are suppressed by design
    std::string extra = {};                  ///< JSON: keys that this version does not know
    bool operator==(const RuleSpec&) const = default;
};

inline constexpr std::size_t mostRules = 2000, mostConditions = 50, mostActions = 50, deepestCondition = 8;

}  // namespace cruscotto
