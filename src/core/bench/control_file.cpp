#include "core/bench/control_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/json_fields.h"

namespace cruscotto {

namespace {

using ControlJson = nlohmann::ordered_json;
using Shape = PlayedSpec::Shape;
constexpr double longestTime = 1e7;
constexpr std::initializer_list<std::pair<const char*, ControlKind>> kinds{{"two-point", ControlKind::twoPoint},
                                                                           {"pid", ControlKind::pid},
                                                                           {"follow", ControlKind::follow},
                                                                           {"play", ControlKind::play}};
constexpr std::initializer_list<std::pair<const char*, Shape>> shapes{
    {"steps", Shape::steps}, {"ramps", Shape::ramps}, {"sine", Shape::sine}, {"run", Shape::run}};

/// [[seconds, value], ...], ascending.
std::vector<std::pair<double, double>> readPoints(JsonFields& f, const std::string& key) {
    std::vector<std::pair<double, double>> out;
    f.list(key, mostPlayedPoints, [&](const ControlJson& p, const std::string& at) {
        if (!p.is_array() || p.size() != 2 || !p[0].is_number() || !p[1].is_number()) {
            f.problems().push_back({at, 0, text("Two numbers in brackets are expected here: seconds, and the value.")});
            return;
        }
        const std::pair point{p[0].get<double>(), p[1].get<double>()};
        if (point.first < 0 || point.first > longestTime || (!out.empty() && point.first <= out.back().first))
            f.problems().push_back({at, 0, text("Its time must be later than that of the point before it.")});
        out.push_back(point);
    });
    return out;
}

ControlJson pointsJson(const std::vector<std::pair<double, double>>& points) {
    ControlJson out = ControlJson::array();
    for (const auto& [t, v] : points) out.push_back({t, v});
    return out;
}

double within(JsonFields& f, const char* key, double otherwise, double low, double high) {
    const double v = f.number(key, otherwise);
    if (!(v >= low && v <= high))
        f.complain(key, text("A number from {0} to {1} is expected here.", shortNumber(low), shortNumber(high)));
    return v;
}

PlayedSpec readPlayed(JsonFields& f) {
    PlayedSpec p;
    p.shape = f.choice("shape", shapes, Shape::steps);
    p.times = f.integer("times", 1, 0, 1'000'000);
    if (p.shape == Shape::steps || p.shape == Shape::ramps) {
        p.points = readPoints(f, "points");
        if (p.points.empty()) f.complain("points", text("At least one point is expected here."));
        p.lasts = within(f, "lasts-s", 0, 0, longestTime);
        if (p.lasts > 0 && !p.points.empty() && p.lasts < p.points.back().first)
            f.complain("lasts-s", text("Its last point comes later than that."));
        if (p.times != 1 && p.lasts == 0 && (p.points.empty() || p.points.back().first <= 0))
            f.complain("lasts-s", text("Say how long it lasts, since it is to be repeated."));
    } else if (p.shape == Shape::sine) {
        p.mean = f.neededNumber("mean");
        p.amplitude = f.neededNumber("amplitude");
        p.hertz = within(f, "hertz", 1, 1e-6, 1000);
    } else {
        p.run = f.string("run", true);
        p.signal = f.string("run-signal", true);
        p.from = within(f, "from-s", 0, 0, 1e9);
        p.to = within(f, "to-s", 0, 0, 1e9);
        p.speed = within(f, "speed", 1, 0.001, 1000);
        if (!(p.to > p.from)) f.complain("to-s", text("This must be more than \"from-s\"."));
    }
    return p;
}

void addPlayed(ControlJson& j, const PlayedSpec& p) {
    for (const auto& [name, shape] : shapes)
        if (shape == p.shape) j["shape"] = name;
    if (p.shape == Shape::sine) {
        j["mean"] = p.mean;
        j["amplitude"] = p.amplitude;
        j["hertz"] = p.hertz;
    } else if (p.shape == Shape::run) {
        j["run"] = p.run;
        j["run-signal"] = p.signal;
        j["from-s"] = p.from;
        j["to-s"] = p.to;
        if (p.speed != 1) j["speed"] = p.speed;
    } else {
        j["points"] = pointsJson(p.points);
        if (p.lasts > 0) j["lasts-s"] = p.lasts;
    }
    if (p.times != 1) j["times"] = p.times;
}

}  // namespace

ControlSpec readControl(const ControlJson& json, const std::string& where, std::vector<Problem>& problems) {
    JsonFields f(json, where, problems);
    ControlSpec c;
    c.id = f.string("id", true);
    c.name = f.string("name", false, c.id);
    if (f.find("enabled")) c.enabled = f.flag("enabled");
    c.output = f.string("output", true);
    if (f.string("by", true).empty()) return c;
    c.kind = f.choice("by", kinds, ControlKind::twoPoint);
    if (c.kind != ControlKind::play) c.signal = f.string("signal", true);
    if (c.kind == ControlKind::twoPoint || c.kind == ControlKind::pid) {
        c.setpointFrom = f.string("setpoint-from");
        c.profile = readPoints(f, "profile");
        if (c.setpointFrom.empty() && c.profile.empty()) c.setpoint = f.neededNumber("setpoint");
        c.unit = f.string("unit");
        c.reverse = f.flag("reverse");
        c.everySeconds = within(f, "every-s", 0.05, leastEvery, mostEvery);
    }
    if (c.kind == ControlKind::twoPoint) {
        c.hysteresis = within(f, "hysteresis", 0, 0, 1e300);
        c.leastOn = within(f, "least-on-s", 0, 0, longestTime);
        c.leastOff = within(f, "least-off-s", 0, 0, longestTime);
        c.onValue = f.number("on-value", 1);
        c.offValue = f.number("off-value", 0);
        if (c.onValue == c.offValue) f.complain("on-value", text("It is the same as \"off-value\"."));
        c.readBack = f.string("read-back");
        c.readBackWithin = within(f, "read-back-within-s", 1, 0.001, longestTime);
    } else if (c.kind == ControlKind::pid) {
        c.gain = within(f, "gain", 1, 1e-12, 1e12);
        c.integralSeconds = within(f, "integral-s", 0, 0, longestTime);
        c.derivativeSeconds = within(f, "derivative-s", 0, 0, longestTime);
        c.low = f.number("low", c.low);
        c.high = f.number("high", c.high);
        if (c.low >= c.high) f.complain("high", text("This must be more than \"low\"."));
        c.slew = within(f, "slew-per-s", 0, 0, 1e300);
    } else if (c.kind == ControlKind::follow) {
        c.factor = f.number("factor", 1);
        c.offset = f.number("offset", 0);
        c.inverted = f.flag("inverted");
        c.delaySeconds = within(f, "delay-s", 0, 0, longestDelay);
    } else {
        c.played = readPlayed(f);
        c.everySeconds = within(f, "every-s", 0.01, leastEvery, mostEvery);
    }
    c.extra = f.rest();
    return c;
}

ControlJson controlJson(const ControlSpec& c) {
    ControlJson j;
    j["id"] = c.id;
    j["name"] = c.name;
    if (!c.enabled) j["enabled"] = false;
    j["output"] = c.output;
    j["by"] = controlName(c.kind);
    if (!c.signal.empty()) j["signal"] = c.signal;
    const auto unless = [&](const char* key, double v, double otherwise) {
        if (v != otherwise) j[key] = v;
    };
    if (c.kind == ControlKind::twoPoint || c.kind == ControlKind::pid) {
        if (!c.setpointFrom.empty())
            j["setpoint-from"] = c.setpointFrom;
        else if (!c.profile.empty())
            j["profile"] = pointsJson(c.profile);
        else
            j["setpoint"] = c.setpoint;
        if (!c.unit.empty()) j["unit"] = c.unit;
        if (c.reverse) j["reverse"] = true;
    }
    if (c.kind == ControlKind::twoPoint) {
        unless("hysteresis", c.hysteresis, 0);
        unless("least-on-s", c.leastOn, 0);
        unless("least-off-s", c.leastOff, 0);
        unless("on-value", c.onValue, 1);
        unless("off-value", c.offValue, 0);
        if (!c.readBack.empty()) {
            j["read-back"] = c.readBack;
            j["read-back-within-s"] = c.readBackWithin;
        }
        unless("every-s", c.everySeconds, 0.05);
    } else if (c.kind == ControlKind::pid) {
        j["gain"] = c.gain;
        j["integral-s"] = c.integralSeconds;
        unless("derivative-s", c.derivativeSeconds, 0);
        if (std::isfinite(c.low)) j["low"] = c.low;
        if (std::isfinite(c.high)) j["high"] = c.high;
        unless("slew-per-s", c.slew, 0);
        unless("every-s", c.everySeconds, 0.05);
    } else if (c.kind == ControlKind::follow) {
        unless("factor", c.factor, 1);
        unless("offset", c.offset, 0);
        if (c.inverted) j["inverted"] = true;
        unless("delay-s", c.delaySeconds, 0);
    } else {
        addPlayed(j, c.played);
        unless("every-s", c.everySeconds, 0.01);
    }
    addExtra(j, c.extra);
    return j;
}

std::string controlToText(const ControlSpec& control) {
    return jsonText(controlJson(control), 2);
}

Result<ControlSpec> controlFromText(const Bench& bench, const std::string& words) {
    JsonFault fault;
    const ControlJson json = parseOrderedJson(words, &fault);
    if (json.is_discarded()) return failure("This does not read: {0}", fault.words);
    std::vector<Problem> problems;
    ControlSpec control = readControl(json, "", problems);
    if (problems.empty()) checkControls(withControl(bench, control), problems);
    if (!problems.empty()) return Error{text("{0}: {1}", problems.front().where, problems.front().message.english())};
    return control;
}

void checkControls(const Bench& bench, std::vector<Problem>& problems) {
    std::set<std::string> ids, outputs;
    for (std::size_t i = 0; i < bench.controls.size(); ++i) {
        const ControlSpec& c = *bench.controls[i];
        const auto complain = [&](const char* key, Text words) {
            problems.push_back({"/controls/" + std::to_string(i) + "/" + key, 0, std::move(words)});
        };
        if (!ids.insert(c.id).second) complain("id", text("There are two of this id."));
        if (bench.rule(c.id)) complain("id", text("A rule has this id already."));
        const SignalSpec* output = bench.signal(c.output);
        if (!output || !output->output) {
            complain("output", text("There is no output \"{0}\".", c.output));
            continue;
        }
        if (c.enabled && !outputs.insert(c.output).second)
            complain("output", text("{0} has a control already: switch one of them off.", output->name));
        const bool digital = isDigital(output->kind);
        const double low = digital ? 0 : output->output->low, high = digital ? 1 : output->output->high;
        const SignalSpec* s = bench.signal(c.signal);
        if (c.kind != ControlKind::play && !s) complain("signal", text("There is no signal \"{0}\".", c.signal));
        if (s && s->id == output->id) complain("signal", text("An output cannot follow itself."));
        if (s && c.kind != ControlKind::follow && s->isState())
            complain("signal", text("{0} is on or off: it cannot be brought to a number.", s->name));
        if (s && c.kind == ControlKind::follow && s->isState() != digital)
            complain("signal", digital ? text("{0} reads numbers: an output that is on or off cannot follow it. A rule "
                                              "can.",
                                              s->name)
                                       : text("{0} is on or off: let a rule decide.", s->name));
        if (c.kind == ControlKind::pid && digital)
            complain("output", text("{0} is on or off: it takes a control by two points.", output->name));
        if (c.kind == ControlKind::twoPoint)
            for (const auto& [key, v] : {std::pair{"on-value", c.onValue}, std::pair{"off-value", c.offValue}})
                if (!(v >= low && v <= high))
                    complain(key,
                             text("{0} may be from {1} to {2}.", output->name, shortNumber(low), shortNumber(high)));
        if (s && !c.unit.empty() && c.unit != s->unit() && !convertUnit(c.unit, s->unit()))
            complain("unit", text("{0} reads in {1}, which is no unit of the same kind.", s->name, s->unit()));
        if (!c.setpointFrom.empty()) {
            const SignalSpec* from = bench.signal(c.setpointFrom);
            if (!from)
                complain("setpoint-from", text("There is no signal \"{0}\".", c.setpointFrom));
            else if (s && from->unit() != s->unit())
                complain("setpoint-from", text("{0} reads in {1}, {2} in {3}.", from->name, unitText(from->unit()),
                                               s->name, unitText(s->unit())));
        }
        if (!c.readBack.empty()) {
            const SignalSpec* back = bench.signal(c.readBack);
            if (!back || !back->isState()) complain("read-back", text("There is no state \"{0}\".", c.readBack));
        }
        if (c.kind == ControlKind::play)
            for (const auto& [t, v] : c.played.points)
                if (!(v >= low && v <= high)) {
                    complain("points",
                             text("{0} may be from {1} to {2}.", output->name, shortNumber(low), shortNumber(high)));
                    break;
                }
    }
}

std::string controlSentence(const Bench& bench, const ControlSpec& c) {
    const auto nameOf = [&](const std::string& id) { return bench.signal(id) ? bench.signal(id)->name : id; };
    const SignalSpec *s = bench.signal(c.signal), *o = bench.signal(c.output);
    const auto with = [&](double v, const SignalSpec* of) {
        const std::string unit = of == s && !c.unit.empty() ? unitText(c.unit) : of ? unitText(of->unit()) : "";
        return shortNumber(v) + (unit.empty() || unit == "1" ? "" : " " + unit);
    };
    const std::string output = nameOf(c.output);
    const std::string target = !c.setpointFrom.empty() ? "what " + nameOf(c.setpointFrom) + " says"
                               : !c.profile.empty()    ? fmt::format("a profile of {} points", c.profile.size())
                                                       : with(c.setpoint, s);
    switch (c.kind) {
        case ControlKind::twoPoint: {
            std::string out =
                fmt::format("{} is switched {} while {} is {} {}", output, c.onValue > c.offValue ? "on" : "over",
                            nameOf(c.signal), c.reverse ? "above" : "below", target);
            if (c.hysteresis > 0) out += ", with " + with(c.hysteresis, s) + " between on and off";
            if (c.leastOn > 0) out += ", on for " + shortNumber(c.leastOn) + " s at least";
            if (c.leastOff > 0) out += ", off for " + shortNumber(c.leastOff) + " s at least";
            if (!c.readBack.empty())
                out += "; " + nameOf(c.readBack) + " must follow within " + shortNumber(c.readBackWithin) + " s";
            return out + ".";
        }
        case ControlKind::pid: {
            std::string out =
                fmt::format("{} brings {} to {}: gain {}", output, nameOf(c.signal), target, shortNumber(c.gain));
            if (c.integralSeconds > 0) out += ", integral over " + shortNumber(c.integralSeconds) + " s";
            if (c.derivativeSeconds > 0) out += ", derivative over " + shortNumber(c.derivativeSeconds) + " s";
            if (c.slew > 0) out += ", by " + with(c.slew, o) + " a second at most";
            return out + ".";
        }
        case ControlKind::follow: {
            std::string out = output + (c.inverted ? " is the opposite of " : " follows ") + nameOf(c.signal);
            if (c.factor != 1) out += " times " + shortNumber(c.factor);
            if (c.offset != 0) out += " plus " + with(c.offset, o);
            if (c.delaySeconds > 0) out += ", " + shortNumber(c.delaySeconds) + " s later";
            return out + ".";
        }
        default: {
            const PlayedSpec& p = c.played;
            const std::string times = p.times == 0   ? ", again and again"
                                      : p.times == 1 ? std::string()
                                                     : fmt::format(", {} times", p.times);
            if (p.shape == Shape::sine)
                return fmt::format("{} is a sine of {} Hz around {}, {} to either side{}.", output,
                                   shortNumber(p.hertz), with(p.mean, o), with(p.amplitude, o), times);
            if (p.shape == Shape::run)
                return fmt::format("{} is what {} was in {}, from {} s to {} s{}{}.", output, p.signal, p.run,
                                   shortNumber(p.from), shortNumber(p.to),
                                   p.speed != 1 ? ", " + shortNumber(p.speed) + " times as fast" : "", times);
            return fmt::format("{} goes through {} points in {} s{}{}.", output, p.points.size(),
                               shortNumber(p.lasts > 0        ? p.lasts
                                           : p.points.empty() ? 0
                                                              : p.points.back().first),
                               p.shape == Shape::ramps ? ", in straight lines" : "", times);
        }
    }
}

ControlSpec controlAsRead(const Bench& bench, ControlSpec c) {
    const SignalSpec* s = bench.signal(c.signal);
    if (!s || c.unit.empty() || c.unit == s->unit()) return c;
    const auto in = convertUnit(c.unit, s->unit());
    if (!in) return c;
    c.setpoint = c.setpoint * in->factor + in->offset;
    for (auto& [t, v] : c.profile) v = v * in->factor + in->offset;
    c.hysteresis *= std::fabs(in->factor);
    c.gain /= std::fabs(in->factor);
    c.unit = s->unit();
    return c;
}

Bench withControl(Bench bench, ControlSpec control) {
    const auto it = std::ranges::find_if(bench.controls, [&](const auto& c) { return c->id == control.id; });
    auto made = std::make_shared<const ControlSpec>(std::move(control));
    if (it == bench.controls.end())
        bench.controls.push_back(std::move(made));
    else
        *it = std::move(made);
    return bench;
}

Bench withoutControl(Bench bench, const std::string& id) {
    std::erase_if(bench.controls, [&](const auto& c) { return c->id == id; });
    return bench;
}

Bench withoutControlsOf(Bench bench, const std::string& id) {
    std::erase_if(bench.controls, [&](const auto& c) {
        return c->output == id || c->signal == id || c->setpointFrom == id || c->readBack == id;
    });
    return bench;
}

}  // namespace cruscotto
