#pragma once

#include <memory>
#include <vector>

#include "core/base/progress.h"
#include "core/history/source.h"
#include "core/rules/rule_evaluator.h"

namespace cruscotto {

/// What happened when, besides readings.
struct RehearsedMark {
    Instant at;
    std::string words;
};

/// What the rules would have done over a stretch of a source, in order; no output is touched. Where single readings are
/// no longer held, the extremes of summaries stand for them. Cancelled: as far as it came.
std::vector<RuleFiring> rehearse(const std::vector<std::shared_ptr<const RuleSpec>>& rules, const Source& source,
                                 Span span, const std::vector<RehearsedMark>& marks = {}, Progress* progress = nullptr);

/// The signals that a condition looks at.
void signalsOf(const Condition& condition, std::vector<std::string>& out);
std::vector<std::string> signalsOf(const RuleSpec& rule);

}  // namespace cruscotto
