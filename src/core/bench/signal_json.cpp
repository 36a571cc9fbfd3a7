#include "core/bench/signal_json.h"

#include "core/base/json_text.h"
#include "core/bench/rule_file.h"
#include "core/chain/stage_kind.h"

#include <array>
#include <limits>
#include <tuple>

namespace cruscotto {

using Json = nlohmann::ordered_json;

namespace {

constexpr std::size_t mostSheets = 200;

bool kindHasOwnPage(const Stage& stage) {
    return stage.kind().ownPage;
}

Json stageJson(const Stage& stage) {
    Json j;
    j["stage"] = stageKey(stage);
    if (stage.isOff()) j["switched-off"] = true;
    for (std::size_t i = 0; i < stage.kind().fields.size(); ++i) {
        const StageField& field = stage.kind().fields[i];
        if (!matters(stage, field) || (field.quiet && stage.value(i) == field.first)) continue;
        if (const auto* number = std::get_if<double>(&stage.value(i))) {
            if (field.type == StageField::Type::resets && *number == 0) continue;
            if (field.type != StageField::Type::number)
                j[field.key] = static_cast<std::int64_t>(*number);
            else
                j[field.key] = *number;
        } else if (const auto* words = std::get_if<std::string>(&stage.value(i))) {
            const bool mayBeLeftOut =
                field.type == StageField::Type::note || field.type == StageField::Type::sheets || kindHasOwnPage(stage);
            if (words->empty() && mayBeLeftOut) continue;
            j[field.key] = field.type == StageField::Type::sheets ? parseOrderedJson(*words) : Json(*words);
        } else if (const auto* source = std::get_if<StageSource>(&stage.value(i))) {
            if (!source->signal.empty())
                j[field.key] = Json{{"signal", source->signal}};
            else
                j[field.key] =
                    Json{{"constant", source->constant}, {"unit", source->unit.empty() ? field.unit : source->unit}};
        } else if (const auto* sources = std::get_if<StageSources>(&stage.value(i))) {
            j[field.key] = Json::array();
            for (const StageSource& of : *sources) {
                Json one = of.signal.empty() ? Json{{"constant", of.constant}} : Json{{"signal", of.signal}};
                one["unit"] = of.unit;
                if (!of.name.empty()) one["name"] = of.name;
                j[field.key].push_back(std::move(one));
            }
        } else if (const auto* rows = std::get_if<StageTable>(&stage.value(i))) {
            if (rows->empty() && !field.needed) continue;
            Json list = Json::array();
            if (field.type == StageField::Type::points) {
                for (const auto& row : *rows) {
                    list.push_back(Json{{"indicated", row[0]}, {"reference", row[1]}});
                    if (row[2] > 0) list.back()["u"] = row[2];
                }
                j[field.key] = std::move(list);
                continue;
            }
            for (const auto& row : *rows)
                list.push_back(field.type == StageField::Type::list ? Json(row[0]) : Json(row));
            j[field.key] = std::move(list);
        }
    }
    return j;
}

StageValue readField(JsonFields& f, const StageField& field) {
    const std::string otherwise = field.needed                             ? ""
                                  : std::get_if<std::string>(&field.first) ? std::get<std::string>(field.first)
                                                                           : "";
    switch (field.type) {
        case StageField::Type::number:
            if (field.needed) return f.neededNumber(field.key);
            if (const auto given = f.maybeNumber(field.key)) return *given;
            return field.first;
        case StageField::Type::whole:
        case StageField::Type::resets:
            return double(f.integer(field.key, static_cast<int>(std::get<double>(field.first)),
                                    static_cast<int>(field.low), static_cast<int>(field.high)));
        case StageField::Type::note:
            return f.words(field.key);
        case StageField::Type::source: {
            const Json* given = f.find(field.key);
            if (!given) {
                if (field.needed) f.complain("", text("\"{0}\" is missing. Add a constant or a signal.", field.key));
                return field.first;
            }
            JsonFields s(*given, f.where() + "/" + field.key, f.problems());
            StageSource source;
            source.signal = s.string("signal");
            if (source.signal.empty()) {
                source.constant = s.neededNumber("constant");
                source.unit = s.string("unit");
            }
            return source;
        }
        case StageField::Type::sources: {
            if (!f.find(field.key)) f.complain("", text("\"{0}\" is missing. Add a list of signals.", field.key));
            StageSources all;
            f.list(field.key, field.mostRows, [&](const Json& row, const std::string& where) {
                JsonFields s(row, where, f.problems());
                StageSource& source = all.emplace_back();
                source.signal = s.string("signal");
                if (source.signal.empty()) source.constant = s.neededNumber("constant");
                source.unit = s.string("unit", true);
                source.name = s.string("name");
            });
            return all;
        }
        case StageField::Type::points: {
            StageTable rows;
            f.list(field.key, field.mostRows, [&](const Json& row, const std::string& where) {
                JsonFields p(row, where, f.problems());
                const double indicated = p.neededNumber("indicated"), reference = p.neededNumber("reference");
                rows.push_back({indicated, reference, p.maybeNumber("u").value_or(0)});
            });
            return rows;
        }
        case StageField::Type::sheets: {
            const Json* given = f.find(field.key);
            if (!given) return std::string();
            if (!given->is_array() || given->size() > mostSheets ||
                !std::ranges::all_of(*given, [](const Json& sheet) { return sheet.is_object(); })) {
                f.complain(field.key, text("A list of at most {0} sheets is expected here.", mostSheets));
                return std::string();
            }
            return given->empty() ? std::string() : jsonText(*given);
        }
        case StageField::Type::list:
        case StageField::Type::table: {
            if (field.needed && !f.find(field.key)) f.complain("", text("\"{0}\" is missing. Add it.", field.key));
            StageTable rows;
            f.list(field.key, field.mostRows, [&](const Json& row, const std::string& where) {
                const bool single = field.type == StageField::Type::list;
                const auto isNumber = [](const Json& v) { return v.is_number(); };
                if (single ? row.is_number() : row.is_array() && std::ranges::all_of(row, isNumber))
                    rows.push_back(single ? std::vector{row.get<double>()} : row.get<std::vector<double>>());
                else
                    f.problems().push_back(
                        {where, 0,
                         single ? text("A number is expected here.") : text("A list of numbers is expected here.")});
            });
            return rows.empty() && !f.find(field.key) ? field.first : StageValue(rows);
        }
        case StageField::Type::choice:
        case StageField::Type::unit:
        case StageField::Type::likeUnit:
        case StageField::Type::formula:
            break;
    }
    return f.string(field.key, field.needed, otherwise);
}

std::optional<Stage> readStage(const Json& json, const std::string& where, const std::string& unitBefore,
                               std::vector<Problem>& problems) {
    const std::size_t before = problems.size();
    JsonFields f(json, where, problems);
    const std::string key = f.string("stage", true);
    const StageKind* kind = stageKind(key);
    if (!kind) {
        std::string all;
        for (const StageKind* k : stageKinds()) all += (all.empty() ? "" : ", ") + k->key;
        if (problems.size() == before)
            f.complain("stage", text("There is no stage \"{0}\". Use one of: {1}.", key, all));
        return std::nullopt;
    }
    Stage stage = Stage(*kind).switched(!f.flag("switched-off"));
    for (std::size_t i = 0; i < kind->fields.size(); ++i) stage = stage.with(i, readField(f, kind->fields[i]));
    for (const auto& [name, value] : json.items()) {
        const bool known = name == "stage" || name == "switched-off" ||
                           std::ranges::find(kind->fields, name, &StageField::key) != kind->fields.end();
        if (known) continue;
        std::string all;
        for (const StageField& field : kind->fields) all += (all.empty() ? "" : ", ") + field.key;
        f.complain(name, text("The stage \"{0}\" has no \"{1}\". It has: {2}.", key, name, all));
    }
    if (problems.size() != before) return std::nullopt;
    if (auto checked = checkStage(stage, unitBefore); !checked) {
        f.complain("", checked.error().message);
        return std::nullopt;
    }
    return stage;
}

ChainSpec readChain(JsonFields& f, ChannelKind kind) {
    ChainSpec chain;
    std::string unit = rawUnit(kind);
    f.list("chain", mostStages, [&](const Json& j, const std::string& where) {
        if (const auto stage = readStage(j, where, unit, f.problems())) {
            unit = unitAfter(*stage, unit);
            chain.push_back(*stage);
        }
    });
    return chain;
}

Json chainJson(const ChainSpec& chain) {
    Json out = Json::array();
    for (const Stage& stage : chain) out.push_back(stageJson(stage));
    return out;
}

constexpr std::array keepNames{"everything", "one-in-n", "summary", "changes"};

Json keepJson(const KeepSpec& keep) {
    Json j = Json::object();
    j["what"] = keepNames.at(static_cast<std::size_t>(keep.what));
    if (keep.what == KeepSpec::What::oneInN) j["every"] = keep.every;
    if (keep.what == KeepSpec::What::summary) j["interval-s"] = keep.intervalSeconds;
    if (keep.what == KeepSpec::What::changes) {
        j["dead-band"] = keep.deadBand;
        j["at-least-every-s"] = keep.atLeastEvery;
    }
    if (keep.asReadings) j["as"] = keep.rawBeside ? "both" : "reading";
    return j;
}

KeepSpec readKeep(const Json& json, const std::string& where, std::vector<Problem>& problems) {
    JsonFields f(json, where, problems);
    KeepSpec keep;
    keep.what = f.choice<KeepSpec::What>("what",
                                         {{keepNames[0], KeepSpec::What::everything},
                                          {keepNames[1], KeepSpec::What::oneInN},
                                          {keepNames[2], KeepSpec::What::summary},
                                          {keepNames[3], KeepSpec::What::changes}},
                                         KeepSpec::What::everything);
    keep.every = f.integer("every", keep.every, 1, 1'000'000);
    enum class As { raw, reading, both };
    const As as = f.choice<As>("as", {{"raw", As::raw}, {"reading", As::reading}, {"both", As::both}}, As::raw);
    keep.asReadings = as != As::raw;
    keep.rawBeside = as == As::both;
    for (const auto& [key, member, low, high] :
         {std::tuple{"interval-s", &KeepSpec::intervalSeconds, 0.001, 86400.0},
          std::tuple{"dead-band", &KeepSpec::deadBand, 0.0, std::numeric_limits<double>::max()},
          std::tuple{"at-least-every-s", &KeepSpec::atLeastEvery, 0.0, 86400.0}}) {
        keep.*member = f.number(key, keep.*member);
        if (!(keep.*member >= low && keep.*member <= high))
            f.complain(key, high > 1e6 ? text("A number that is not negative is expected here.")
                                       : text("A number from {0} to {1} is expected here.", low, high));
    }
    return keep;
}

Json computedJson(const ComputedSpec& c) {
    Json j;
    if (!c.clock.empty())
        j["clock"] = c.clock;
    else
        j["rate-hz"] = c.rateHz;
    j["between"] = c.between == ComputedSpec::Between::held ? "held" : "interpolated";
    j["oldest-s"] = c.oldestSeconds;
    return j;
}

ComputedSpec readComputed(const Json& json, const std::string& where, std::vector<Problem>& problems) {
    JsonFields f(json, where, problems);
    ComputedSpec c;
    c.clock = f.string("clock");
    c.between = f.choice<ComputedSpec::Between>(
        "between", {{"held", ComputedSpec::Between::held}, {"interpolated", ComputedSpec::Between::interpolated}},
        ComputedSpec::Between::held);
    for (const auto& [key, member, low, high] :
         {std::tuple{"rate-hz", &ComputedSpec::rateHz, slowestComputedHz, fastestComputedHz},
          std::tuple{"oldest-s", &ComputedSpec::oldestSeconds, 0.0, oldestInputSeconds}}) {
        c.*member = f.number(key, c.*member);
        if (!(c.*member >= low && c.*member <= high))
            f.complain(key, text("A number from {0} to {1} is expected here.", low, high));
    }
    return c;
}

}  // namespace

Json signalJson(const SignalSpec& s) {
    Json j;
    j["id"] = s.id;
    j["name"] = s.name;
    j["tag"] = s.tag;
    j["colour"] = s.colour;
    if (!s.computed) {
        j["device"] = s.device;
        j["terminal"] = s.terminal;
    }
    j["kind"] = channelKindName(s.kind);
    if (s.computed) j["computed"] = computedJson(*s.computed);
    if (s.range) j["range"] = scaleJson(*s.range);
    for (const auto& [key, value] : s.setup) {
        Json& place = j["setup"][key];
        std::visit([&place](const auto& v) { place = v; }, value);
    }
    if (!s.chain.empty()) j["chain"] = chainJson(s.chain);
    if (s.scale) j["scale"] = scaleJson(*s.scale);
    if (s.decimals) j["decimals"] = *s.decimals;
    if (s.limits.low || s.limits.high) {
        Json limits = Json::object();
        if (s.limits.low) limits["low"] = *s.limits.low;
        if (s.limits.high) limits["high"] = *s.limits.high;
        if (s.alarm) {
            limits["alarm"]["priority"] = s.alarm->priority;
            for (const auto& [key, v] :
                 {std::pair{"deadband", s.alarm->deadband}, std::pair{"on-delay-s", s.alarm->onDelay},
                  std::pair{"off-delay-s", s.alarm->offDelay}})
                if (v != 0) limits["alarm"][key] = v;
            if (s.alarm->suppress) limits["alarm"]["suppressed-while"] = conditionJson(*s.alarm->suppress);
        }
        j["limits"] = limits;
    }
    if (s.output)
        j["output"] = Json{
            {"low", s.output->low}, {"high", s.output->high}, {"start", s.output->start}, {"safe", s.output->safe}};
    if (s.output && s.output->onReturn != OutputSpec::OnReturn::safe)
        j["output"]["on-return"] = s.output->onReturn == OutputSpec::OnReturn::start ? "start" : "before";
    if (s.output && s.output->unit != OutputSpec{}.unit) j["output"]["unit"] = s.output->unit;
    if (s.agrees)
        j["agrees"] = Json{{"with", s.agrees->with}, {"within", s.agrees->within}, {"for-s", s.agrees->forSeconds}};
    if (!s.onWord.empty()) j["on"] = s.onWord;
    if (!s.offWord.empty()) j["off"] = s.offWord;
    if (s.keep != KeepSpec{}) j["keep"] = keepJson(s.keep);
    addExtra(j, s.extra);
    return j;
}

SignalSpec readSignal(const Json& json, const std::string& where, std::vector<Problem>& problems) {
    JsonFields f(json, where, problems);
    SignalSpec s;
    s.id = f.string("id", true);
    s.name = f.string("name", true);
    s.tag = f.string("tag");
    s.colour = f.integer("colour", 0, 0, 7);
    s.kind = f.choice<ChannelKind>("kind",
                                   {{"analog-input", ChannelKind::analogInput},
                                    {"digital-input", ChannelKind::digitalInput},
                                    {"counter-input", ChannelKind::counterInput},
                                    {"analog-output", ChannelKind::analogOutput},
                                    {"digital-output", ChannelKind::digitalOutput},
                                    {"computed", ChannelKind::computed}},
                                   ChannelKind::analogInput);
    s.device = f.string("device", s.kind != ChannelKind::computed);
    s.terminal = f.string("terminal", s.kind != ChannelKind::computed);
    if (s.kind == ChannelKind::computed) {
        for (const auto& [key, words] : {std::pair("device", &s.device), std::pair("terminal", &s.terminal)})
            if (!words->empty()) f.complain(key, text("A computed signal has no {0}.", key));
        const Json* computed = f.find("computed");
        s.computed = computed ? readComputed(*computed, where + "/computed", problems) : ComputedSpec{};
    }
    s.range = f.scale("range");
    if (const Json* setup = f.find("setup")) {
        if (!setup->is_object()) f.complain("setup", text("An object in braces is expected here."));
        for (const auto& [key, value] : setup->items()) {
            if (value.is_string())
                s.setup[key] = value.get<std::string>();
            else if (value.is_number())
                s.setup[key] = value.get<double>();
            else
                f.complain("setup/" + key, text("A word or a number is expected here."));
        }
    }
    s.chain = readChain(f, s.kind);
    s.scale = f.scale("scale");
    if (f.find("decimals")) s.decimals = f.integer("decimals", 0, 0, 9);
    if (const Json* limits = f.find("limits")) {
        JsonFields l(*limits, where + "/limits", problems);
        s.limits = {l.maybeNumber("low"), l.maybeNumber("high")};
        if (s.limits.low && s.limits.high && *s.limits.low >= *s.limits.high)
            l.complain("", text("The low limit must be less than the high one."));
        if (const Json* alarm = l.find("alarm")) {
            JsonFields a(*alarm, where + "/limits/alarm", problems);
            s.alarm = LimitAlarm{a.integer("priority", 2, 1, 3),
                                 a.number("deadband", 0),
                                 a.number("on-delay-s", 0),
                                 a.number("off-delay-s", 0),
                                 {}};
            if (const Json* suppress = a.find("suppressed-while"))
                s.alarm->suppress = readCondition(*suppress, where + "/limits/alarm/suppressed-while", problems);
            if (s.alarm->suppress && isMomentary(s.alarm->suppress->kind))
                a.complain("suppressed-while", text("This is over at once: it suppresses nothing."));
            constexpr double longest = 1e6;
            for (const auto& [key, v] :
                 {std::pair{"on-delay-s", s.alarm->onDelay}, std::pair{"off-delay-s", s.alarm->offDelay}})
                if (!(v >= 0 && v <= longest))
                    a.complain(key, text("A number of seconds from 0 to {0} is expected here.", longest));
            if (!(s.alarm->deadband >= 0)) a.complain("deadband", text("A number from 0 on is expected here."));
            if (s.isState()) a.complain("", text("A state has no limits: let a rule raise the alarm."));
        }
    }
    if (const Json* output = f.find("output")) {
        JsonFields o(*output, where + "/output", problems);
        s.output = OutputSpec{o.number("low", 0), o.number("high", isDigital(s.kind) ? 1 : 10), o.number("start", 0),
                              o.number("safe", 0)};
        using OnReturn = OutputSpec::OnReturn;
        s.output->onReturn = o.choice<OnReturn>(
            "on-return", {{"safe", OnReturn::safe}, {"start", OnReturn::start}, {"before", OnReturn::before}},
            OnReturn::safe);
        s.output->unit = o.string("unit", false, s.output->unit);
        if (!(s.output->low < s.output->high)) o.complain("", text("\"low\" must be less than \"high\"."));
        for (const auto& [key, v] : {std::pair("start", s.output->start), std::pair("safe", s.output->safe)})
            if (v < s.output->low || v > s.output->high)
                o.complain(key, text("This must lie between \"low\" and \"high\"."));
    }
    if (isOutput(s.kind) && !s.output) s.output = OutputSpec{0, isDigital(s.kind) ? 1.0 : 10.0, 0, 0};
    if (const Json* agrees = f.find("agrees")) {
        JsonFields a(*agrees, where + "/agrees", problems);
        s.agrees = AgreesSpec{a.string("with", true), a.neededNumber("within"), a.number("for-s", 1)};
        if (!(s.agrees->within > 0)) a.complain("within", text("A number above 0 is expected here."));
        constexpr double longestSeconds = 86400;
        if (!(s.agrees->forSeconds >= 0 && s.agrees->forSeconds <= longestSeconds))
            a.complain("for-s", text("A number from {0} to {1} is expected here.", 0, longestSeconds));
    }
    s.onWord = f.string("on");
    s.offWord = f.string("off");
    if (const Json* keep = f.find("keep")) s.keep = readKeep(*keep, where + "/keep", problems);
    s.extra = f.rest();
    return s;
}

std::string signalToJson(const SignalSpec& signal) {
    return jsonText(signalJson(signal));
}

Result<SignalSpec> signalFromJson(const std::string& json) {
    const Json j = parseOrderedJson(json);
    std::vector<Problem> problems;
    SignalSpec signal = readSignal(j, "", problems);
    if (!problems.empty()) return Error{Text(problems.front().english())};
    return signal;
}

}  // namespace cruscotto
