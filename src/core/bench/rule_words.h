#pragma once

#include <string>
#include <vector>

#include "core/bench/bench.h"
#include "core/rules/rule.h"

namespace cruscotto {

/// "When outlet pressure is above 4.5 bar for 0.5 s, set drive speed to 0 V until outlet pressure is below 4.2 bar."
std::string ruleSentence(const Bench& bench, const RuleSpec& rule);
/// The same in parts; those that can be changed have their place: "/when/parts/0/level", "/then/0/on", "/suppress/of".
struct SentencePart {
    std::string words, place;
};
std::vector<SentencePart> ruleParts(const Bench& bench, const RuleSpec& rule);
/// The condition or the action that a place lies in, and the field of it; null where there is none.
struct RulePlace {
    Condition* condition = nullptr;
    Action* action = nullptr;
    std::string field;
};
RulePlace placeIn(RuleSpec& rule, const std::string& place);
std::string conditionWords(const Bench& bench, const Condition& condition);
std::string actionWords(const Bench& bench, const Action& action);

}  // namespace cruscotto
