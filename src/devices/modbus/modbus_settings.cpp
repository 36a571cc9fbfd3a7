#include "devices/modbus/modbus_settings.h"

#include <algorithm>
#include <cmath>
#include <sstream>

#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/common_stages.h"
#include "devices/modbus/modbus_device.h"
#include "devices/settings_reader.h"

namespace cruscotto {

namespace {
/// Of a capture it is that of the link on which it was taken.
ModbusFraming usualFraming(const LinkAddress& address) {
    if (address.isCapture()) {
        const CaptureOrigin origin = originOfCapture(address.line.port);
        if (!origin.settings.empty()) {
            SettingsReader then(origin.settings);
            const auto taken = linkAddress(then.word("address"), 502);
            if (const std::size_t said = then.choice("framing", 0, {"as usual there", "tcp", "rtu"}); said > 0)
                return said == 1 ? ModbusFraming::tcp : ModbusFraming::rtu;
            if (taken && taken.value().line.port.empty()) return ModbusFraming::tcp;
        }
    }
    return address.line.port.empty() ? ModbusFraming::tcp : ModbusFraming::rtu;
}
/// "holding 4129 = 20", of the heartbeat "unit 2 holding 4129 = 1 2 every 0.5".
Result<ModbusWrite> modbusWrite(const char* key, const std::string& words, bool again) {
    const auto wrong = [&] {
        return again ? failure("\"{0}\": expected is as in holding 4129 = 1 2 every 0.5.", key)
                     : failure("\"{0}\": expected is as in holding 4128 = 20.", key);
    };
    ModbusWrite out;
    const std::size_t is = words.find('=');
    if (is == std::string::npos) return wrong();
    auto point = modbusPoint(key, words.substr(0, words.find_last_not_of(' ', is - 1) + 1));
    if (!point) return point.error();
    out.point = std::move(point.value());
    if (out.point.table != ModbusTable::holding && out.point.table != ModbusTable::coil)
        return failure("\"{0}\": only holding registers and coils can be written.", key);
    std::istringstream rest(words.substr(is + 1));
    bool every = false;
    constexpr std::size_t mostValues = 16;
    for (std::string word; rest >> word;) {
        double v = 0;
        if (again && word == "every" && !every)
            every = true;
        else if (!parseNumber(word, v) || (every && out.everySeconds != 0) || out.values.size() == mostValues)
            return wrong();
        else if (every)
            out.everySeconds = v;
        else
            out.values.push_back(v);
    }
    if (out.values.empty() || (!again && out.values.size() != 1)) return wrong();
    if (again && !(out.everySeconds >= 0.01 && out.everySeconds <= 3600))
        return failure("\"{0}\": \"every\" takes seconds, 0.01 to 3600.", key);
    return out;
}
}  // namespace

Result<ModbusSettings> modbusSettings(const JsonText& json) {
    ModbusSettings out;
    SettingsReader settings(json);
    auto address = linkAddress(settings.word("address"), 502);
    if (!address) return address.error();
    out.address = std::move(address.value());
    // The standard's own (Serial Line V1.02, 2.5.1), unless something else is said.
    out.address.line.baud = 19200;
    out.address.line.parity = SerialSettings::Parity::even;
    out.address.line.replayAnswers = true;
    readLineSettings(settings, out.address.line);
    const ModbusFraming framings[]{usualFraming(out.address), ModbusFraming::tcp, ModbusFraming::rtu};
    out.framing = framings[settings.choice("framing", 0, {"as usual there", "tcp", "rtu"})];
    const int unit = out.unit = settings.whole("unit", 1, 0, 255);
    const double every = settings.number("every-s", 0.2, 0.001, 86400);
    out.timeoutSeconds = settings.number("timeout-s", 0.5, 0.01, 60);
    out.mostGap = static_cast<std::size_t>(settings.whole("most-gap", 8, 0, 120));

    if (const auto modules = settings.pairs("slots", 64); !modules.empty()) {
        for (const auto& [slot, module] : modules) {
            double n = 0;
            if (!parseNumber(slot, n) || !(n >= 0 && n <= 999) || n != std::floor(n))
                return failure("\"slots\": each line is a slot's number and a module, as in 1 = analog-in-8.");
            out.slots[static_cast<int>(n)] = module;
        }
        auto rack = assembleRack(out.slots);
        if (!rack) return rack.error();
        out.rack = std::move(rack.value());
        for (const auto& c : out.rack.channels) out.points.push_back(c.point);
        for (auto& s : out.rack.settings) s.point.unit = unit;
    }
    for (const auto& [name, words] : settings.pairs("points", 4096)) {
        auto point = modbusPoint(name, words);
        if (!point) return point.error();
        if (std::ranges::find(out.points, name, &ModbusPoint::name) != out.points.end())
            return failure("\"{0}\" is there twice.", name);
        out.points.push_back(std::move(point.value()));
    }
    for (ModbusPoint& p : out.points) {
        if (p.unit < 0) p.unit = unit;
        if (p.everySeconds == 0) p.everySeconds = every;
    }
    out.wanted = settings.pairs("parameters", 4096);
    std::stringstream watchdogs(settings.word("watchdog"));
    for (std::string words; std::getline(watchdogs, words, ',');) {
        auto write = modbusWrite("watchdog", words, false);
        if (!write) return write.error();
        out.watchdogs.push_back(std::move(write.value()));
    }
    if (const std::string words = settings.word("heartbeat"); !words.empty()) {
        auto write = modbusWrite("heartbeat", words, true);
        if (!write) return write.error();
        out.heartbeat = std::move(write.value());
    }
    for (ModbusWrite& w : out.watchdogs) w.point.unit = w.point.unit < 0 ? unit : w.point.unit;
    if (out.heartbeat && out.heartbeat->point.unit < 0) out.heartbeat->point.unit = unit;
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

std::vector<TerminalInfo> modbusTerminals(const JsonText& json) {
    std::vector<TerminalInfo> out;
    const auto settings = modbusSettings(json);
    if (!settings) return out;
    for (const ModbusPoint& p : settings.value().points) {
        const Channel c = p.channel();
        TerminalInfo info{p.name, c.kind, c.type};
        for (const RackModule::ChannelInfo& r : settings.value().rack.channels)
            if (r.point.name == p.name) {
                info.title = r.title;
                info.chain = r.chain;
            }
        if (info.chain.empty() && c.kind == ChannelKind::analogInput) info.chain = {slopeOffset(1, 0, "1")};
        out.push_back(std::move(info));
    }
    return out;
}

namespace {
/// What the rack has until a terminal says otherwise: what the device's settings want, else not known.
TerminalSetting settingOf(const RackModule::Setting& s, const std::map<std::string, std::string>& wanted) {
    TerminalSetting out;
    out.key = s.key;
    out.label = s.title;
    out.unit = s.unit;
    const auto it = wanted.find(s.point.name);
    if (s.choices.empty()) {
        const Scale limits = s.limits.value_or(Scale{0, 65535});
        out.low = limits.low;
        out.high = limits.high;
        if (it != wanted.end()) (void)parseNumber(it->second, out.number);
        return out;
    }
    if (it == wanted.end()) out.choices.push_back({"", CRUSCOTTO_TEXT("as it is")});
    for (const auto& [word, code] : s.choices) out.choices.push_back({word, word});
    if (it != wanted.end()) out.otherwise = it->second;
    return out;
}

std::string asked(const TerminalSetup& setup, const std::string& key) {
    const auto it = setup.find(key);
    if (it == setup.end()) return {};
    if (const auto* word = std::get_if<std::string>(&it->second)) return *word;
    return shortNumber(std::get<double>(it->second));
}
}  // namespace

std::map<std::string, std::string> askedAtTerminals(const Rack& rack, const std::vector<TerminalRequest>& all) {
    std::map<std::string, std::string> out;
    for (const TerminalRequest& r : all)
        for (const RackModule::Setting& s : rack.settings)
            if (const std::string words = asked(r.setup, s.key); s.isOf(r.terminal) && !words.empty())
                out.try_emplace(s.point.name, words);
    return out;
}

std::vector<TerminalSetting> modbusTerminalSettings(const JsonText& json, const std::string& terminal,
                                                    const std::vector<TerminalRequest>& all) {
    std::vector<TerminalSetting> out;
    const auto settings = modbusSettings(json);
    if (!settings) return out;
    for (const RackModule::Setting& s : settings.value().rack.settings) {
        if (!s.isOf(terminal)) continue;
        out.push_back(settingOf(s, settings.value().wanted));
        if (!s.of.ends_with('*')) continue;
        const auto other = std::ranges::find_if(all, [&](const TerminalRequest& r) {
            return r.terminal != terminal && s.isOf(r.terminal) && !asked(r.setup, s.key).empty();
        });
        if (other == all.end()) continue;
        TerminalSetting& shared = out.back();
        const std::string theirs = asked(other->setup, s.key);
        shared.note = text(CRUSCOTTO_TEXT("{0} is shared by the whole module; {1} has set it to {2}."),
                           s.title.english(), other->terminal, theirs);
        (void)parseNumber(theirs, shared.number);
        if (shared.choices.empty()) {
            shared.low = shared.high = shared.number;
            continue;
        }
        shared.otherwise = theirs;
        for (auto& c : shared.choices)
            if (c.key != theirs)
                c.blocked =
                    text(CRUSCOTTO_TEXT("shared by the whole module, and {0} has set {1}."), other->terminal, theirs);
    }
    return out;
}

Text modbusSetupSentence(const JsonText& json, const std::string& terminal, const std::vector<TerminalRequest>& all) {
    const auto request = std::ranges::find(all, terminal, &TerminalRequest::terminal);
    std::string words;
    for (const TerminalSetting& s : modbusTerminalSettings(json, terminal, all)) {
        const TerminalSetup setup = request == all.end() ? TerminalSetup{} : request->setup;
        std::string value = s.choices.empty() ? shortNumber(numberSet(setup, s)) : chosen(setup, s);
        if (s.choices.empty() && !setup.contains(s.key)) value.clear();
        if (value.empty())
            value = "as the module has it";
        else if (!s.unit.empty())
            value += " " + unitText(s.unit);
        words += fmt::format("{}{} {}", words.empty() ? "" : ", ", s.label.english(), value);
    }
    if (words.empty()) return {};
    return text(CRUSCOTTO_TEXT("{0}, written into the module: {1}."), terminal, words);
}

DeviceKind modbusKind() {
    DeviceKind kind;
    kind.key = "modbus";
    kind.title = CRUSCOTTO_TEXT("Modbus registers, or a rack of modules");
    kind.name = CRUSCOTTO_TEXT("Modbus device");
    kind.hasWire = true;
    using Type = SettingInfo::Type;
    std::string modules;
    for (const std::string& name : rackModuleNames()) modules += (modules.empty() ? "" : ", ") + name;
    kind.rateKey = "every-s";
    kind.settings = {
        {"address",
         CRUSCOTTO_TEXT("Host or serial port"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("As in 192.0.2.7, 192.0.2.7:502 or /dev/ttyUSB0.")},
        {"unit", CRUSCOTTO_TEXT("Unit"), Type::number, {}, "1", {}},
        {"points",
         CRUSCOTTO_TEXT("Values"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT(
             "One a line: a name, =, table, address from 0, type. As in inlet = input 30 i16, flow = holding 10 f32 "
             "cdab every 0.5, valve = coil 3 out, unit 2 holding 4 bit 9.")},
        {"slots",
         CRUSCOTTO_TEXT("Modules of a rack"),
         Type::pairs,
         {},
         "",
         text(CRUSCOTTO_TEXT("One a line: slot = module. There are {0}; or give the path of a description."), modules)},
        {"parameters",
         CRUSCOTTO_TEXT("Settings of the modules, as the bench wants them"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT("As in 1.filter1 = 10. Those that differ in the rack are shown.")},
        {"every-s", CRUSCOTTO_TEXT("Read every, in s"), Type::number, {}, "0.2", {}},
        {"baud",
         CRUSCOTTO_TEXT("Speed in baud"),
         Type::number,
         {"9600", "19200", "38400", "57600", "115200"},
         "19200",
         {}},
    };
    for (SettingInfo s : lineSettingInfos()) {
        if (s.key == "parity") s.otherwise = "even";
        kind.settings.push_back(std::move(s));
    }
    kind.settings.push_back({"framing",
                             CRUSCOTTO_TEXT("Framing"),
                             Type::choice,
                             {"as usual there", "tcp", "rtu"},
                             "as usual there",
                             CRUSCOTTO_TEXT("A converter that hands serial frames on to the network takes rtu.")});
    kind.settings.push_back({"watchdog",
                             CRUSCOTTO_TEXT("Outputs rest without requests"),
                             Type::text,
                             {},
                             "",
                             CRUSCOTTO_TEXT("The register in which the device takes its own time-out, and the time in "
                                            "its unit, as in holding 4128 = 20; several with commas. Written before "
                                            "any output.")});
    kind.settings.push_back({"heartbeat",
                             CRUSCOTTO_TEXT("Sign of life"),
                             Type::text,
                             {},
                             "",
                             CRUSCOTTO_TEXT("Values written again and again, in turn, as in holding 4129 = 1 2 every "
                                            "0.5. It stops when the program does.")});
    kind.settings.push_back({"timeout-s", CRUSCOTTO_TEXT("Wait for a reply, in s"), Type::number, {}, "0.5", {}});
    kind.settings.push_back(
        {"most-gap",
         CRUSCOTTO_TEXT("Read over gaps of"),
         Type::number,
         {},
         "8",
         CRUSCOTTO_TEXT("So many registers that nobody asked for are read along, to save a request.")});
    kind.terminals = modbusTerminals;
    kind.setup = modbusTerminalSettings;
    kind.setupSentence = modbusSetupSentence;
    kind.writesSetup = true;
    kind.check = checkedBy<modbusSettings>;
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>& requests) -> std::unique_ptr<Device> {
        return makeModbus(context, settingsBy<modbusSettings>(json), requests);
    };
    return kind;
}

}  // namespace cruscotto
