// Reads and writes the bench file. The format is documented in docs/bench-format.md; change both together.
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdio>
#include <limits>
#include <nlohmann/json.hpp>
#include <set>
#include <unordered_map>

#include "core/analysis/measures.h"
#include "core/base/whole_file.h"
#include "core/bench/bench.h"
#include "core/bench/control_file.h"
#include "core/bench/procedure_file.h"
#include "core/bench/rule_file.h"
#include "core/bench/run_name.h"
#include "core/bench/signal_json.h"
#include "core/bench/tile_settings.h"

namespace cruscotto {

using Json = nlohmann::ordered_json;

namespace {

constexpr int formatVersion = 1;
constexpr const char* formatName = "cruscotto-bench";
constexpr std::size_t largestFile = 16U << 20;

/// Finds the lines of the values that JSON pointers name, in one walk through a text that is known to be valid JSON.
class LineFinder {
public:
    /// Sets the lines of those that are there.
    static void find(const std::string& text, std::vector<Problem>& problems) {
        LineFinder finder(text);
        for (Problem& p : problems) finder.wanted_[p.where].push_back(&p);
        finder.value();
    }

private:
    explicit LineFinder(const std::string& text) : text_(text) {}
    void space() {
        for (; at_ < text_.size() && std::string_view(" \t\r\n").find(text_[at_]) != std::string_view::npos; ++at_)
            line_ += text_[at_] == '\n';
    }
    std::string string() {
        const std::size_t begin = at_++;
        while (at_ < text_.size() && text_[at_] != '"') at_ += text_[at_] == '\\' ? 2 : 1;
        ++at_;
        return text_.substr(begin, at_ - begin);
    }
    void value() {
        space();
        if (const auto it = wanted_.find(path_); it != wanted_.end()) {
            for (Problem* p : it->second) p->line = line_;
            wanted_.erase(it);
        }
        if (wanted_.empty() || at_ >= text_.size()) return;
        const char c = text_[at_];
        if (c == '"') {
            string();
        } else if (c == '{' || c == '[') {
            ++at_;
            for (std::size_t i = 0; !wanted_.empty(); ++i) {
                space();
                if (at_ >= text_.size() || text_[at_] == '}' || text_[at_] == ']') break;
                const std::size_t length = path_.size();
                path_ += '/';
                if (c == '{') {
                    const std::string key = string();
                    path_ += key.find('\\') == std::string::npos ? key.substr(1, key.size() - 2)
                                                                 : parseOrderedJson(key).get<std::string>();
                    space();
                    ++at_;  // the colon
                } else {
                    path_ += std::to_string(i);
                }
                value();
                path_.resize(length);
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
    std::unordered_map<std::string, std::vector<Problem*>> wanted_;  // by the pointer
    std::string path_;
    std::size_t at_ = 0;
    int line_ = 1;
};

TileSpec readTile(const Json& json, const std::string& where, std::vector<Problem>& problems) {
    JsonFields f(json, where, problems);
    TileSpec t;
    t.id = f.string("id", true);
    if (const std::string name = f.string("kind"); const auto kind = tileKindNamed(name)) {
        t.kind = *kind;
    } else if (!name.empty()) {
        std::string all;
        for (const TileKind k : tileKinds) all += (all.empty() ? "" : ", ") + std::string(tileKindName(k));
        f.complain("kind", text("\"{0}\" is not known here. Use one of: {1}.", name, all));
    }
    t.w = f.integer("w", 3, 1, pageColumns);
    t.h = f.integer("h", 2, 1, 100);
    t.x = f.integer("x", 0, 0, pageColumns - t.w);
    t.y = f.integer("y", 0, 0, 10'000);
    f.list("signals", mostTileSignals, [&](const Json& j, const std::string& at) {
        if (j.is_string())
            t.signals.push_back(j.get<std::string>());
        else
            problems.push_back({at, 0, text("The id of a signal is expected here, in quotes.")});
    });
    t.plusMinus = f.flag("plus-minus");
    if (const Json* settings = f.find("settings")) {
        JsonFields s(*settings, where + "/settings", problems);
        if (settings->is_object())
            for (const auto& [key, value] : settings->items()) {
                const std::string chosen = s.string(key, false, {}, mostTileSetting);
                if (auto fine = checkTileSetting(t.kind, key, chosen); !fine && value.is_string())
                    s.complain(key, fine.error().message);
                t.settings[key] = chosen;
            }
    }
    if (t.signals.empty()) f.complain("", text("A tile needs at least one signal in \"signals\"."));
    if (const Json* scales = f.find("scales")) {
        JsonFields s(*scales, where + "/scales", problems);
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
    if (t.plusMinus) j["plus-minus"] = true;
    for (const auto& [key, value] : t.settings) j["settings"][key] = value;
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
    // What signals need of each other says nothing where a chain did not read.
    const bool eachIsRight =
        std::ranges::none_of(problems, [](const Problem& p) { return p.where.starts_with("/signals/"); });
    std::set<std::string> terminals;
    for (std::size_t i = 0; i < bench.signals.size(); ++i) {
        const SignalSpec& s = *bench.signals[i];
        const std::string where = "/signals/" + std::to_string(i);
        if (!s.computed && !devices.contains(s.device))
            problems.push_back({where + "/device", 0, text("There is no device \"{0}\" in this bench.", s.device)});
        if (isOutput(s.kind) && !terminals.insert(s.device + "\n" + s.terminal).second)
            problems.push_back({where + "/terminal", 0, text("{0} is driven by another signal already.", s.terminal)});
        if (!eachIsRight) continue;
        if (auto fine = checkAgrees(bench, s); !fine)
            problems.push_back({where + "/agrees/with", 0, fine.error().message});
        if (auto fine = checkNeeded(bench, s); !fine) problems.push_back({where + "/chain", 0, fine.error().message});
    }
    for (std::size_t i = 0; i < bench.expected.size(); ++i)
        for (const auto& [key, id] :
             {std::pair("signal", bench.expected[i].signal), std::pair("against", bench.expected[i].against)})
            if (!id.empty() && !signals.contains(id))
                problems.push_back({"/expected/" + std::to_string(i) + "/" + key, 0,
                                    text("There is no signal \"{0}\" in this bench.", id)});
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
    switch (kind) {
#define CRUSCOTTO_NAME(name) \
    case TileKind::name:     \
        return #name;
        CRUSCOTTO_TILES(CRUSCOTTO_NAME)
#undef CRUSCOTTO_NAME
    }
    return "";
}

std::optional<TileKind> tileKindNamed(std::string_view name) {
    const auto it = std::ranges::find_if(tileKinds, [&](TileKind k) { return name == tileKindName(k); });
    return it == std::end(tileKinds) ? std::nullopt : std::optional(*it);
}

std::string Problem::english() const {
    std::string out;
    if (line > 0) out += "line " + std::to_string(line);
    if (!where.empty()) out += (out.empty() ? "" : ", ") + where;
    return out.empty() ? message.english() : out + ": " + message.english();
}

BenchReading readBench(const std::string& fileText, BenchCheck also) {
    BenchReading out;
    const auto refuse = [&](int line, Text message) {
        out.problems.push_back({"", line, std::move(message)});
        return out;
    };
    if (fileText.size() > largestFile)
        return refuse(0, text("The file is larger than 16 MiB; a bench never is. Is it a recording?"));
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
    JsonFields f(json, "", out.problems);
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
    bench.notes = f.words("notes");
    f.list("devices", mostDevices, [&](const Json& j, const std::string& where) {
        JsonFields d(j, where, out.problems);
        DeviceSpec device{d.string("id", true), d.string("name", true), d.string("kind", true), {}, {}};
        if (const Json* settings = d.find("settings")) {
            if (settings->is_object())
                device.settings = jsonText(*settings);
            else
                d.complain("settings", text("An object in braces is expected here, not {0}.", settings->type_name()));
        }
        device.extra = d.rest();
        bench.devices.push_back(std::make_shared<const DeviceSpec>(std::move(device)));
    });
    std::size_t remembered = 0;
    f.list("signals", mostSignals, [&](const Json& j, const std::string& where) {
        SignalSpec signal = readSignal(j, where, out.problems);
        // What names no colours is told apart all the same.
        constexpr std::size_t colours = 8;
        if (j.is_object() && !j.contains("colour")) signal.colour = static_cast<int>(bench.signals.size() % colours);
        bench.signals.push_back(std::make_shared<const SignalSpec>(std::move(signal)));
        const std::size_t before = remembered;
        remembered += rememberedSamples(bench.signals.back()->chain);
        if (before <= mostRemembered && remembered > mostRemembered)
            out.problems.push_back({where + "/chain", 0,
                                    text("The moving means up to here hold more than {0} samples together, which is "
                                         "all that a bench may. Make them shorter.",
                                         mostRemembered)});
    });
    std::size_t tiles = 0;
    f.list("pages", mostPages, [&](const Json& j, const std::string& where) {
        JsonFields p(j, where, out.problems);
        PageSpec page{p.string("id", true), p.string("name", true), {}, {}};
        p.list("tiles", mostTiles, [&](const Json& tile, const std::string& at) {
            if (++tiles == mostTiles + 1)
                p.complain("tiles", text("A bench can hold {0} tiles; up to here there are more.", mostTiles));
            if (tiles <= mostTiles) page.tiles.push_back(readTile(tile, at, out.problems));
        });
        page.extra = p.rest();
        bench.pages.push_back(std::make_shared<const PageSpec>(std::move(page)));
    });
    f.list("rules", mostRules, [&](const Json& j, const std::string& where) {
        bench.rules.push_back(std::make_shared<const RuleSpec>(readRule(j, where, out.problems)));
    });
    f.list("controls", mostControls, [&](const Json& j, const std::string& where) {
        bench.controls.push_back(std::make_shared<const ControlSpec>(readControl(j, where, out.problems)));
    });
    f.list("procedures", mostProcedures, [&](const Json& j, const std::string& where) {
        bench.procedures.push_back(std::make_shared<const ProcedureSpec>(readProcedure(j, where, out.problems)));
    });
    f.list("expected", mostExpected, [&](const Json& j, const std::string& where) {
        JsonFields e(j, where, out.problems);
        ExpectedMeasure expected;
        expected.signal = e.string("signal", true);
        expected.against = e.string("against");
        expected.measure = e.string("measure", true);
        expected.value = e.neededNumber("value");
        expected.within = e.neededNumber("within");
        expected.unit = e.string("unit");
        expected.extra = e.rest();
        if (!(expected.within >= 0)) e.complain("within", text("A number from 0 on is expected here."));
        const MeasureKind* kind = measureKind(expected.measure);
        if (!expected.measure.empty() && !kind)
            e.complain("measure", text("There is no measure \"{0}\".", expected.measure));
        if (kind && (kind->group == MeasureGroup::ofTwo) == expected.against.empty())
            e.complain("against", expected.against.empty() ? text("This measure is of two signals: name the other one.")
                                                           : text("This measure is of one signal."));
        if (expectedOf(bench, expected.signal, expected.against, expected.measure))
            e.complain("measure", text("This is said twice. Remove one of them."));
        bench.expected.push_back(std::move(expected));
    });
    if (const Json* recording = f.find("recording")) {
        JsonFields r(*recording, "/recording", out.problems);
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
        spec.preflight = r.flag("pre-flight");
        for (const auto& [key, words] : benchNoteKeys) spec.notes.*words = r.words(key);
        spec.extra = r.rest();
    }
    bench.ribbonSignal = f.string("ribbon");
    bench.windowSeconds = f.number("window-s", 30);
    if (!(bench.windowSeconds >= 1e-3 && bench.windowSeconds <= 1e7))
        f.complain("window-s", text("The window must be 0.001 to 10000000 seconds."));
    bench.coverage = f.number("coverage-factor", bench.coverage);
    if (!(bench.coverage >= leastCoverage && bench.coverage <= mostCoverage))
        f.complain("coverage-factor", text("A number from {0} to {1} is expected here.", leastCoverage, mostCoverage));
    bench.extra = f.rest();
    checkReferences(bench, out.problems);
    checkRules(bench, out.problems);
    checkControls(bench, out.problems);
    checkProcedures(bench, out.problems);
    if (out.problems.empty() && also) out.problems = also(bench);
    if (out.problems.empty()) {
        out.bench = std::move(bench);
        return out;
    }
    if (out.problems.size() > mostProblems) out.problems.resize(mostProblems);
    LineFinder::find(fileText, out.problems);
    return out;
}

std::string writeBench(const Bench& bench) {
    Json j;
    j["format"] = formatName;
    j["version"] = formatVersion;
    j["name"] = bench.name;
    if (!bench.notes.empty()) j["notes"] = bench.notes;
    j["window-s"] = bench.windowSeconds;
    if (bench.coverage != Bench{}.coverage) j["coverage-factor"] = bench.coverage;
    if (!bench.ribbonSignal.empty()) j["ribbon"] = bench.ribbonSignal;
    if (bench.recording != RecordingSpec{}) {
        const RecordingSpec& spec = bench.recording;
        Json r = Json::object();
        r["name"] = spec.name;
        if (spec.splitMinutes > 0) r["split-minutes"] = spec.splitMinutes;
        if (spec.splitMegabytes > 0) r["split-mb"] = spec.splitMegabytes;
        r["keep-free-mb"] = spec.keepFreeMegabytes;
        if (spec.preflight) r["pre-flight"] = true;
        for (const auto& [key, words] : benchNoteKeys)
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
    for (const auto& rule : bench.rules) j["rules"].push_back(ruleJson(*rule));
    for (const auto& control : bench.controls) j["controls"].push_back(controlJson(*control));
    for (const auto& procedure : bench.procedures) j["procedures"].push_back(procedureJson(*procedure));
    for (const ExpectedMeasure& expected : bench.expected) {
        Json e;
        e["signal"] = expected.signal;
        if (!expected.against.empty()) e["against"] = expected.against;
        e["measure"] = expected.measure;
        e["value"] = expected.value;
        e["within"] = expected.within;
        if (!expected.unit.empty()) e["unit"] = expected.unit;
        addExtra(e, expected.extra);
        j["expected"].push_back(e);
    }
    addExtra(j, bench.extra);
    return jsonText(j, 2) + "\n";
}

Result<Bench> loadBench(const std::string& path, BenchCheck also) {
    const auto content = readWholeFile(path, largestFile);
    if (!content) return content.error();
    BenchReading reading = readBench(content.value(), also);
    if (reading.bench) return std::move(*reading.bench);
    std::string all;
    for (const Problem& p : reading.problems) all += (all.empty() ? "" : "\n") + p.english();
    return failure("{0} is not opened:\n{1}", path, all);
}

Result<void> saveBench(const Bench& bench, const std::string& path, NewFile::Existing existing) {
    auto file = NewFile::create(path, existing);
    if (!file) return file.error();
    (void)file.value().write(writeBench(bench));  // what went wrong is said by the next
    return file.value().put();
}

}  // namespace cruscotto
