#include "core/bench/procedure_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "core/analysis/measures.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/json_fields.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"
#include "core/bench/rule_words.h"

namespace cruscotto {

namespace {

using StepJson = nlohmann::ordered_json;
using Answer = ProcedureStep::Answer;
constexpr double longestStep = 1e6;
constexpr std::initializer_list<std::pair<const char*, Answer>> answers{
    {"seen", Answer::seen}, {"yes-no", Answer::yesNo}, {"number", Answer::number}};

/// Whether the procedure ends with a step that fails, where nothing is said of it.
bool endsByItself(StepKind kind) {
    return kind != StepKind::measure && kind != StepKind::ask;
}

std::optional<Amount> readAmount(JsonFields& f, const char* key, bool needed) {
    const StepJson* v = f.find(key);
    if (!v) {
        if (needed) f.complain("", text("\"{0}\" is missing. Add it.", key));
        return std::nullopt;
    }
    if (v->is_number()) return Amount{v->get<double>(), {}};
    if (v->is_string() && !v->get_ref<const std::string&>().empty()) return Amount{0, v->get<std::string>()};
    f.complain(key, text("A number, or the name of one, is expected here."));
    return std::nullopt;
}
void addAmount(StepJson& j, const char* key, const std::optional<Amount>& a) {
    if (a) j[key] = a->name.empty() ? StepJson(a->value) : StepJson(a->name);
}

double readSeconds(JsonFields& f, const char* key, bool needed) {
    const double v = needed ? f.neededNumber(key) : f.number(key, 0);
    if (!(v >= 0 && v <= longestStep) || (needed && v <= 0))
        f.complain(key, text("A number of seconds above 0, up to {0}, is expected here.", longestStep));
    return v;
}

ProcedureMeasure readTake(const StepJson& json, const std::string& where, std::vector<Problem>& problems) {
    JsonFields f(json, where, problems);
    ProcedureMeasure m;
    m.signal = f.string("signal", true);
    m.against = f.string("against");
    m.measure = f.string("measure", false, "mean");
    m.name = f.string("name");
    m.low = readAmount(f, "low", false);
    m.high = readAmount(f, "high", false);
    m.unit = f.string("unit");
    return m;
}

ProcedureStep readStep(const StepJson& json, const std::string& where, std::vector<Problem>& problems,
                       std::size_t depth, std::size_t& count) {
    JsonFields f(json, where, problems);
    ProcedureStep s;
    if (++count > mostProcedureSteps || depth > deepestRepeat) {
        f.complain("", text("A procedure has {0} steps at most, and repetitions within {1} others.", mostProcedureSteps,
                            deepestRepeat - 1));
        return s;
    }
    const std::string name = f.string("do", true);
    const auto kind = stepNamed(name);
    if (!kind) {
        if (!name.empty()) f.complain("do", text("There is no step \"{0}\".", name));
        return s;
    }
    s.kind = *kind;
    s.title = f.string("title");
    s.endsIfFailed = endsByItself(s.kind);
    if (f.find("ends-if-failed")) s.endsIfFailed = f.flag("ends-if-failed");
    switch (s.kind) {
        case StepKind::set:
            s.on = f.string("output", true);
            s.amount = readAmount(f, "value", true).value_or(Amount{});
            s.seconds = readSeconds(f, "within-s", false);
            break;
        case StepKind::wait:
            if (const StepJson* until = f.find("until"))
                s.until = readCondition(*until, where + "/until", problems);
            else
                f.complain("", text("\"{0}\" is missing. Add it.", "until"));
            s.seconds = readSeconds(f, "at-most-s", true);
            break;
        case StepKind::hold:
            s.seconds = readSeconds(f, "seconds", true);
            break;
        case StepKind::measure:
            s.seconds = readSeconds(f, "seconds", false);
            f.list("take", mostStepMeasures,
                   [&](const StepJson& m, const std::string& at) { s.take.push_back(readTake(m, at, problems)); });
            if (s.take.empty()) f.complain("take", text("At least one measure is expected here."));
            break;
        case StepKind::mark:
            s.words = f.string("words", true);
            break;
        case StepKind::ask:
            s.words = f.string("words", true);
            s.answer = f.choice("answer", answers, Answer::seen);
            if (s.answer == Answer::number) {
                s.name = f.string("name");
                s.low = readAmount(f, "low", false);
                s.high = readAmount(f, "high", false);
                s.unit = f.string("unit");
            }
            break;
        case StepKind::command:
            s.on = f.string("device", true);
            s.key = f.string("key", true);
            s.words = f.string("words");
            break;
        case StepKind::repeat: {
            const StepJson* columns = f.find("for");
            std::size_t rows = 0;
            if (!columns || !columns->is_object() || columns->empty())
                f.complain("for", text("Names with their lists of numbers are expected here, in braces."));
            else
                for (const auto& [column, values] : columns->items()) {
                    RepeatColumn one{column, {}};
                    if (!values.is_array() || values.empty() || values.size() > mostRepeats ||
                        !std::ranges::all_of(values, [](const StepJson& v) { return v.is_number(); })) {
                        f.complain("for",
                                   text("{0}: a list of up to {1} numbers is expected here.", column, mostRepeats));
                        continue;
                    }
                    for (const StepJson& v : values) one.values.push_back(v.get<double>());
                    if (rows && one.values.size() != rows)
                        f.complain("for", text("{0}: all lists must be of one length.", column));
                    rows = one.values.size();
                    s.columns.push_back(std::move(one));
                }
            f.list("steps", mostProcedureSteps, [&](const StepJson& step, const std::string& at) {
                s.steps.push_back(readStep(step, at, problems, depth + 1, count));
            });
            if (s.steps.empty()) f.complain("steps", text("At least one step is expected here."));
            break;
        }
    }
    return s;
}

/// Looks at what a list of steps names. `known`: what is known by name when each comes.
class StepCheck {
public:
    StepCheck(const Bench& bench, std::vector<Problem>& problems) : bench_(bench), problems_(problems) {}
    void list(const std::vector<ProcedureStep>& steps, const std::string& where) {
        for (std::size_t i = 0; i < steps.size(); ++i) one(steps[i], where + "/" + std::to_string(i));
    }

private:
    void complain(const std::string& where, Text words) { problems_.push_back({where, 0, std::move(words)}); }
    void amount(const std::optional<Amount>& a, const std::string& where) {
        if (a && !a->name.empty() && !known_.contains(a->name))
            complain(where, text("Nothing is known by the name \"{0}\" here.", a->name));
    }
    void measure(const ProcedureMeasure& m, const std::string& where) {
        const SignalSpec *s = bench_.signal(m.signal), *with = bench_.signal(m.against);
        const MeasureKind* kind = measureKind(m.measure);
        if (!s) complain(where + "/signal", text("There is no signal \"{0}\".", m.signal));
        if (!m.against.empty() && !with) complain(where + "/against", text("There is no signal \"{0}\".", m.against));
        if (!kind) return complain(where + "/measure", text("There is no measure \"{0}\".", m.measure));
        if ((kind->group == MeasureGroup::ofTwo) == m.against.empty())
            complain(where + "/against", m.against.empty() ? text("This measure is of two signals: name the other one.")
                                                           : text("This measure is of one signal."));
        if (s && m.against.empty() && !measureFits(*kind, s->isState()))
            complain(where + "/measure", s->isState()
                                             ? text("{0} is on or off: this is a measure of numbers.", s->name)
                                             : text("{0} reads numbers: this is a measure of states.", s->name));
        if (s && !m.unit.empty()) {
            const std::string own = measureUnit(m.measure, s->unit(), with ? with->unit() : "");
            if (own != m.unit && !convertUnit(own, m.unit))
                complain(where + "/unit",
                         text("It is measured in {0}, which is no unit of the same kind.", unitText(own)));
        }
        amount(m.low, where + "/low");
        amount(m.high, where + "/high");
        if (!m.name.empty()) known_.insert(m.name);
    }
    void one(const ProcedureStep& s, const std::string& where) {
        switch (s.kind) {
            case StepKind::set: {
                const SignalSpec* o = bench_.signal(s.on);
                if (!o || !o->output) return complain(where + "/output", text("There is no output \"{0}\".", s.on));
                amount(s.amount, where + "/value");
                const bool digital = isDigital(o->kind);
                const double low = digital ? 0 : o->output->low, high = digital ? 1 : o->output->high;
                if (s.amount.name.empty() && !(s.amount.value >= low && s.amount.value <= high))
                    complain(where + "/value",
                             text("{0} may be from {1} to {2}.", o->name, shortNumber(low), shortNumber(high)));
                if (digital && s.seconds > 0)
                    complain(where + "/within-s", text("{0} is on or off: it has no steps.", o->name));
                break;
            }
            case StepKind::wait:
                checkCondition(bench_, s.until, where + "/until", problems_);
                if (s.until.kind == ConditionKind::rule)
                    complain(where + "/until",
                             text("A procedure waits for readings, marks and devices, not for rules."));
                break;
            case StepKind::measure:
                for (std::size_t i = 0; i < s.take.size(); ++i)
                    measure(s.take[i], where + "/take/" + std::to_string(i));
                break;
            case StepKind::ask:
                amount(s.low, where + "/low");
                amount(s.high, where + "/high");
                if (!s.name.empty()) known_.insert(s.name);
                break;
            case StepKind::command:
                if (!bench_.device(s.on)) complain(where + "/device", text("There is no device \"{0}\".", s.on));
                break;
            case StepKind::repeat:
                for (const RepeatColumn& column : s.columns) known_.insert(column.name);
                list(s.steps, where + "/steps");
                break;
            default:
                break;
        }
    }
    const Bench& bench_;
    std::vector<Problem>& problems_;
    std::set<std::string> known_;
};

template <class Each>
void eachStep(std::vector<ProcedureStep>& steps, const Each& each) {
    for (ProcedureStep& s : steps) {
        each(s);
        eachStep(s.steps, each);
    }
}

}  // namespace

ProcedureSpec readProcedure(const StepJson& json, const std::string& where, std::vector<Problem>& problems) {
    JsonFields f(json, where, problems);
    ProcedureSpec out;
    out.id = f.string("id", true);
    out.name = f.string("name", false, out.id);
    out.notes = f.words("notes");
    std::size_t count = 0;
    f.list("steps", mostProcedureSteps, [&](const StepJson& step, const std::string& at) {
        out.steps.push_back(readStep(step, at, problems, 1, count));
    });
    out.extra = f.rest();
    return out;
}

StepJson stepJson(const ProcedureStep& s) {
    StepJson j;
    j["do"] = stepName(s.kind);
    if (!s.title.empty()) j["title"] = s.title;
    switch (s.kind) {
        case StepKind::set:
            j["output"] = s.on;
            addAmount(j, "value", s.amount);
            if (s.seconds > 0) j["within-s"] = s.seconds;
            break;
        case StepKind::wait:
            j["until"] = conditionJson(s.until);
            j["at-most-s"] = s.seconds;
            break;
        case StepKind::hold:
            j["seconds"] = s.seconds;
            break;
        case StepKind::measure:
            if (s.seconds > 0) j["seconds"] = s.seconds;
            j["take"] = StepJson::array();
            for (const ProcedureMeasure& m : s.take) {
                StepJson t;
                t["signal"] = m.signal;
                if (!m.against.empty()) t["against"] = m.against;
                t["measure"] = m.measure;
                if (!m.name.empty()) t["name"] = m.name;
                addAmount(t, "low", m.low);
                addAmount(t, "high", m.high);
                if (!m.unit.empty()) t["unit"] = m.unit;
                j["take"].push_back(std::move(t));
            }
            break;
        case StepKind::mark:
            j["words"] = s.words;
            break;
        case StepKind::ask:
            j["words"] = s.words;
            for (const auto& [name, answer] : answers)
                if (answer == s.answer) j["answer"] = name;
            if (!s.name.empty()) j["name"] = s.name;
            addAmount(j, "low", s.low);
            addAmount(j, "high", s.high);
            if (!s.unit.empty()) j["unit"] = s.unit;
            break;
        case StepKind::command:
            j["device"] = s.on;
            j["key"] = s.key;
            j["words"] = s.words;
            break;
        case StepKind::repeat:
            for (const RepeatColumn& column : s.columns) j["for"][column.name] = column.values;
            j["steps"] = StepJson::array();
            for (const ProcedureStep& step : s.steps) j["steps"].push_back(stepJson(step));
            break;
    }
    if (s.endsIfFailed != endsByItself(s.kind)) j["ends-if-failed"] = s.endsIfFailed;
    return j;
}

StepJson procedureJson(const ProcedureSpec& p) {
    StepJson j;
    j["id"] = p.id;
    j["name"] = p.name;
    if (!p.notes.empty()) j["notes"] = p.notes;
    j["steps"] = StepJson::array();
    for (const ProcedureStep& step : p.steps) j["steps"].push_back(stepJson(step));
    addExtra(j, p.extra);
    return j;
}

Result<ProcedureStep> stepFromText(const std::string& words) {
    JsonFault fault;
    const StepJson json = parseOrderedJson(words, &fault);
    if (json.is_discarded()) return failure("This does not read: {0}", fault.words);
    std::vector<Problem> problems;
    std::size_t count = 0;
    ProcedureStep step = readStep(json, "", problems, 1, count);
    if (!problems.empty()) return Error{text("{0}: {1}", problems.front().where, problems.front().message.english())};
    return step;
}

std::string stepToText(const ProcedureStep& step) {
    return jsonText(stepJson(step), 2);
}

void checkProcedures(const Bench& bench, std::vector<Problem>& problems) {
    std::set<std::string> ids;
    for (std::size_t i = 0; i < bench.procedures.size(); ++i) {
        const ProcedureSpec& p = *bench.procedures[i];
        const std::string where = "/procedures/" + std::to_string(i);
        if (!ids.insert(p.id).second) problems.push_back({where + "/id", 0, text("There are two of this id.")});
        StepCheck(bench, problems).list(p.steps, where + "/steps");
        if (plannedSteps(p).size() >= mostStepsDone)
            problems.push_back(
                {where + "/steps", 0, text("These are more than {0} steps, repetitions counted.", mostStepsDone - 1)});
    }
}

Result<void> checkProcedure(const Bench& bench, const ProcedureSpec& procedure) {
    std::vector<Problem> problems;
    StepCheck(bench, problems).list(procedure.steps, "");
    if (!problems.empty()) return Error{text("{0}: {1}", problems.front().where, problems.front().message.english())};
    return {};
}

std::string procedureMeasureWords(const Bench& bench, const ProcedureMeasure& m) {
    const auto nameOf = [&](const std::string& id) { return bench.signal(id) ? bench.signal(id)->name : id; };
    const MeasureKind* kind = measureKind(m.measure);
    std::string title = kind ? kind->title.english() : m.measure;
    if (!title.empty() && title.size() > 1 && std::islower(static_cast<unsigned char>(title[1])))
        title[0] = static_cast<char>(std::tolower(static_cast<unsigned char>(title[0])));
    return title + " of " + nameOf(m.signal) + (m.against.empty() ? "" : " against " + nameOf(m.against));
}

std::string stepWords(const Bench& bench, const ProcedureStep& s, const std::map<std::string, double>& known) {
    if (!s.title.empty()) return s.title;
    const auto nameOf = [&](const std::string& id) { return bench.signal(id) ? bench.signal(id)->name : id; };
    const auto amount = [&](const Amount& a, const std::string& ucum) {
        const auto it = known.find(a.name);
        if (!a.name.empty() && it == known.end()) return a.name;
        const std::string unit = unitText(ucum);
        return shortNumber(a.name.empty() ? a.value : it->second) + (unit.empty() || unit == "1" ? "" : " " + unit);
    };
    switch (s.kind) {
        case StepKind::set: {
            const SignalSpec* o = bench.signal(s.on);
            std::string value = amount(s.amount, o ? o->unit() : "");
            if (o && isDigital(o->kind) && s.amount.name.empty()) {
                const std::string& own = s.amount.value > 0.5 ? o->onWord : o->offWord;
                value = !own.empty() ? own : s.amount.value > 0.5 ? "on" : "off";
            }
            return fmt::format("Set {} to {}{}", nameOf(s.on), value,
                               s.seconds > 0 ? " within " + shortNumber(s.seconds) + " s" : "");
        }
        case StepKind::wait:
            return fmt::format("Wait until {}, {} s at most", conditionWords(bench, s.until), shortNumber(s.seconds));
        case StepKind::hold:
            return fmt::format("Hold for {} s", shortNumber(s.seconds));
        case StepKind::measure: {
            std::string out = "Measure ";
            for (const ProcedureMeasure& m : s.take) {
                if (&m != &s.take.front()) out += &m == &s.take.back() ? " and " : ", ";
                out += procedureMeasureWords(bench, m);
            }
            return out + (s.seconds > 0 ? " over " + shortNumber(s.seconds) + " s" : "");
        }
        case StepKind::mark:
            return fmt::format("Mark \"{}\"", s.words);
        case StepKind::ask:
            return fmt::format("Ask: {}", s.words);
        case StepKind::command: {
            const DeviceSpec* d = bench.device(s.on);
            return fmt::format("Tell {} {} = {}", d ? d->name : s.on, s.key, s.words);
        }
        case StepKind::repeat: {
            std::string names;
            for (const RepeatColumn& c : s.columns) names += (names.empty() ? "" : ", ") + c.name;
            return fmt::format("For each of {} values of {}", s.columns.empty() ? 0 : s.columns.front().values.size(),
                               names);
        }
    }
    return {};
}

std::vector<std::string> outputsOf(const ProcedureSpec& procedure) {
    std::vector<std::string> out;
    auto steps = procedure.steps;
    eachStep(steps, [&](const ProcedureStep& s) {
        if (s.kind == StepKind::set && std::ranges::find(out, s.on) == out.end()) out.push_back(s.on);
    });
    return out;
}

ProcedureSpec procedureAsRead(const Bench& bench, ProcedureSpec procedure) {
    eachStep(procedure.steps, [&](ProcedureStep& s) {
        if (s.kind == StepKind::wait) s.until = conditionAsRead(bench, s.until);
    });
    return procedure;
}

Bench withProcedure(Bench bench, ProcedureSpec procedure) {
    const auto it = std::ranges::find_if(bench.procedures, [&](const auto& p) { return p->id == procedure.id; });
    auto made = std::make_shared<const ProcedureSpec>(std::move(procedure));
    if (it == bench.procedures.end())
        bench.procedures.push_back(std::move(made));
    else
        *it = std::move(made);
    return bench;
}

Bench withoutProcedure(Bench bench, const std::string& id) {
    std::erase_if(bench.procedures, [&](const auto& p) { return p->id == id; });
    return bench;
}

namespace {
bool stepNames(const ProcedureStep& s, const std::string& id) {
    return s.on == id || (s.kind == StepKind::wait && looksAt(s.until, id)) ||
           std::ranges::any_of(s.take, [&](const auto& m) { return m.signal == id || m.against == id; });
}
void dropSteps(std::vector<ProcedureStep>& steps, const std::string& id) {
    for (ProcedureStep& s : steps) dropSteps(s.steps, id);
    std::erase_if(steps, [&](const ProcedureStep& s) {
        return stepNames(s, id) || (s.kind == StepKind::repeat && s.steps.empty());
    });
}
}  // namespace

Bench withoutStepsOf(Bench bench, const std::string& id) {
    for (auto& p : bench.procedures) {
        ProcedureSpec next = *p;
        dropSteps(next.steps, id);
        if (!(next == *p)) p = std::make_shared<const ProcedureSpec>(std::move(next));
    }
    return bench;
}

}  // namespace cruscotto
