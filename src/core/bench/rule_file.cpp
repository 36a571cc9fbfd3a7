#include "core/bench/rule_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <set>

#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/json_fields.h"

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

Condition readCondition(const RuleJson& json, const std::string& where, std::vector<Problem>& problems, int depth,
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
        out.parts.push_back(readCondition(part, at, problems, depth + 1, count));
    });
    if (out.parts.empty() || (*kind == ConditionKind::no && out.parts.size() != 1))
        f.complain("parts", *kind == ConditionKind::no ? text("\"not\" is of one condition.")
                                                       : text("At least one condition is expected here."));
    return out;
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
    if (needs.over) j["over-s"] = c.overSeconds;
    if (!c.unit.empty()) j["unit"] = c.unit;
    if (c.forSeconds > 0) j["for-s"] = c.forSeconds;
    for (const Condition& part : c.parts) j["parts"].push_back(conditionJson(part));
    return j;
}

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

std::string nameOf(const Bench& bench, const std::string& signal) {
    const SignalSpec* s = bench.signal(signal);
    return s ? s->name : signal;
}
std::string withUnit(double v, const std::string& ucum, const char* per = "") {
    const std::string unit = unitText(ucum);
    return shortNumber(v) + (unit.empty() || unit == "1" ? "" : " " + unit) + per;
}
const RuleSpec* ruleOf(const Bench& bench, const std::string& id) {
    const auto it = std::ranges::find_if(bench.rules, [&](const auto& r) { return r->id == id; });
    return it == bench.rules.end() ? nullptr : it->get();
}

void checkCondition(const Bench& bench, const Condition& c, const std::string& where, std::vector<Problem>& problems) {
    const auto complain = [&](const char* key, Text words) {
        problems.push_back({where + "/" + key, 0, std::move(words)});
    };
    if (isOfSignal(c.kind)) {
        const SignalSpec* s = bench.signal(c.of);
        const bool state = s && s->isState();
        const bool wantsState = c.kind == ConditionKind::on || c.kind == ConditionKind::off;
        const bool either = c.kind == ConditionKind::changes || c.kind == ConditionKind::stale ||
                            c.kind == ConditionKind::bad || c.kind == ConditionKind::suspect;
        if (!s)
            complain("signal", text("There is no signal \"{0}\".", c.of));
        else if (!c.unit.empty() && c.unit != s->unit() && !convertUnit(c.unit, s->unit()))
            complain("unit", text("{0} reads in {1}, which is no unit of the same kind.", s->name, s->unit()));
        else if (!either && wantsState != state)
            complain("is", state ? text("{0} is on or off: \"{1}\" is of numbers.", s->name, conditionName(c.kind))
                                 : text("{0} reads numbers: it is neither on nor off.", s->name));
    }
    if (c.kind == ConditionKind::deviceAway && !bench.device(c.of))
        complain("device", text("There is no device \"{0}\".", c.of));
    if (c.kind == ConditionKind::rule && !ruleOf(bench, c.of))
        complain("rule", text("There is no rule \"{0}\".", c.of));
    for (std::size_t i = 0; i < c.parts.size(); ++i)
        checkCondition(bench, c.parts[i], where + "/parts/" + std::to_string(i), problems);
}

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
        out.when = readCondition(*when, where + "/when", problems, 1, count);
    else
        f.complain("", text("\"{0}\" is missing. Add it.", "when"));
    for (const auto& [key, list] : {std::pair{"then", &out.then}, std::pair{"else", &out.otherwise}})
        f.list(key, mostActions, [&, list = list](const RuleJson& action, const std::string& at) {
            list->push_back(readAction(action, at, problems));
        });
    if (const RuleJson* until = f.find("until"))
        out.until = readCondition(*until, where + "/until", problems, 1, count);
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
            if (const RuleSpec* other = ruleOf(bench, id)) {
                rulesIn(other->when, now);
                if (other->until) rulesIn(*other->until, now);
            }
        }
    }
}

namespace {

/// Puts a sentence together, part by part.
class Said {
public:
    explicit Said(std::vector<SentencePart>& parts) : parts_(parts) {}
    Said& operator<<(const std::string& words) {
        if (!parts_.empty() && parts_.back().place.empty())
            parts_.back().words += words;
        else
            parts_.push_back({words, {}});
        return *this;
    }
    /// Words that can be changed, at this place of the rule.
    Said& at(const std::string& place, const std::string& words) {
        parts_.push_back({words, place});
        return *this;
    }

private:
    std::vector<SentencePart>& parts_;
};

const char* betweenNameAndLevel(ConditionKind kind) {
    using enum ConditionKind;
    switch (kind) {
        case above:
            return "is above";
        case below:
            return "is below";
        case inside:
            return "is from";
        case outside:
            return "is not from";
        case rises:
            return "rises through";
        case falls:
            return "falls through";
        case faster:
            return "changes faster than";
        case changes:
            return "changes";
        case bad:
            return "is of bad quality";
        case suspect:
            return "is suspect";
        default:
            return "";
    }
}

void sayCondition(Said& said, const Bench& bench, const Condition& c, const std::string& place) {
    using enum ConditionKind;
    const SignalSpec* s = isOfSignal(c.kind) ? bench.signal(c.of) : nullptr;
    const std::string name = s ? s->name : c.of, unit = !c.unit.empty() ? c.unit : s ? s->unit() : "1";
    const auto number = [&](double v) { return withUnit(v, unit); };
    const auto place_ = [&](const char* field) { return place + "/" + field; };
    const auto subject = [&] { said.at(place_("of"), name) << " "; };
    switch (c.kind) {
        case above:
        case below:
        case rises:
        case falls:
            subject();
            said.at(place_("kind"), betweenNameAndLevel(c.kind)) << " ";
            said.at(place_("level"), number(c.level));
            break;
        case inside:
        case outside:
            subject();
            said.at(place_("kind"), betweenNameAndLevel(c.kind)) << " ";
            said.at(place_("level"), shortNumber(c.level)) << " to ";
            said.at(place_("upper"), number(c.upper));
            break;
        case faster:
            subject();
            said.at(place_("kind"), betweenNameAndLevel(c.kind)) << " ";
            said.at(place_("level"), number(c.level)) << " a second, over ";
            said.at(place_("over"), shortNumber(c.overSeconds) + " s");
            break;
        case on:
        case off: {
            const std::string own = !s ? "" : c.kind == on ? s->onWord : s->offWord;
            subject();
            said << "is ";
            said.at(place_("kind"), own.empty() ? (c.kind == on ? "on" : "off") : own);
            break;
        }
        case changes:
        case bad:
        case suspect:
            subject();
            said.at(place_("kind"), betweenNameAndLevel(c.kind));
            if (c.kind == changes && c.hysteresis > 0)
                (said << " by more than ").at(place_("hysteresis"), number(c.hysteresis));
            break;
        case stale:
            said.at(place_("kind"), "nothing comes") << " of ";
            said.at(place_("of"), name) << " for ";
            said.at(place_("level"), shortNumber(c.level) + " s");
            break;
        case timeOfDay: {
            const int seconds = static_cast<int>(c.level);
            said.at(place_("kind"), "it is") << " ";
            said.at(place_("level"), fmt::format("{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60));
            break;
        }
        case every:
            said.at(place_("level"), shortNumber(c.level) + " s") << " ";
            said.at(place_("kind"), "have passed, again and again");
            break;
        case ConditionKind::mark:
            said.at(place_("kind"), "a mark is set");
            (said << ", with ").at(place_("of"), c.of.empty() ? "any words" : "\"" + c.of + "\"");
            break;
        case deviceAway: {
            const DeviceSpec* d = bench.device(c.of);
            said.at(place_("of"), d ? d->name : c.of) << " ";
            said.at(place_("kind"), "cannot be reached");
            break;
        }
        case ConditionKind::rule: {
            const RuleSpec* r = ruleOf(bench, c.of);
            said.at(place_("of"), "\"" + (r ? r->name : c.of) + "\"") << " ";
            said.at(place_("kind"), "holds");
            break;
        }
        case all:
        case any:
            for (std::size_t i = 0; i < c.parts.size(); ++i) {
                const Condition& part = c.parts[i];
                if (i > 0) (said << " ").at(place_("kind"), c.kind == all ? "and" : "or") << " ";
                const bool brackets = (part.kind == all || part.kind == any) && part.parts.size() > 1;
                if (brackets) said << "(";
                sayCondition(said, bench, part, place + "/parts/" + std::to_string(i));
                if (brackets) said << ")";
            }
            break;
        case no:
            said.at(place_("kind"), "not") << " (";
            if (!c.parts.empty()) sayCondition(said, bench, c.parts.front(), place + "/parts/0");
            said << ")";
            break;
    }
    if (c.hysteresis > 0 && c.kind != changes)
        (said << " (by ").at(place_("hysteresis"), number(c.hysteresis)) << " to go back)";
    if (c.forSeconds > 0) (said << " for ").at(place_("for"), shortNumber(c.forSeconds) + " s");
}

void sayAction(Said& said, const Bench& bench, const Action& a, const std::string& place) {
    const SignalSpec* s = isOfOutput(a.kind) ? bench.signal(a.on) : nullptr;
    const std::string name = nameOf(bench, a.on), unit = s ? s->unit() : "1";
    const bool digital = s && isDigital(s->kind);
    const auto at = [&](const char* field) { return place + "/" + field; };
    const auto value = [&] {
        if (!digital) return withUnit(a.value, unit);
        const std::string own = a.value > 0.5 ? s->onWord : s->offWord;
        return !own.empty() ? own : std::string(a.value > 0.5 ? "on" : "off");
    };
    const auto verb = [&](const char* words) -> Said& { return said.at(at("kind"), words) << " "; };
    const auto forSeconds = [&] { said.at(at("seconds"), shortNumber(a.seconds) + " s"); };
    const auto words = [&] { said.at(at("words"), "\"" + a.words + "\""); };
    switch (a.kind) {
        case ActionKind::set:
            verb("set").at(at("on"), name) << " to ";
            said.at(at("value"), value());
            break;
        case ActionKind::step:
            verb("change").at(at("on"), name) << " by ";
            said.at(at("value"), withUnit(a.value, unit));
            break;
        case ActionKind::toggle:
            verb("switch over").at(at("on"), name);
            break;
        case ActionKind::ramp:
            verb("bring").at(at("on"), name) << " to ";
            said.at(at("value"), value()) << " within ";
            forSeconds();
            break;
        case ActionKind::release:
            verb("let go of").at(at("on"), name);
            break;
        case ActionKind::hold:
            verb("hold").at(at("on"), name) << " at ";
            said.at(at("value"), value()) << " whatever else wants, ";
            said.at(at("latched"), a.latched ? "until it is reset by hand" : "as long as this lasts");
            break;
        case ActionKind::command: {
            const DeviceSpec* d = bench.device(a.on);
            verb("tell").at(at("on"), d ? d->name : a.on) << " ";
            said.at(at("key"), a.key) << " = ";
            words();
            break;
        }
        case ActionKind::alarm:
            verb("raise the alarm");
            words();
            (said << " of priority ").at(at("priority"), std::to_string(a.priority));
            break;
        case ActionKind::mark:
            verb("mark");
            words();
            break;
        case ActionKind::record:
            said.at(at("kind"), "begin to record");
            break;
        case ActionKind::endRecording:
            said.at(at("kind"), "end the recording");
            break;
        case ActionKind::keep:
            verb("keep as a run") << "the last ";
            forSeconds();
            break;
        case ActionKind::page: {
            const PageSpec* p = bench.page(a.on);
            verb("show the page").at(at("on"), p ? p->name : a.on);
            break;
        }
        case ActionKind::tone:
            said.at(at("kind"), "sound a tone");
            break;
    }
}

std::string joined(const std::vector<SentencePart>& parts) {
    std::string out;
    for (const SentencePart& part : parts) out += part.words;
    return out;
}

}  // namespace

std::string conditionWords(const Bench& bench, const Condition& condition) {
    std::vector<SentencePart> parts;
    Said said(parts);
    sayCondition(said, bench, condition, {});
    return joined(parts);
}

std::string actionWords(const Bench& bench, const Action& action) {
    std::vector<SentencePart> parts;
    Said said(parts);
    sayAction(said, bench, action, {});
    return joined(parts);
}

std::vector<SentencePart> ruleParts(const Bench& bench, const RuleSpec& rule) {
    std::vector<SentencePart> parts;
    Said said(parts);
    const auto all = [&](const std::vector<Action>& actions, const std::string& place) {
        for (std::size_t i = 0; i < actions.size(); ++i) {
            if (i > 0) said << (i + 1 == actions.size() ? " and " : ", ");
            sayAction(said, bench, actions[i], place + "/" + std::to_string(i));
        }
        if (actions.empty()) said << "do nothing";
    };
    said << "When ";
    sayCondition(said, bench, rule.when, "/when");
    said << ", ";
    all(rule.then, "/then");
    if (rule.until) {
        said << "; until ";
        sayCondition(said, bench, *rule.until, "/until");
    }
    if (!rule.otherwise.empty()) {
        said << "; then ";
        all(rule.otherwise, "/else");
    }
    said << ".";
    return parts;
}

std::string ruleSentence(const Bench& bench, const RuleSpec& rule) {
    return joined(ruleParts(bench, rule));
}

RulePlace placeIn(RuleSpec& rule, const std::string& place) {
    std::vector<std::string> steps;
    for (std::size_t at = 1; at <= place.size();) {
        const std::size_t end = std::min(place.find('/', at), place.size());
        steps.push_back(place.substr(at, end - at));
        at = end + 1;
    }
    RulePlace out;
    if (steps.size() < 2) return out;
    out.field = steps.back();
    const auto number = [](const std::string& text) {
        std::size_t n = 0;
        for (const char c : text.substr(0, 4))
            n = c >= '0' && c <= '9' ? n * 10 + static_cast<std::size_t>(c - '0') : 9999;
        return n;
    };
    if (steps[0] == "when" || (steps[0] == "until" && rule.until)) {
        Condition* c = steps[0] == "when" ? &rule.when : &*rule.until;
        for (std::size_t i = 1; i + 2 < steps.size(); i += 2) {
            const std::size_t part = number(steps[i + 1]);
            if (steps[i] != "parts" || part >= c->parts.size()) return {};
            c = &c->parts[part];
        }
        out.condition = c;
    } else if (steps[0] == "then" || steps[0] == "else") {
        auto& actions = steps[0] == "then" ? rule.then : rule.otherwise;
        if (const std::size_t i = number(steps[1]); steps.size() == 3 && i < actions.size()) out.action = &actions[i];
    }
    return out;
}

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
                                       a.name, b.name, nameOf(bench, output)));
        }
    return out;
}

namespace {
void convertLevels(const Bench& bench, Condition& c) {
    for (Condition& part : c.parts) convertLevels(bench, part);
    const SignalSpec* s = isOfSignal(c.kind) ? bench.signal(c.of) : nullptr;
    if (!s || c.unit.empty() || c.unit == s->unit()) return;
    const auto in = convertUnit(c.unit, s->unit());
    if (!in) return;
    const double offset = c.kind == ConditionKind::faster ? 0 : in->offset;
    c.level = c.level * in->factor + offset;
    c.upper = c.upper * in->factor + offset;
    c.hysteresis *= std::fabs(in->factor);
    c.unit = s->unit();
}
bool names(const Condition& c, const std::string& id) {
    if (c.kind != ConditionKind::mark && c.of == id) return true;
    return std::ranges::any_of(c.parts, [&](const Condition& part) { return names(part, id); });
}
bool names(const RuleSpec& rule, const std::string& id) {
    const auto acts = [&](const std::vector<Action>& all) {
        return std::ranges::any_of(all, [&](const Action& a) { return a.on == id; });
    };
    return names(rule.when, id) || (rule.until && names(*rule.until, id)) || acts(rule.then) || acts(rule.otherwise);
}
}  // namespace

RuleSpec ruleAsRead(const Bench& bench, RuleSpec rule) {
    convertLevels(bench, rule.when);
    if (rule.until) convertLevels(bench, *rule.until);
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
    }
    return bench;
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

Bench withoutRule(Bench bench, const std::string& id) {
    std::erase_if(bench.rules, [&](const auto& r) { return r->id == id; });
    return withoutRulesOf(std::move(bench), id);
}

}  // namespace cruscotto
