#include "core/bench/rule_edits.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

std::vector<Text> fightingRules(const Bench& bench) {
    std::vector<Text> out;
    const auto wants = [](const RuleSpec& rule) {
        std::map<std::string, double> all;
        for (const Action& a : rule.then)
            if (isOfOutput(a.kind) && a.kind != ActionKind::release && a.kind != ActionKind::hold) all[a.on] = a.value;
        return all;
    };
    for (std::size_t i = 0; i < bench.rules.size(); ++i)
        for (std::size_t k = i + 1; k < bench.rules.size(); ++k) {
            const RuleSpec &a = *bench.rules[i], &b = *bench.rules[k];
            if (!a.enabled || !b.enabled) continue;
            const auto of = wants(a), others = wants(b);
            for (const auto& [output, value] : of)
                if (const auto it = others.find(output); it != others.end() && it->second != value)
                    out.push_back(text(CRUSCOTTO_TEXT("\"{0}\" and \"{1}\" both decide about {2}: where both hold, the "
                                                      "first of them prevails."),
                                       a.name, b.name, bench.signal(output) ? bench.signal(output)->name : output));
        }
    return out;
}

namespace {
void convertLevels(const Bench& bench, Condition& c) {
    for (Condition& part : c.parts) convertLevels(bench, part);
    const SignalSpec* s = isOfSignal(c.kind) ? bench.signal(c.of) : nullptr;
    if (!s || c.unit.empty()) return;
    const std::string unit = unitOfCondition(*s, c);
    const auto in = convertUnit(c.unit, unit);
    if (c.unit == unit || !in) return;
    const double offset = c.kind == ConditionKind::faster ? 0 : in->offset;
    c.level = c.level * in->factor + offset;
    c.upper = c.upper * in->factor + offset;
    c.hysteresis *= std::fabs(in->factor);
    c.unit = unit;
}
}  // namespace

bool ruleCanMeasure(const MeasureKind& kind) {
    return kind.group != MeasureGroup::ofTwo && kind.group != MeasureGroup::onAndOff;
}

std::string unitOfCondition(const SignalSpec& signal, const Condition& c) {
    return c.measure.empty() || !canMeasure(c.kind) ? signal.unit() : measureUnit(c.measure, signal.unit());
}

std::optional<SignalSpec> withTotalReset(SignalSpec signal) {
    for (Stage& stage : signal.chain)
        for (const StageField& field : stage.kind().fields)
            if (field.type == StageField::Type::resets && !stage.isOff() && matters(stage, field)) {
                stage = stage.with(field.key, stage.number(field.key) + 1);
                return signal;
            }
    return std::nullopt;
}

bool looksAt(const Condition& c, const std::string& id) {
    if (c.kind != ConditionKind::mark && c.of == id) return true;
    return std::ranges::any_of(c.parts, [&](const Condition& part) { return looksAt(part, id); });
}

Condition conditionAsRead(const Bench& bench, Condition condition) {
    convertLevels(bench, condition);
    return condition;
}

namespace {
bool names(const RuleSpec& rule, const std::string& id) {
    const auto acts = [&](const std::vector<Action>& all) {
        return std::ranges::any_of(all, [&](const Action& a) { return a.on == id; });
    };
    return looksAt(rule.when, id) || (rule.until && looksAt(*rule.until, id)) ||
           (rule.suppress && looksAt(*rule.suppress, id)) || acts(rule.then) || acts(rule.otherwise);
}
}  // namespace

RuleSpec ruleAsRead(const Bench& bench, RuleSpec rule) {
    convertLevels(bench, rule.when);
    if (rule.until) convertLevels(bench, *rule.until);
    if (rule.suppress) convertLevels(bench, *rule.suppress);
    return rule;
}

Bench withoutRulesOf(Bench bench, const std::string& id) {
    std::vector<std::string> gone{id};
    while (!gone.empty()) {
        const std::string of = gone.back();
        gone.pop_back();
        std::erase_if(bench.rules, [&](const auto& rule) {
            if (!names(*rule, of)) return false;
            gone.push_back(rule->id);
            return true;
        });
        for (auto& s : bench.signals)
            if (s->alarm && s->alarm->suppress && looksAt(*s->alarm->suppress, of)) {
                SignalSpec heard = *s;
                heard.alarm->suppress.reset();
                s = std::make_shared<const SignalSpec>(std::move(heard));
            }
    }
    return bench;
}

std::vector<RuleSpec> alarmRules(const Bench& bench) {
    std::vector<RuleSpec> out;
    for (const auto& s : bench.signals) {
        if (!s->alarm) continue;
        const LimitAlarm& a = *s->alarm;
        const auto add = [&](const char* which, ConditionKind beyond, ConditionKind back, double limit, double clear) {
            RuleSpec rule;
            rule.id = std::string(which) + " limit of " + s->id;
            rule.name = s->name;
            rule.when = {.kind = beyond, .of = s->id, .level = limit, .forSeconds = a.onDelay};
            rule.until = Condition{.kind = back, .of = s->id, .level = clear, .forSeconds = a.offDelay};
            const std::string unit = unitText(s->unit());
            Action alarm;
            alarm.kind = ActionKind::alarm;
            alarm.words = s->name + " is {" + s->id + "}, " + (beyond == ConditionKind::above ? "above " : "below ") +
                          shortNumber(limit) + (unit.empty() || unit == "1" ? "" : " " + unit);
            alarm.priority = a.priority;
            rule.then = {alarm};
            if (a.suppress) rule.suppress = conditionAsRead(bench, *a.suppress);
            out.push_back(std::move(rule));
        };
        // A reading that equals a limit is within it; to go back it takes the deadband.
        const auto inside = [&](double v, int way) { return a.deadband > 0 ? v + way * a.deadband : v; };
        const double least = 1e-12;
        if (s->limits.high)
            add("high", ConditionKind::above, ConditionKind::below, *s->limits.high,
                a.deadband > 0 ? inside(*s->limits.high, -1)
                               : std::nextafter(*s->limits.high, *s->limits.high + std::fabs(*s->limits.high) + least));
        if (s->limits.low)
            add("low", ConditionKind::below, ConditionKind::above, *s->limits.low,
                a.deadband > 0 ? inside(*s->limits.low, 1)
                               : std::nextafter(*s->limits.low, *s->limits.low - std::fabs(*s->limits.low) - least));
    }
    return out;
}

Bench withRule(Bench bench, RuleSpec rule) {
    const auto it = std::ranges::find_if(bench.rules, [&](const auto& r) { return r->id == rule.id; });
    auto made = std::make_shared<const RuleSpec>(std::move(rule));
    if (it == bench.rules.end())
        bench.rules.push_back(std::move(made));
    else
        *it = std::move(made);
    return bench;
}

Bench withRuleMoved(Bench bench, const std::string& id, int by) {
    const auto it = std::ranges::find_if(bench.rules, [&](const auto& r) { return r->id == id; });
    if (it == bench.rules.end()) return bench;
    const auto rule = *it;
    const auto last = static_cast<std::ptrdiff_t>(bench.rules.size()) - 1;
    const std::ptrdiff_t to = std::clamp<std::ptrdiff_t>(it - bench.rules.begin() + by, 0, last);
    bench.rules.erase(it);
    bench.rules.insert(bench.rules.begin() + to, rule);
    return bench;
}

Bench withoutRule(Bench bench, const std::string& id) {
    std::erase_if(bench.rules, [&](const auto& r) { return r->id == id; });
    return withoutRulesOf(std::move(bench), id);
}

}  // namespace cruscotto
