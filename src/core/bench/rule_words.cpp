#include "core/bench/rule_words.h"

#include <fmt/format.h>

#include "core/analysis/measures.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/rule_edits.h"

namespace cruscotto {

namespace {

std::string nameOf(const Bench& bench, const std::string& signal) {
    const SignalSpec* s = bench.signal(signal);
    return s ? s->name : signal;
}
std::string withUnit(double v, const std::string& ucum, const char* per = "") {
    const std::string unit = unitText(ucum);
    return shortNumber(v) + (unit.empty() || unit == "1" ? "" : " " + unit) + per;
}
/// "Mean" as "mean", but "RMS" as it is.
std::string withinSentence(std::string title) {
    const auto small = [](char c) { return c >= 'a' && c <= 'z'; };
    if (title.size() > 1 && small(title[1])) title[0] = static_cast<char>(std::tolower(title[0]));
    return title;
}
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
        case becomes:
            return "changes to";
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
    const std::string name = s ? s->name : c.of, unit = !c.unit.empty() ? c.unit : s ? unitOfCondition(*s, c) : "1";
    const auto number = [&](double v) { return withUnit(v, unit); };
    const auto place_ = [&](const char* field) { return place + "/" + field; };
    const auto subject = [&] {
        const MeasureKind* measure = canMeasure(c.kind) ? measureKind(c.measure) : nullptr;
        if (measure) said.at(place_("measure"), withinSentence(measure->title.english())) << " of ";
        said.at(place_("of"), name) << " ";
        if (measure) (said << "over ").at(place_("over"), shortNumber(c.overSeconds) + " s") << " ";
    };
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
        case becomes:
            subject();
            said.at(place_("kind"), betweenNameAndLevel(c.kind)) << " ";
            if (s && s->isState()) {
                const std::string& own = c.level > 0.5 ? s->onWord : s->offWord;
                said.at(place_("level"), !own.empty() ? own : c.level > 0.5 ? "on" : "off");
            } else {
                said.at(place_("level"), number(c.level));
                if (c.hysteresis > 0) (said << " ± ").at(place_("hysteresis"), number(c.hysteresis));
            }
            break;
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
            const RuleSpec* r = bench.rule(c.of);
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
    if (c.hysteresis > 0 && c.kind != changes && c.kind != becomes)
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
        case ActionKind::reset:
            verb("begin anew with").at(at("on"), name);
            break;
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
    if (rule.suppress) {
        said << "; no alarm while ";
        sayCondition(said, bench, *rule.suppress, "/suppress");
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
    Condition* whole = steps[0] == "when"                        ? &rule.when
                       : steps[0] == "until" && rule.until       ? &*rule.until
                       : steps[0] == "suppress" && rule.suppress ? &*rule.suppress
                                                                 : nullptr;
    if (Condition* c = whole) {
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

}  // namespace cruscotto
