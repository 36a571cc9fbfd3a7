#pragma once

#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "core/bench/bench.h"
#include "core/rules/rule.h"

/// Rules as they stand in a bench: read, written, checked, and said as sentences.
namespace cruscotto {

RuleSpec readRule(const nlohmann::ordered_json& json, const std::string& where, std::vector<Problem>& problems);
nlohmann::ordered_json ruleJson(const RuleSpec& rule);
/// One rule from and to its text, as it stands in the file.
Result<RuleSpec> ruleFromText(const Bench& bench, const std::string& text);
std::string ruleToText(const RuleSpec& rule);

/// The rule with its levels in the units that its signals read in, for whoever evaluates it.
RuleSpec ruleAsRead(const Bench& bench, RuleSpec rule);

/// What a rule names is there and suits it: signals that read numbers or states, outputs and what they may be, other
/// rules without a circle.
void checkRules(const Bench& bench, std::vector<Problem>& problems);

/// "When outlet pressure is above 4.5 bar for 0.5 s, set drive speed to 0 V until outlet pressure is below 4.2 bar."
std::string ruleSentence(const Bench& bench, const RuleSpec& rule);
/// The same in parts; those that can be changed have their place: "/when/parts/0/level", "/then/0/on".
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

/// Pairs of enabled rules that can want different things of one output at a time: the earlier one prevails. A sentence
/// each.
std::vector<Text> fightingRules(const Bench& bench);

Bench withRule(Bench bench, RuleSpec rule);  ///< replaces the one of that id, or adds it
Bench withoutRule(Bench bench, const std::string& id);
/// Those that look at or act on this signal, device, page or rule go, and those that look at them.
Bench withoutRulesOf(Bench bench, const std::string& id);

}  // namespace cruscotto
