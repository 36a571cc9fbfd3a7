#include "core/bench/rule_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <set>

#include "core/analysis/measures.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/json_fields.h"
#include "core/bench/rule_edits.h"

namespace cruscotto {

namespace {

using RuleJson = nlohmann::ordered_json;
constexpr double longestRuleTime = 1e7;

/// What a kind of condition has besides its kind.
struct ConditionNeeds {
    const char* of = nullptr;  ///< the key of what it looks at
    bool ofNeeded = true;
    bool level = false, upper = false, hysteresis = false, over = false;
    bool levelIsTime = false;
};
ConditionNeeds needsOf(ConditionKind kind) {
    using enum ConditionKind;
    switch (kind) {
        case above:
        case below:
        case rises:
        case falls:
        case becomes:
            return {.of = "signal", .level = true, .hysteresis = true};
        case inside:
        case outside:
            return {.of = "signal", .level = true, .upper = true, .hysteresis = true};
        case faster:
            return {.of = "signal", .level = true, .over = true};
        case changes:
            return {.of = "signal", .hysteresis = true};
        case stale:
            return {.of = "signal", .level = true, .levelIsTime = true};
        case on:
        case off:
        case bad:
        case suspect:
            return {.of = "signal"};
        case timeOfDay:
        case every:
            return {.level = true, .levelIsTime = true};
        case mark:
            return {.of = "words", .ofNeeded = false};
        case deviceAway:
            return {.of = "device"};
        case rule:
            return {.of = "rule"};
        default:
            return {};
    }
}
bool isGroup(ConditionKind kind) {
    return kind == ConditionKind::all || kind == ConditionKind::any || kind == ConditionKind::no;
}

Condition readPart(const RuleJson& json, const std::string& where, std::vector<Problem>& problems, int depth,
                   std::size_t& count) {
    JsonFields f(json, where, problems);
    Condition out;
    if (++count > mostConditions || depth > static_cast<int>(deepestCondition)) {
        f.complain("", text("A rule has {0} conditions at most, {1} deep.", mostConditions, deepestCondition));
        return out;
    }
    const std::string name = f.string("is", true);
    const auto kind = conditionNamed(name);
    if (!kind) {
        if (!name.empty()) f.complain("is", text("There is no condition \"{0}\".", name));
        return out;
    }
    out.kind = *kind;
    const ConditionNeeds needs = needsOf(*kind);
    if (needs.of) out.of = f.string(needs.of, needs.ofNeeded);
    const char* level = needs.levelIsTime ? (*kind == ConditionKind::timeOfDay ? "at-s" : "seconds") : "level";
    if (needs.level) out.level = f.neededNumber(level);
    if (needs.upper) out.upper = f.neededNumber("upper");
    if (needs.upper && !(out.level < out.upper)) f.complain("upper", text("This must be more than \"level\"."));
    if (needs.hysteresis) out.hysteresis = f.number("hysteresis", 0);
    if (needs.over) out.overSeconds = f.number("over-s", 1);
    if (canMeasure(*kind)) {
        out.measure = f.string("measure");
        if (!out.measure.empty()) out.overSeconds = f.number("over-s", 10);
        constexpr double longestMeasured = 3600;
        if (!out.measure.empty() && !(out.overSeconds <= longestMeasured))
            f.complain("over-s", text("A measure is of {0} s at most.", longestMeasured));
        if (!out.measure.empty() && !measureKind(out.measure))
            f.complain("measure", text("There is no measure \"{0}\".", out.measure));
    }
    if (isOfSignal(*kind) && !needs.levelIsTime && (needs.level || needs.hysteresis)) out.unit = f.string("unit");
    out.forSeconds = f.number("for-s", 0);
    for (const auto& [key, v, least] :
         {std::tuple{"hysteresis", out.hysteresis, 0.0}, std::tuple{"for-s", out.forSeconds, 0.0},
          std::tuple{"over-s", out.overSeconds, 1e-3}, std::tuple{level, needs.levelIsTime ? out.level : 1, 0.0}})
        if (!(v >= least && v <= longestRuleTime) && std::string(key) != "hysteresis")
            f.complain(key, text("A number from {0} to {1} is expected here.", shortNumber(least), longestRuleTime));
        else if (!(v >= least))
            f.complain(key, text("A number from 0 on is expected here."));
    if (*kind == ConditionKind::every && out.level < 1e-3)
        f.complain("seconds", text("A number from 0.001 on is expected here."));
    if (*kind == ConditionKind::timeOfDay && out.level >= 86'400)
        f.complain("at-s", text("A day has 86400 seconds: less than that is expected here."));
    if (isMomentary(*kind) && out.forSeconds > 0)
        f.complain("for-s", text("\"{0}\" is over at once: it cannot hold for a time.", name));
    if (!isGroup(*kind)) return out;
    f.list("parts", mostConditions, [&](const RuleJson& part, const std::string& at) {
        out.parts.push_back(readPart(part, at, problems, depth + 1, count));
    });
    if (out.parts.empty() || (*kind == ConditionKind::no && out.parts.size() != 1))
        f.complain("parts", *kind == ConditionKind::no ? text("\"not\" is of one condition.")
                                                       : text("At least one condition is expected here."));
    return out;
}

}  // namespace

Condition readCondition(const RuleJson& json, const std::string& where, std::vector<Problem>& problems) {
    std::size_t count = 0;
    return readPart(json, where, problems, 1, count);
}

RuleJson conditionJson(const Condition& c) {
    RuleJson j;
    j["is"] = conditionName(c.kind);
    const ConditionNeeds needs = needsOf(c.kind);
    if (needs.of && !(c.of.empty() && !needs.ofNeeded)) j[needs.of] = c.of;
    if (needs.level)
        j[needs.levelIsTime ? (c.kind == ConditionKind::timeOfDay ? "at-s" : "seconds") : "level"] = c.level;
    if (needs.upper) j["upper"] = c.upper;
    if (needs.hysteresis && c.hysteresis != 0) j["hysteresis"] = c.hysteresis;
    if (!c.measure.empty()) j["measure"] = c.measure;
    if (needs.over || !c.measure.empty()) j["over-s"] = c.overSeconds;
    if (!c.unit.empty()) j["unit"] = c.unit;
    if (c.forSeconds > 0) j["for-s"] = c.forSeconds;
    for (const Condition& part : c.parts) j["parts"].push_back(conditionJson(part));
    return j;
}

namespace {

/// The keys that a kind of action has.
struct ActionNeeds {
    const char* on = nullptr;
    const char* value = nullptr;
    const char* seconds = nullptr;
    bool words = false, wordsNeeded = false, key = false, priority = false, latched = false;
};
ActionNeeds needsOf(ActionKind kind) {
    switch (kind) {
        case ActionKind::set:
            return {.on = "output", .value = "value"};
        case ActionKind::step:
            return {.on = "output", .value = "by"};
        case ActionKind::toggle:
        case ActionKind::release:
            return {.on = "output"};
        case ActionKind::ramp:
            return {.on = "output", .value = "value", .seconds = "seconds"};
        case ActionKind::hold:
            return {.on = "output", .value = "value", .latched = true};
        case ActionKind::command:
            return {.on = "device", .words = true, .key = true};
        case ActionKind::alarm:
            return {.words = true, .wordsNeeded = true, .priority = true};
        case ActionKind::mark:
            return {.words = true, .wordsNeeded = true};
        case ActionKind::keep:
            return {.seconds = "seconds"};
        case ActionKind::page:
            return {.on = "page"};
        case ActionKind::reset:
            return {.on = "signal"};
        case ActionKind::tone:
            return {.value = "hertz", .seconds = "seconds"};
        default:
            return {};
    }
}

Action readAction(const RuleJson& json, const std::string& where, std::vector<Problem>& problems) {
    JsonFields f(json, where, problems);
    Action out;
    const std::string name = f.string("do", true);
    const auto kind = actionNamed(name);
    if (!kind) {
        if (!name.empty()) f.complain("do", text("There is no action \"{0}\".", name));
        return out;
    }
    out.kind = *kind;
    const ActionNeeds needs = needsOf(*kind);
    if (needs.on) out.on = f.string(needs.on, true);
    if (needs.value) out.value = f.neededNumber(needs.value);
    if (needs.seconds) out.seconds = f.neededNumber(needs.seconds);
    if (needs.seconds && !(out.seconds > 0 && out.seconds <= longestRuleTime))
        f.complain(needs.seconds, text("A number above 0, up to {0}, is expected here.", longestRuleTime));
    if (needs.key) out.key = f.string("key", true);
    if (needs.words) out.words = f.string("words", needs.wordsNeeded);
    if (needs.priority) out.priority = f.integer("priority", 2, 1, 3);
    if (needs.latched) out.latched = f.flag("latched");
    return out;
}

RuleJson actionJson(const Action& a) {
    RuleJson j;
    j["do"] = actionName(a.kind);
    const ActionNeeds needs = needsOf(a.kind);
    if (needs.on) j[needs.on] = a.on;
    if (needs.value) j[needs.value] = a.value;
    if (needs.seconds) j[needs.seconds] = a.seconds;
    if (needs.key) j["key"] = a.key;
    if (needs.words) j["words"] = a.words;
    if (needs.priority) j["priority"] = a.priority;
    if (needs.latched && a.latched) j["latched"] = true;
    return j;
}

}  // namespace

void checkCondition(const Bench& bench, const Condition& c, const std::string& where, std::vector<Problem>& problems) {
    const auto complain = [&](const char* key, Text words) {
        problems.push_back({where + "/" + key, 0, std::move(words)});
    };
    if (isOfSignal(c.kind)) {
        const SignalSpec* s = bench.signal(c.of);
        const bool state = s && s->isState();
        const bool wantsState = c.kind == ConditionKind::on || c.kind == ConditionKind::off;
        const bool either = c.kind == ConditionKind::changes || c.kind == ConditionKind::becomes ||
                            c.kind == ConditionKind::stale || c.kind == ConditionKind::bad ||
                            c.kind == ConditionKind::suspect;
        const std::string unit = s ? unitOfCondition(*s, c) : std::string();
        const MeasureKind* measure = measureKind(c.measure);
        if (!s)
            complain("signal", text("There is no signal \"{0}\".", c.of));
        else if (measure && (s->isState() || !ruleCanMeasure(*measure)))
            complain("measure", text("{0} is not measured of {1}.", measure->title.english(), s->name));
        else if (!c.unit.empty() && c.unit != unit && !convertUnit(c.unit, unit))
            complain("unit", measure ? text("{0} of {1} is in {2}, which is no unit of the same kind.",
                                            measure->title.english(), s->name, unit)
                                     : text("{0} reads in {1}, which is no unit of the same kind.", s->name, unit));
        else if (c.kind == ConditionKind::becomes && state &&
                 (c.level != std::round(c.level) || c.level < 0 || c.level > 1))
            complain("level", text("{0} is on or off: 1 or 0 is expected here.", s->name));
        else if (!either && wantsState != state)
            complain("is", state ? text("{0} is on or off: \"{1}\" is of numbers.", s->name, conditionName(c.kind))
                                 : text("{0} reads numbers: it is neither on nor off.", s->name));
    }
    if (c.kind == ConditionKind::deviceAway && !bench.device(c.of))
        complain("device", text("There is no device \"{0}\".", c.of));
    if (c.kind == ConditionKind::rule && !bench.rule(c.of)) complain("rule", text("There is no rule \"{0}\".", c.of));
    for (std::size_t i = 0; i < c.parts.size(); ++i)
        checkCondition(bench, c.parts[i], where + "/parts/" + std::to_string(i), problems);
}

namespace {

void checkAction(const Bench& bench, const Action& a, const std::string& where, std::vector<Problem>& problems) {
    const auto complain = [&](const char* key, Text words) {
        problems.push_back({where + "/" + key, 0, std::move(words)});
    };
    if (isOfOutput(a.kind)) {
        const SignalSpec* s = bench.signal(a.on);
        if (!s || !s->output) return complain("output", text("There is no output \"{0}\".", a.on));
        const bool digital = isDigital(s->kind);
        if (digital && (a.kind == ActionKind::step || a.kind == ActionKind::ramp))
            complain("do", text("{0} is on or off: it has no steps.", s->name));
        if (!digital && a.kind == ActionKind::toggle)
            complain("do", text("{0} has more than two values: it cannot be switched to the other.", s->name));
        const bool sets = a.kind == ActionKind::set || a.kind == ActionKind::ramp || a.kind == ActionKind::hold;
        const double low = digital ? 0 : s->output->low, high = digital ? 1 : s->output->high;
        if (sets && !(a.value >= low && a.value <= high))
            complain("value", text("{0} may be from {1} to {2}.", s->name, shortNumber(low), shortNumber(high)));
    }
    if (a.kind == ActionKind::command && !bench.device(a.on))
        complain("device", text("There is no device \"{0}\".", a.on));
    if (a.kind == ActionKind::reset) {
        const SignalSpec* s = bench.signal(a.on);
        if (!s)
            complain("signal", text("There is no signal \"{0}\".", a.on));
        else if (!withTotalReset(*s))
            complain("signal", text("{0} has no total, position or integral that could be set to zero.", s->name));
    }
    if (a.kind == ActionKind::page && !bench.page(a.on)) complain("page", text("There is no page \"{0}\".", a.on));
}

void rulesIn(const Condition& c, std::set<std::string>& out) {
    if (c.kind == ConditionKind::rule) out.insert(c.of);
    for (const Condition& part : c.parts) rulesIn(part, out);
}

}  // namespace

RuleSpec readRule(const RuleJson& json, const std::string& where, std::vector<Problem>& problems) {
    JsonFields f(json, where, problems);
    RuleSpec out;
    out.id = f.string("id", true);
    out.name = f.string("name", false, out.id);
    if (f.find("enabled")) out.enabled = f.flag("enabled");
    std::size_t count = 0;
    if (const RuleJson* when = f.find("when"))
        out.when = readPart(*when, where + "/when", problems, 1, count);
    else
        f.complain("", text("\"{0}\" is missing. Add it.", "when"));
    for (const auto& [key, list] : {std::pair{"then", &out.then}, std::pair{"else", &out.otherwise}})
        f.list(key, mostActions, [&, list = list](const RuleJson& action, const std::string& at) {
            list->push_back(readAction(action, at, problems));
        });
    if (const RuleJson* until = f.find("until")) out.until = readPart(*until, where + "/until", problems, 1, count);
    if (const RuleJson* suppress = f.find("suppressed-while"))
        out.suppress = readPart(*suppress, where + "/suppressed-while", problems, 1, count);
    if (out.suppress && isMomentary(out.suppress->kind))
        f.complain("suppressed-while", text("This is over at once: it suppresses nothing."));
    out.extra = f.rest();
    return out;
}

RuleJson ruleJson(const RuleSpec& rule) {
    RuleJson j;
    j["id"] = rule.id;
    j["name"] = rule.name;
    if (!rule.enabled) j["enabled"] = false;
    j["when"] = conditionJson(rule.when);
    j["then"] = RuleJson::array();
    for (const Action& a : rule.then) j["then"].push_back(actionJson(a));
    for (const Action& a : rule.otherwise) j["else"].push_back(actionJson(a));
    if (rule.until) j["until"] = conditionJson(*rule.until);
    if (rule.suppress) j["suppressed-while"] = conditionJson(*rule.suppress);
    addExtra(j, rule.extra);
    return j;
}

std::string ruleToText(const RuleSpec& rule) {
    return jsonText(ruleJson(rule), 2);
}

Result<RuleSpec> ruleFromText(const Bench& bench, const std::string& words) {
    JsonFault fault;
    const RuleJson json = parseOrderedJson(words, &fault);
    if (json.is_discarded()) return failure("This does not read: {0}", fault.words);
    std::vector<Problem> problems;
    RuleSpec rule = readRule(json, "", problems);
    if (problems.empty()) {
        const Bench with = withRule(bench, rule);
        checkRules(with, problems);
    }
    if (!problems.empty()) return Error{text("{0}: {1}", problems.front().where, problems.front().message.english())};
    return rule;
}

void checkRules(const Bench& bench, std::vector<Problem>& problems) {
    std::set<std::string> ids;
    for (std::size_t i = 0; i < bench.rules.size(); ++i) {
        const RuleSpec& rule = *bench.rules[i];
        const std::string where = "/rules/" + std::to_string(i);
        if (!ids.insert(rule.id).second) problems.push_back({where + "/id", 0, text("There are two of this id.")});
        checkCondition(bench, rule.when, where + "/when", problems);
        if (rule.until) checkCondition(bench, *rule.until, where + "/until", problems);
        if (rule.suppress) checkCondition(bench, *rule.suppress, where + "/suppressed-while", problems);
        for (std::size_t k = 0; k < rule.then.size(); ++k)
            checkAction(bench, rule.then[k], where + "/then/" + std::to_string(k), problems);
        const bool moment = isMomentary(rule.when.kind) && !rule.until;
        for (std::size_t k = 0; k < rule.then.size(); ++k)
            if (moment && rule.then[k].kind == ActionKind::hold && !rule.then[k].latched)
                problems.push_back({where + "/then/" + std::to_string(k), 0,
                                    text("This rule is over at once: it cannot hold an output. Say until when, or let "
                                         "a person reset it.")});
        for (std::size_t k = 0; k < rule.otherwise.size(); ++k)
            checkAction(bench, rule.otherwise[k], where + "/else/" + std::to_string(k), problems);
        // Whom it looks at, and whom they look at in turn.
        std::set<std::string> seen, now;
        rulesIn(rule.when, now);
        if (rule.until) rulesIn(*rule.until, now);
        while (!now.empty()) {
            const std::string id = *now.begin();
            now.erase(now.begin());
            if (!seen.insert(id).second) continue;
            if (id == rule.id) {
                problems.push_back(
                    {where + "/when", 0, text("The rule looks at itself, by way of others or directly.")});
                break;
            }
            if (const RuleSpec* other = bench.rule(id)) {
                rulesIn(other->when, now);
                if (other->until) rulesIn(*other->until, now);
            }
        }
    }
    for (std::size_t i = 0; i < bench.signals.size(); ++i)
        if (const auto& alarm = bench.signals[i]->alarm; alarm && alarm->suppress)
            checkCondition(bench, *alarm->suppress, "/signals/" + std::to_string(i) + "/limits/alarm/suppressed-while",
                           problems);
}

}  // namespace cruscotto
