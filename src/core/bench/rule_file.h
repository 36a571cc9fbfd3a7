#pragma once

#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "core/bench/bench.h"
#include "core/rules/rule.h"

/// Rules as they stand in a bench: read, written and checked.
namespace cruscotto {

Condition readCondition(const nlohmann::ordered_json& json, const std::string& where, std::vector<Problem>& problems);
nlohmann::ordered_json conditionJson(const Condition& condition);
/// What it names is there and suits it.
void checkCondition(const Bench& bench, const Condition& condition, const std::string& where,
                    std::vector<Problem>& problems);

RuleSpec readRule(const nlohmann::ordered_json& json, const std::string& where, std::vector<Problem>& problems);
nlohmann::ordered_json ruleJson(const RuleSpec& rule);
/// One rule from and to its text, as it stands in the file.
Result<RuleSpec> ruleFromText(const Bench& bench, const std::string& text);
std::string ruleToText(const RuleSpec& rule);

/// What a rule names is there and suits it: signals that read numbers or states, outputs and what they may be, other
/// rules without a circle.
void checkRules(const Bench& bench, std::vector<Problem>& problems);

}  // namespace cruscotto
