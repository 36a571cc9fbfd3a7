// Reads and writes the bench file. The format is documented in docs/bench-format.md; change both together.
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdio>
#include <fstream>
#include <limits>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>

#include "core/bench.h"
#include "core/json_text.h"
#include "core/run_format.h"
#include "core/run_name.h"

namespace cruscotto {

using Json = nlohmann::ordered_json;

namespace {

constexpr int formatVersion = 1;
constexpr const char* formatName = "cruscotto-bench";
constexpr std::size_t largestFile = 64U << 20;

constexpr std::array tileNames{"dial", "column", "number", "state", "trace", "control"};

/// Line of the value that a JSON pointer names, in text that is known to be valid JSON; 0 if it is not there.
class LineFinder {
public:
    explicit LineFinder(const std::string& text) : text_(text) {}
    int find(const std::string& pointer) {
        at_ = 0;
        wanted_ = pointer;
        found_ = 0;
        value("");
        return found_;
    }

private:
    void space() {
        while (at_ < text_.size() && std::string_view(" \t\r\n").find(text_[at_]) != std::string_view::npos) ++at_;
    }
    std::string string() {
        const std::size_t begin = at_++;
        while (at_ < text_.size() && text_[at_] != '"') at_ += text_[at_] == '\\' ? 2 : 1;
        ++at_;
        return text_.substr(begin, at_ - begin);
    }
    void value(const std::string& path) {
        space();
        if (path == wanted_ && !found_)
            found_ =
                1 + static_cast<int>(std::count(text_.begin(), text_.begin() + static_cast<std::ptrdiff_t>(at_), '\n'));
        if (found_ || at_ >= text_.size()) return;
        const char c = text_[at_];
        if (c == '"') {
            string();
        } else if (c == '{' || c == '[') {
            ++at_;
            for (std::size_t i = 0; !found_; ++i) {
                space();
                if (at_ >= text_.size() || text_[at_] == '}' || text_[at_] == ']') break;
                std::string key = std::to_string(i);
                if (c == '{') {
                    key = Json::parse(string(), nullptr, false).get<std::string>();
                    space();
                    ++at_;  // the colon
                }
                value(path + "/" + key);
                space();
                if (at_ < text_.size() && text_[at_] == ',') ++at_;
            }
            ++at_;
        } else {
            while (at_ < text_.size() && std::string_view(",]} \t\r\n").find(text_[at_]) == std::string_view::npos)
                ++at_;
        }
    }
    const std::string& text_;
    std::string wanted_;
    std::size_t at_ = 0;
    int found_ = 0;
};

std::string dumped(const Json& json) {
    return jsonText(json);
}

/// Reads the keys of one JSON object, notes what is wrong and what was not asked for.
class Fields {
public:
    Fields(const Json& json, std::string where, std::vector<Problem>& problems)
        : json_(json), where_(std::move(where)), problems_(problems) {
        if (!json_.is_object()) complain("", text("An object in braces is expected here, not {0}.", json_.type_name()));
    }
    void complain(const std::string& key, Text message) {
        problems_.push_back({key.empty() ? where_ : where_ + "/" + key, 0, std::move(message)});
    }
    const Json* find(const std::string& key) {
        seen_.insert(key);
        if (!json_.is_object()) return nullptr;
        const auto it = json_.find(key);
        return it == json_.end() || it->is_null() ? nullptr : &*it;
    }
    std::string string(const std::string& key, bool needed = false, std::string otherwise = {}) {
        const Json* v = find(key);
        if (!v) {
            if (needed) complain("", text("\"{0}\" is missing. Add it.", key));
            return otherwise;
        }
        if (!v->is_string()) {
            complain(key, text("Text in quotes is expected here, not {0}.", v->type_name()));
            return otherwise;
        }
        if (needed && v->get_ref<const std::string&>().empty()) complain(key, text("This must not be empty."));
        return v->get<std::string>();
    }
    std::optional<double> maybeNumber(const std::string& key) {
        const Json* v = find(key);
        if (!v) return std::nullopt;
        if (!v->is_number()) {
            complain(key, text("A number is expected here, not {0}.", v->type_name()));
            return std::nullopt;
        }
        return v->get<double>();
    }
    double number(const std::string& key, double otherwise) { return maybeNumber(key).value_or(otherwise); }
    double neededNumber(const std::string& key) {
        if (!find(key)) complain("", text("\"{0}\" is missing. Add a number.", key));
        return maybeNumber(key).value_or(0);
    }
    int integer(const std::string& key, int otherwise, int low, int high) {
        const double v = number(key, otherwise);
        if (!(v >= low && v <= high) || v != std::floor(v)) {
            complain(key, text("A whole number from {0} to {1} is expected here.", low, high));
            return otherwise;
        }
        return static_cast<int>(v);
    }
    template <class Each>
    void list(const std::string& key, Each&& each) {
        const Json* v = find(key);
        if (!v) return;
        if (!v->is_array()) {
            complain(key, text("A list in brackets is expected here, not {0}.", v->type_name()));
            return;
        }
        for (std::size_t i = 0; i < v->size(); ++i) each((*v)[i], where_ + "/" + key + "/" + std::to_string(i));
    }
    template <class Choice>
    Choice choice(const std::string& key, std::initializer_list<std::pair<const char*, Choice>> choices,
                  Choice otherwise) {
        const std::string word = string(key);
        if (word.empty()) return otherwise;
        std::string all;
        for (const auto& [name, value] : choices) {
            if (word == name) return value;
            all += (all.empty() ? "" : ", ") + std::string(name);
        }
        complain(key, text("\"{0}\" is not known here. Use one of: {1}.", word, all));
        return otherwise;
    }
    std::optional<Scale> scale(const std::string& key) {
        const Json* v = find(key);
        if (!v) return std::nullopt;
        Fields f(*v, where_ + "/" + key, problems_);
        const Scale s{f.neededNumber("low"), f.neededNumber("high")};
        if (!(s.low < s.high)) f.complain("", text("\"low\" must be less than \"high\"."));
        return s;
    }
    /// What has not been asked for, to be written back as it was.
    JsonText rest() const {
        if (!json_.is_object()) return {};
        Json out = Json::object();
        for (const auto& [key, v] : json_.items())
            if (!seen_.contains(key)) out[key] = v;
        return out.empty() ? JsonText{} : dumped(out);
    }
    [[nodiscard]] const std::string& where() const { return where_; }
    [[nodiscard]] std::vector<Problem>& problems() { return problems_; }

private:
    const Json& json_;
    std::string where_;
    std::vector<Problem>& problems_;
    std::set<std::string> seen_;
};

void addExtra(Json& out, const JsonText& extra) {
    if (extra.empty()) return;
    const Json more = parseOrderedJson(extra);
    if (more.is_object())
        for (const auto& [key, v] : more.items()) out[key] = v;
}

Json scaleJson(const Scale& s) {
    return Json{{"low", s.low}, {"high", s.high}};
}

// ---- stages

Json stageJson(const Stage& stage) {
    Json j;
    j["stage"] = stageKey(stage);
    if (const auto* s = std::get_if<CountsToVolts>(&stage)) {
        j["bits"] = s->bits;
        j["low"] = s->low;
        j["high"] = s->high;
        j["coding"] = s->coding == CountsToVolts::Coding::unipolar ? "unipolar" : "twos-complement";
    } else if (const auto* line = std::get_if<SlopeOffset>(&stage)) {
        j["slope"] = line->slope;
        j["offset"] = line->offset;
        j["unit"] = line->unit;
    } else if (const auto* points = std::get_if<TwoPoints>(&stage)) {
        j["x1"] = points->x1;
        j["y1"] = points->y1;
        j["x2"] = points->x2;
        j["y2"] = points->y2;
        j["unit"] = points->unit;
        if (!points->note.empty()) j["note"] = points->note;
    } else if (const auto* formula = std::get_if<Formula>(&stage)) {
        j["formula"] = formula->text;
        j["unit"] = formula->unit;
    } else if (const auto* mean = std::get_if<MovingMean>(&stage)) {
        j["samples"] = mean->samples;
    } else if (const auto* convert = std::get_if<ConvertUnit>(&stage)) {
        j["unit"] = convert->unit;
    } else if (const auto* valid = std::get_if<ValidRange>(&stage)) {
        j["low"] = valid->low;
        j["high"] = valid->high;
    } else if (const auto* counter = std::get_if<PulseCounter>(&stage)) {
        constexpr std::array modes{"frequency", "rpm", "count"};
        j["mode"] = modes.at(static_cast<std::size_t>(counter->mode));
        j["pulses-per-turn"] = counter->pulsesPerTurn;
        j["silence-s"] = counter->silenceSeconds;
        j["gate-s"] = counter->gateSeconds;
    }
    return j;
}

std::optional<Stage> readStage(const Json& json, const std::string& where, const std::string& unitBefore,
                               std::vector<Problem>& problems) {
    const std::size_t before = problems.size();
    Fields f(json, where, problems);
    const std::string key = f.string("stage", true);
    const auto unit = [&] { return f.string("unit", false, "1"); };
    Stage stage;
    if (key == "counts-to-volts") {
        using Coding = CountsToVolts::Coding;
        stage = CountsToVolts{
            f.integer("bits", 16, 1, 32), f.neededNumber("low"), f.neededNumber("high"),
            f.choice<Coding>("coding", {{"twos-complement", Coding::twosComplement}, {"unipolar", Coding::unipolar}},
                             Coding::twosComplement)};
    } else if (key == "slope-offset") {
        stage = SlopeOffset{f.neededNumber("slope"), f.number("offset", 0), unit()};
    } else if (key == "two-points") {
        stage =
            TwoPoints{f.neededNumber("x1"), f.neededNumber("y1"), f.neededNumber("x2"), f.neededNumber("y2"), unit(),
                      f.string("note")};
    } else if (key == "formula") {
        stage = Formula{f.string("formula", true), unit()};
    } else if (key == "moving-mean") {
        stage = MovingMean{f.integer("samples", 10, 1, 1'000'000)};
    } else if (key == "convert-unit") {
        stage = ConvertUnit{f.string("unit", true)};
    } else if (key == "valid-range") {
        stage = ValidRange{f.neededNumber("low"), f.neededNumber("high")};
    } else if (key == "invert") {
        stage = Invert{};
    } else if (key == "pulse-counter") {
        using Mode = PulseCounter::Mode;
        stage = PulseCounter{
            f.choice<Mode>("mode", {{"frequency", Mode::frequency}, {"rpm", Mode::rpm}, {"count", Mode::count}},
                           Mode::frequency),
            f.number("pulses-per-turn", 1), f.number("silence-s", 2), f.number("gate-s", 0.25)};
    } else {
        if (problems.size() == before)
            f.complain(
                "stage",
                text(
                    "There is no stage \"{0}\". Use counts-to-volts, pulse-counter, invert, moving-mean, slope-offset, "
                    "two-points, formula, convert-unit or valid-range.",
                    key));
        return std::nullopt;
    }
    if (problems.size() != before) return std::nullopt;
    if (auto checked = checkStage(stage, unitBefore); !checked) {
        f.complain("", checked.error().message);
        return std::nullopt;
    }
    return stage;
}

ChainSpec readChain(Fields& f, ChannelKind kind) {
    ChainSpec chain;
    std::string unit = rawUnit(kind);
    f.list("chain", [&](const Json& j, const std::string& where) {
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

// ---- parts

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
    if (keep.asReadings) j["as"] = "reading";
    return j;
}

KeepSpec readKeep(const Json& json, const std::string& where, std::vector<Problem>& problems) {
    Fields f(json, where, problems);
    KeepSpec keep;
    keep.what = f.choice<KeepSpec::What>("what",
                                         {{keepNames[0], KeepSpec::What::everything},
                                          {keepNames[1], KeepSpec::What::oneInN},
                                          {keepNames[2], KeepSpec::What::summary},
                                          {keepNames[3], KeepSpec::What::changes}},
                                         KeepSpec::What::everything);
    keep.every = f.integer("every", keep.every, 1, 1'000'000);
    keep.asReadings = f.choice<bool>("as", {{"raw", false}, {"reading", true}}, false);
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

Json signalJson(const SignalSpec& s) {
    Json j;
    j["id"] = s.id;
    j["name"] = s.name;
    j["tag"] = s.tag;
    j["colour"] = s.colour;
    j["device"] = s.device;
    j["terminal"] = s.terminal;
    j["kind"] = channelKindName(s.kind);
    if (s.range) j["range"] = scaleJson(*s.range);
    if (!s.chain.empty()) j["chain"] = chainJson(s.chain);
    if (s.scale) j["scale"] = scaleJson(*s.scale);
    if (s.limits.low || s.limits.high) {
        Json limits = Json::object();
        if (s.limits.low) limits["low"] = *s.limits.low;
        if (s.limits.high) limits["high"] = *s.limits.high;
        j["limits"] = limits;
    }
    if (s.output)
        j["output"] = Json{
            {"low", s.output->low}, {"high", s.output->high}, {"start", s.output->start}, {"safe", s.output->safe}};
    if (s.output && s.output->onReturn != OutputSpec::OnReturn::safe)
        j["output"]["on-return"] = s.output->onReturn == OutputSpec::OnReturn::start ? "start" : "before";
    if (!s.onWord.empty()) j["on"] = s.onWord;
    if (!s.offWord.empty()) j["off"] = s.offWord;
    if (s.keep != KeepSpec{}) j["keep"] = keepJson(s.keep);
    addExtra(j, s.extra);
    return j;
}

SignalSpec readSignal(const Json& json, const std::string& where, std::vector<Problem>& problems) {
    Fields f(json, where, problems);
    SignalSpec s;
    s.id = f.string("id", true);
    s.name = f.string("name", true);
    s.tag = f.string("tag");
    s.colour = f.integer("colour", 0, 0, 7);
    s.device = f.string("device", true);
    s.terminal = f.string("terminal", true);
    s.kind = f.choice<ChannelKind>("kind",
                                   {{"analog-input", ChannelKind::analogInput},
                                    {"digital-input", ChannelKind::digitalInput},
                                    {"counter-input", ChannelKind::counterInput},
                                    {"analog-output", ChannelKind::analogOutput},
                                    {"digital-output", ChannelKind::digitalOutput}},
                                   ChannelKind::analogInput);
    s.range = f.scale("range");
    s.chain = readChain(f, s.kind);
    s.scale = f.scale("scale");
    if (const Json* limits = f.find("limits")) {
        Fields l(*limits, where + "/limits", problems);
        s.limits = {l.maybeNumber("low"), l.maybeNumber("high")};
        if (s.limits.low && s.limits.high && *s.limits.low >= *s.limits.high)
            l.complain("", text("The low limit must be less than the high one."));
    }
    if (const Json* output = f.find("output")) {
        Fields o(*output, where + "/output", problems);
        s.output = OutputSpec{o.number("low", 0), o.number("high", isDigital(s.kind) ? 1 : 10), o.number("start", 0),
                              o.number("safe", 0)};
        using OnReturn = OutputSpec::OnReturn;
        s.output->onReturn = o.choice<OnReturn>(
            "on-return", {{"safe", OnReturn::safe}, {"start", OnReturn::start}, {"before", OnReturn::before}},
            OnReturn::safe);
        if (!(s.output->low < s.output->high)) o.complain("", text("\"low\" must be less than \"high\"."));
        for (const auto& [key, v] : {std::pair("start", s.output->start), std::pair("safe", s.output->safe)})
            if (v < s.output->low || v > s.output->high)
                o.complain(key, text("This must lie between \"low\" and \"high\"."));
    }
    if (isOutput(s.kind) && !s.output) s.output = OutputSpec{0, isDigital(s.kind) ? 1.0 : 10.0, 0, 0};
    s.onWord = f.string("on");
    s.offWord = f.string("off");
    if (const Json* keep = f.find("keep")) s.keep = readKeep(*keep, where + "/keep", problems);
    s.extra = f.rest();
    return s;
}

TileSpec readTile(const Json& json, const std::string& where, std::vector<Problem>& problems) {
    Fields f(json, where, problems);
    TileSpec t;
    t.id = f.string("id", true);
    t.kind = f.choice<TileKind>("kind",
                                {{"dial", TileKind::dial},
                                 {"column", TileKind::column},
                                 {"number", TileKind::number},
                                 {"state", TileKind::state},
                                 {"trace", TileKind::trace},
                                 {"control", TileKind::control}},
                                TileKind::number);
    t.w = f.integer("w", 3, 1, pageColumns);
    t.h = f.integer("h", 2, 1, 100);
    t.x = f.integer("x", 0, 0, pageColumns - t.w);
    t.y = f.integer("y", 0, 0, 10'000);
    f.list("signals", [&](const Json& j, const std::string& at) {
        if (j.is_string())
            t.signals.push_back(j.get<std::string>());
        else
            problems.push_back({at, 0, text("The id of a signal is expected here, in quotes.")});
    });
    if (t.signals.empty()) f.complain("", text("A tile needs at least one signal in \"signals\"."));
    if (const Json* scales = f.find("scales")) {
        Fields s(*scales, where + "/scales", problems);
        if (scales->is_object())
            for (const auto& [unit, v] : scales->items())
                if (const auto scale = s.scale(unit)) t.scales[unit] = *scale;
    }
    t.extra = f.rest();
    return t;
}

Json tileJson(const TileSpec& t) {
    Json j;
    j["id"] = t.id;
    j["kind"] = tileKindName(t.kind);
    j["x"] = t.x;
    j["y"] = t.y;
    j["w"] = t.w;
    j["h"] = t.h;
    j["signals"] = t.signals;
    if (!t.scales.empty()) {
        Json scales = Json::object();
        for (const auto& [unit, s] : t.scales) scales[unit] = scaleJson(s);
        j["scales"] = scales;
    }
    addExtra(j, t.extra);
    return j;
}

void checkReferences(const Bench& bench, std::vector<Problem>& problems) {
    const auto unique = [&](const auto& parts, const char* list) {
        std::set<std::string> seen;
        for (std::size_t i = 0; i < parts.size(); ++i)
            if (!seen.insert(parts[i]->id).second)
                problems.push_back({"/" + std::string(list) + "/" + std::to_string(i) + "/id", 0,
                                    text("The id \"{0}\" is used twice. Give this one another.", parts[i]->id)});
        return seen;
    };
    const auto devices = unique(bench.devices, "devices");
    const auto signals = unique(bench.signals, "signals");
    unique(bench.pages, "pages");
    std::set<std::string> terminals;
    for (std::size_t i = 0; i < bench.signals.size(); ++i) {
        const SignalSpec& s = *bench.signals[i];
        const std::string where = "/signals/" + std::to_string(i);
        if (!devices.contains(s.device))
            problems.push_back({where + "/device", 0, text("There is no device \"{0}\" in this bench.", s.device)});
        if (isOutput(s.kind) && !terminals.insert(s.device + "\n" + s.terminal).second)
            problems.push_back({where + "/terminal", 0, text("{0} is driven by another signal already.", s.terminal)});
    }
    for (std::size_t p = 0; p < bench.pages.size(); ++p) {
        std::set<std::string> tiles;
        for (std::size_t i = 0; i < bench.pages[p]->tiles.size(); ++i) {
            const TileSpec& tile = bench.pages[p]->tiles[i];
            const std::string where = "/pages/" + std::to_string(p) + "/tiles/" + std::to_string(i);
            if (!tiles.insert(tile.id).second)
                problems.push_back(
                    {where + "/id", 0, text("The id \"{0}\" is used twice. Give this one another.", tile.id)});
            for (std::size_t k = 0; k < tile.signals.size(); ++k)
                if (!signals.contains(tile.signals[k]))
                    problems.push_back({where + "/signals/" + std::to_string(k), 0,
                                        text("There is no signal \"{0}\" in this bench.", tile.signals[k])});
        }
    }
}

}  // namespace

const char* tileKindName(TileKind kind) {
    return tileNames.at(static_cast<std::size_t>(kind));
}

std::string Problem::english() const {
    std::string out;
    if (line > 0) out += "line " + std::to_string(line);
    if (!where.empty()) out += (out.empty() ? "" : ", ") + where;
    return out.empty() ? message.english() : out + ": " + message.english();
}

BenchReading readBench(const std::string& fileText) {
    BenchReading out;
    const auto refuse = [&](int line, Text message) {
        out.problems.push_back({"", line, std::move(message)});
        return out;
    };
    if (fileText.size() > largestFile)
        return refuse(0, text("The file is larger than 64 MiB; a bench never is. Is it a recording?"));
    // A bench is six levels deep; a file made of brackets must not exhaust the stack.
    int depth = 0, deepest = 0;
    bool quoted = false;
    for (std::size_t i = 0; i < fileText.size(); ++i) {
        const char c = fileText[i];
        if (quoted && c == '\\')
            ++i;
        else if (c == '"')
            quoted = !quoted;
        else if (!quoted && (c == '{' || c == '['))
            deepest = std::max(deepest, ++depth);
        else if (!quoted && (c == '}' || c == ']'))
            --depth;
    }
    if (deepest > 200) return refuse(0, text("The file is nested {0} levels deep; a bench never is.", deepest));
    JsonFault fault;
    const Json json = parseOrderedJson(fileText, &fault);
    if (json.is_discarded()) {
        if (!fault.byte) return refuse(0, text("The file cannot be read: {0}.", fault.words));
        const std::size_t byte = std::min(*fault.byte, fileText.size());
        const int line = 1 + static_cast<int>(std::count(fileText.begin(),
                                                         fileText.begin() + static_cast<std::ptrdiff_t>(byte), '\n'));
        return refuse(line,
                      text("This is not JSON from here on. Look for a missing comma, quote or brace just before."));
    }
    Fields f(json, "", out.problems);
    if (f.string("format") != formatName) {
        out.problems.clear();
        return refuse(1, text("This is not a bench: \"format\" should say \"{0}\".", formatName));
    }
    const int version = f.integer("version", 0, 1, 1'000'000);
    if (version > formatVersion) {
        return refuse(1, text("This bench was saved by a newer version of Cruscotto (format {0}; this one reads up to "
                              "{1}). Update to open it.",
                              version, formatVersion));
    }
    Bench bench;
    bench.name = f.string("name", true);
    bench.notes = f.string("notes");
    f.list("devices", [&](const Json& j, const std::string& where) {
        Fields d(j, where, out.problems);
        DeviceSpec device{d.string("id", true), d.string("name", true), d.string("kind", true), {}, {}};
        if (const Json* settings = d.find("settings")) {
            if (settings->is_object())
                device.settings = dumped(*settings);
            else
                d.complain("settings", text("An object in braces is expected here, not {0}.", settings->type_name()));
        }
        device.extra = d.rest();
        bench.devices.push_back(std::make_shared<const DeviceSpec>(std::move(device)));
    });
    f.list("signals", [&](const Json& j, const std::string& where) {
        if (bench.signals.size() == mostSignals)
            f.complain("signals", text("A bench can hold {0} signals; this one has more.", mostSignals));
        if (bench.signals.size() <= mostSignals)
            bench.signals.push_back(std::make_shared<const SignalSpec>(readSignal(j, where, out.problems)));
    });
    f.list("pages", [&](const Json& j, const std::string& where) {
        Fields p(j, where, out.problems);
        PageSpec page{p.string("id", true), p.string("name", true), {}, {}};
        p.list("tiles", [&](const Json& tile, const std::string& at) {
            page.tiles.push_back(readTile(tile, at, out.problems));
        });
        page.extra = p.rest();
        bench.pages.push_back(std::make_shared<const PageSpec>(std::move(page)));
    });
    if (const Json* recording = f.find("recording")) {
        Fields r(*recording, "/recording", out.problems);
        RecordingSpec& spec = bench.recording;
        spec.name = r.string("name", false, spec.name);
        if (auto fine = checkRunName(spec.name); !fine) r.complain("name", fine.error().message);
        for (const auto& [key, member, most] : {std::tuple{"split-minutes", &RecordingSpec::splitMinutes, 1e6},
                                                std::tuple{"split-mb", &RecordingSpec::splitMegabytes, 1e9},
                                                std::tuple{"keep-free-mb", &RecordingSpec::keepFreeMegabytes, 1e9}}) {
            spec.*member = r.number(key, spec.*member);
            if (!(spec.*member >= 0 && spec.*member <= most))
                r.complain(key, text("A number from 0 to {0} is expected here.", most));
        }
        for (const auto& [key, words] : runformat::noteKeys) spec.notes.*words = r.string(key);
        spec.extra = r.rest();
    }
    bench.ribbonSignal = f.string("ribbon");
    bench.windowSeconds = f.number("window-s", 30);
    if (!(bench.windowSeconds >= 1e-3 && bench.windowSeconds <= 1e7))
        f.complain("window-s", text("The window must be 0.001 to 10000000 seconds."));
    bench.extra = f.rest();
    checkReferences(bench, out.problems);
    if (out.problems.empty()) {
        out.bench = std::move(bench);
        return out;
    }
    if (out.problems.size() > 100) out.problems.resize(100);
    LineFinder lines(fileText);
    for (Problem& p : out.problems) p.line = lines.find(p.where);
    return out;
}

std::string writeBench(const Bench& bench) {
    Json j;
    j["format"] = formatName;
    j["version"] = formatVersion;
    j["name"] = bench.name;
    if (!bench.notes.empty()) j["notes"] = bench.notes;
    j["window-s"] = bench.windowSeconds;
    if (!bench.ribbonSignal.empty()) j["ribbon"] = bench.ribbonSignal;
    if (bench.recording != RecordingSpec{}) {
        const RecordingSpec& spec = bench.recording;
        Json r = Json::object();
        r["name"] = spec.name;
        if (spec.splitMinutes > 0) r["split-minutes"] = spec.splitMinutes;
        if (spec.splitMegabytes > 0) r["split-mb"] = spec.splitMegabytes;
        r["keep-free-mb"] = spec.keepFreeMegabytes;
        for (const auto& [key, words] : runformat::noteKeys)
            if (!(spec.notes.*words).empty()) r[key] = spec.notes.*words;
        addExtra(r, spec.extra);
        j["recording"] = r;
    }
    j["devices"] = Json::array();
    for (const auto& device : bench.devices) {
        Json d;
        d["id"] = device->id;
        d["name"] = device->name;
        d["kind"] = device->kind;
        if (!device->settings.empty()) d["settings"] = parseOrderedJson(device->settings);
        addExtra(d, device->extra);
        j["devices"].push_back(d);
    }
    j["signals"] = Json::array();
    for (const auto& signal : bench.signals) j["signals"].push_back(signalJson(*signal));
    j["pages"] = Json::array();
    for (const auto& page : bench.pages) {
        Json p;
        p["id"] = page->id;
        p["name"] = page->name;
        p["tiles"] = Json::array();
        for (const TileSpec& tile : page->tiles) p["tiles"].push_back(tileJson(tile));
        addExtra(p, page->extra);
        j["pages"].push_back(p);
    }
    addExtra(j, bench.extra);
    return jsonText(j, 2) + "\n";
}

Result<Bench> loadBench(const std::string& path) {
    std::ifstream file(path, std::ios::binary);
    std::stringstream content;
    if (!file || !(content << file.rdbuf()))
        return failure("{0} cannot be read. Is the name right, and may you read it?", path);
    BenchReading reading = readBench(content.str());
    if (reading.bench) return std::move(*reading.bench);
    std::string all;
    for (const Problem& p : reading.problems) all += (all.empty() ? "" : "\n") + p.english();
    return failure("{0} is not opened:\n{1}", path, all);
}

Result<void> saveBench(const Bench& bench, const std::string& path) {
    const std::string beside = path + ".saving";
    std::FILE* file = std::fopen(beside.c_str(), "wb");
    if (!file) return failure("{0} cannot be written. Is the folder there, and may you write to it?", path);
    const std::string content = writeBench(bench);
    bool ok = std::fwrite(content.data(), 1, content.size(), file) == content.size();
    ok = std::fflush(file) == 0 && fsync(fileno(file)) == 0 && ok;
    ok = std::fclose(file) == 0 && ok;
    ok = ok && std::rename(beside.c_str(), path.c_str()) == 0;
    if (!ok) {
        std::remove(beside.c_str());
        return failure("{0} could not be written to the end; the old file is as it was. Is the disk full?", path);
    }
    return {};
}

std::string signalToJson(const SignalSpec& signal) {
    return dumped(signalJson(signal));
}

Result<SignalSpec> signalFromJson(const std::string& json) {
    const Json j = parseOrderedJson(json);
    std::vector<Problem> problems;
    SignalSpec signal = readSignal(j, "", problems);
    if (!problems.empty()) return Error{Text(problems.front().english())};
    return signal;
}

}  // namespace cruscotto
