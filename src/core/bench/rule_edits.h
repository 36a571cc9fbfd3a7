#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/analysis/measures.h"
#include "core/bench/bench.h"
#include "core/rules/rule.h"

namespace cruscotto {

/// The rule with its levels in the units that its signals read in, for whoever evaluates it.
RuleSpec ruleAsRead(const Bench& bench, RuleSpec rule);

/// The alarms that signals' limits are, as rules: "high limit of flow" ...
std::vector<RuleSpec> alarmRules(const Bench& bench);
/// Measures of one signal's numbers: a condition can look at them.
bool ruleCanMeasure(const MeasureKind& kind);
/// UCUM, of the levels of a condition that says none: of the signal's readings, or of their measure.
std::string unitOfCondition(const SignalSpec& signal, const Condition& condition);
/// The signal with its first total, position or integral set to zero; nothing: it has none.
std::optional<SignalSpec> withTotalReset(SignalSpec signal);
Condition conditionAsRead(const Bench& bench, Condition condition);
/// It looks at this signal, device or rule.
bool looksAt(const Condition& condition, const std::string& id);

/// Pairs of enabled rules that can want different things of one output at a time: the earlier one prevails. A sentence
/// each.
std::vector<Text> fightingRules(const Bench& bench);

Bench withRule(Bench bench, RuleSpec rule);  ///< replaces the one of that id, or adds it
/// The rule so many places further down, or up; an unknown one: the bench as it is.
Bench withRuleMoved(Bench bench, const std::string& id, int by);
Bench withoutRule(Bench bench, const std::string& id);
/// Those that look at or act on this signal, device, page or rule go, and those that look at them.
Bench withoutRulesOf(Bench bench, const std::string& id);

}  // namespace cruscotto
