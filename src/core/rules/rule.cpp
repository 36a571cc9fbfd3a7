#include "core/rules/rule.h"

#include <array>
#include <utility>

namespace cruscotto {

namespace {

constexpr std::array conditionNames{std::pair{ConditionKind::above, "above"},
                                    std::pair{ConditionKind::below, "below"},
                                    std::pair{ConditionKind::inside, "inside"},
                                    std::pair{ConditionKind::outside, "outside"},
                                    std::pair{ConditionKind::rises, "rises"},
                                    std::pair{ConditionKind::falls, "falls"},
                                    std::pair{ConditionKind::faster, "faster"},
                                    std::pair{ConditionKind::on, "on"},
                                    std::pair{ConditionKind::off, "off"},
                                    std::pair{ConditionKind::changes, "changes"},
                                    std::pair{ConditionKind::becomes, "changes-to"},
                                    std::pair{ConditionKind::stale, "stale"},
                                    std::pair{ConditionKind::bad, "bad"},
                                    std::pair{ConditionKind::suspect, "suspect"},
                                    std::pair{ConditionKind::timeOfDay, "time-of-day"},
                                    std::pair{ConditionKind::every, "every"},
                                    std::pair{ConditionKind::mark, "mark"},
                                    std::pair{ConditionKind::deviceAway, "device-away"},
                                    std::pair{ConditionKind::rule, "rule"},
                                    std::pair{ConditionKind::all, "all"},
                                    std::pair{ConditionKind::any, "any"},
                                    std::pair{ConditionKind::no, "not"}};

constexpr std::array actionNames{std::pair{ActionKind::set, "set"},
                                 std::pair{ActionKind::step, "step"},
                                 std::pair{ActionKind::toggle, "toggle"},
                                 std::pair{ActionKind::ramp, "ramp"},
                                 std::pair{ActionKind::release, "release"},
                                 std::pair{ActionKind::hold, "hold"},
                                 std::pair{ActionKind::command, "command"},
                                 std::pair{ActionKind::alarm, "alarm"},
                                 std::pair{ActionKind::mark, "mark"},
                                 std::pair{ActionKind::record, "record"},
                                 std::pair{ActionKind::endRecording, "end-recording"},
                                 std::pair{ActionKind::keep, "keep"},
                                 std::pair{ActionKind::page, "page"},
                                 std::pair{ActionKind::tone, "tone"},
                                 std::pair{ActionKind::reset, "reset"}};

template <class Names, class Kind>
const char* nameIn(const Names& names, Kind kind) {
    for (const auto& [known, name] : names)
        if (known == kind) return name;
    return "";
}
template <class Kind, class Names>
std::optional<Kind> kindIn(const Names& names, const std::string& wanted) {
    for (const auto& [known, name] : names)
        if (wanted == name) return known;
    return std::nullopt;
}

}  // namespace

const char* conditionName(ConditionKind kind) {
    return nameIn(conditionNames, kind);
}
std::optional<ConditionKind> conditionNamed(const std::string& name) {
    return kindIn<ConditionKind>(conditionNames, name);
}
const char* actionName(ActionKind kind) {
    return nameIn(actionNames, kind);
}
std::optional<ActionKind> actionNamed(const std::string& name) {
    return kindIn<ActionKind>(actionNames, name);
}

bool isMomentary(ConditionKind kind) {
    using enum ConditionKind;
    return kind == rises || kind == falls || kind == changes || kind == becomes || kind == timeOfDay || kind == every ||
           kind == mark;
}
bool isOfSignal(ConditionKind kind) {
    return kind <= ConditionKind::suspect;
}
bool canMeasure(ConditionKind kind) {
    return kind <= ConditionKind::falls;
}
bool isOfOutput(ActionKind kind) {
    return kind <= ActionKind::hold;
}

}  // namespace cruscotto
