#pragma once

#include <QMenu>
#include <QString>
#include <functional>

#include "core/bench/bench.h"

namespace cruscotto {

/// What can be chosen at a place of a rule's sentence: a menu of words, or a field to type a number or words into.
/// `take` is given the rule as it would be. Nothing where there is no such place.
void fillRuleMenu(QMenu& menu, const Bench& bench, const RuleSpec& rule, const std::string& place,
                  const std::function<void(RuleSpec)>& take);

/// A condition or an action with what is most probably meant: of the signal, or of the first that suits.
Condition firstCondition(const Bench& bench, const std::string& signal);
Action firstAction(const Bench& bench, ActionKind kind);
/// A rule to begin with: "When flow is above ..., mark ...".
RuleSpec newRule(const Bench& bench, const std::string& signal);

}  // namespace cruscotto
