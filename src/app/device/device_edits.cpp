#include "app/device/device_edits.h"

#include <QCoreApplication>
#include <QStringList>
#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>
#include <set>

#include "app/widgets/words.h"
#include "core/base/json_text.h"
#include "core/base/number_text.h"
#include "core/chain/common_stages.h"
#include "devices/device_kind.h"
#include "devices/settings_reader.h"

namespace cruscotto {

using Json = nlohmann::ordered_json;

namespace {

Json settingsOf(const DeviceSpec& d) {
    Json j = parseOrderedJson(d.settings.empty() ? "{}" : d.settings);
    return j.is_object() ? j : Json::object();
}

bool hasFault(const Json& settings, const std::string& fault) {
    if (!settings.contains("faults") || !settings["faults"].is_array()) return false;
    return std::any_of(settings["faults"].begin(), settings["faults"].end(),
                       [&](const Json& f) { return f == fault || (f.is_object() && f.value("fault", "") == fault); });
}

/// "name = text", one a line.
std::string pairsText(const Json& pairs) {
    std::string out;
    if (pairs.is_object())
        for (const auto& [name, text] : pairs.items())
            out += (out.empty() ? "" : "\n") + name + " = " + (text.is_string() ? text.get<std::string>() : "");
    return out;
}

}  // namespace

Bench withNewDevice(const Bench& bench, const DeviceKind& kind, std::string* id) {
    std::vector<std::string> ids;
    std::set<std::string> names;
    for (const auto& d : bench.devices) {
        ids.push_back(d->id);
        names.insert(d->name);
    }
    DeviceSpec device;
    device.kind = kind.key;
    device.id = freshId(kind.key, ids);
    device.name = kind.name.english();
    for (int i = 2; names.contains(device.name); ++i) device.name = fmt::format("{} {}", kind.name.english(), i);
    Json settings = Json::object();
    if (kind.key == "serial-line-board") settings["port"] = "/dev/ttyACM0";
    device.settings = jsonText(settings);
    if (id) *id = device.id;
    return withDevice(bench, device);
}

std::string settingText(const DeviceSpec& device, const SettingInfo& info) {
    const Json settings = settingsOf(device);
    if (info.key.starts_with("faults/")) return hasFault(settings, info.key.substr(7)) ? "true" : "false";
    const auto it = settings.find(info.key);
    if (it == settings.end()) return info.otherwise;
    if (info.type == SettingInfo::Type::pairs) return pairsText(*it);
    return it->is_string() ? it->get<std::string>() : jsonText(*it);
}

std::optional<Bench> withSetting(const Bench& bench, const std::string& device, const SettingInfo& info,
                                 const std::string& value, QString* wrong) {
    const DeviceSpec* d = bench.device(device);
    if (!d) return std::nullopt;
    const std::string& key = info.key;
    DeviceSpec next = *d;
    Json settings = settingsOf(*d);
    if (key.starts_with("faults/")) {
        const std::string fault = key.substr(7);
        Json kept = Json::array();
        if (settings.contains("faults") && settings["faults"].is_array())
            for (const Json& f : settings["faults"])
                if (!(f == fault || (f.is_object() && f.value("fault", "") == fault))) kept.push_back(f);
        if (value == "true") kept.push_back(fault);
        settings["faults"] = kept;
    } else if (info.type == SettingInfo::Type::number) {
        double v = 0;
        if (!parseNumber(value, v)) {
            *wrong = QCoreApplication::translate("DeviceEdits", "A number is expected.");
            return std::nullopt;
        }
        if (v == std::floor(v) && v >= 0 && v < 1e15)
            settings[key] = static_cast<std::uint64_t>(v);
        else
            settings[key] = v;
    } else if (info.type == SettingInfo::Type::pairs) {
        settings[key] = pairsFromLines(value);
        if (settings[key].empty()) settings.erase(key);
    } else {
        settings[key] = value;
    }
    next.settings = jsonText(settings);
    const DeviceKind* kind = deviceKind(next.kind);
    if (auto checked = kind->check(next.settings); !checked) {
        *wrong = shown(checked.error().message);
        return std::nullopt;
    }
    return withDevice(bench, next);
}

Bench withPairs(const Bench& bench, const std::string& device, const std::string& key,
                const std::map<std::string, std::string>& pairs) {
    const DeviceSpec* d = bench.device(device);
    if (!d) return bench;
    DeviceSpec next = *d;
    Json settings = settingsOf(*d);
    for (const auto& [name, text] : pairs) settings[key][name] = text;
    next.settings = jsonText(settings);
    return withDevice(bench, next);
}

namespace {

/// A short tag that no signal has yet: "T1" for "mainboard.temp1", "AI3" for "2.AI3".
std::string freshTag(const Bench& bench, const std::string& terminal) {
    const std::size_t dot = terminal.find_last_of("./");
    const std::string part = dot + 1 < terminal.size() ? terminal.substr(dot + 1) : terminal;
    std::string letters, digits;
    for (const char c : part) {
        const bool isDigit = c >= '0' && c <= '9';
        if (isDigit) digits += c;
        if (!digits.empty() && (!isDigit || digits.size() == 3)) break;
        if (const char low = static_cast<char>(c | 0x20); low >= 'a' && low <= 'z')
            letters += letters.empty() ? static_cast<char>(c & ~0x20) : c;
    }
    std::vector<std::string> ideas;
    if (part == digits) ideas.push_back("N" + part);  // the place of a number in a line
    if (part.size() <= 3) ideas.push_back(part);
    for (const std::size_t n : {1U, 2U, 3U})
        if (letters.size() >= n) ideas.push_back(letters.substr(0, n) + digits);
    for (const std::string& idea : ideas)
        if (std::ranges::none_of(bench.signals, [&](const auto& s) { return s->tag == idea; })) return idea;
    const std::string initial = letters.empty() ? "S" : letters.substr(0, 1);
    for (std::size_t n = 2;; ++n)
        if (std::string idea = initial + std::to_string(n);
            std::ranges::none_of(bench.signals, [&](const auto& s) { return s->tag == idea; }))
            return idea;
}

}  // namespace

Bench withSignalFor(const Bench& bench, const std::string& device, const TerminalInfo& t, std::string* id) {
    std::vector<std::string> ids;
    for (const auto& s : bench.signals) ids.push_back(s->id);
    SignalSpec s;
    s.device = device;
    s.terminal = t.terminal;
    s.kind = t.kind;
    s.name = t.name.empty() ? t.terminal : t.name;
    // A line without labels: its numbers are called by their places.
    if (s.name.find_first_not_of("0123456789") == std::string::npos)
        s.name = QCoreApplication::translate("core", "Number %1").arg(shown(s.name)).toStdString();
    s.tag = freshTag(bench, t.terminal);
    s.id = freshId(t.terminal, ids);
    s.colour = static_cast<int>(ids.size() % 8);
    if (!t.chain.empty() && !isOutput(t.kind)) {
        s.chain = t.chain;
    } else if (t.kind == ChannelKind::analogInput && !t.ranges.empty()) {
        s.range = t.ranges.back();
        s.chain = {countsToVolts(t.bits, t.ranges.back().low, t.ranges.back().high)};
    } else if (t.kind == ChannelKind::analogInput && t.type == SampleType::float64) {
        s.chain = {slopeOffset(1, 0, "1")};  // a number as the board says it
    } else if (t.kind == ChannelKind::counterInput) {
        s.chain = {pulseCounter()};
    }
    if (isOutput(t.kind)) {
        const Scale range = isDigital(t.kind) ? Scale{0, 1} : t.ranges.empty() ? Scale{0, 10} : t.ranges.back();
        const double rest = std::clamp(0.0, range.low, range.high);
        s.output = OutputSpec{range.low, range.high, rest, rest};
        // A converter gives volts; all else is what the device says, or a number.
        s.output->unit = !t.chain.empty() ? readingUnit(t.chain, ChannelKind::analogInput) : t.bits > 0 ? "V" : "1";
    }
    if (id) *id = s.id;
    return withSignal(bench, std::move(s));
}

}  // namespace cruscotto
