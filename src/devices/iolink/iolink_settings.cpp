#include "devices/iolink/iolink_settings.h"

#include <algorithm>
#include <array>

#include "core/base/units.h"
#include "core/chain/common_stages.h"
#include "devices/iolink/iolink_device.h"
#include "devices/link/byte_link.h"
#include "devices/settings_reader.h"

namespace cruscotto {

std::string unitIn(IoLinkSettings::Units system, const std::string& ucum) {
    static constexpr std::array<std::pair<const char*, const char*>, 4> pairs{
        {{"Cel", "[degF]"}, {"bar", "[psi]"}, {"L/min", "[gal_us]/min"}, {"mm", "[in_i]"}}};
    if (system == IoLinkSettings::Units::asDescribed) return ucum;
    for (const auto& [metric, other] : pairs) {
        const bool us = system == IoLinkSettings::Units::unitedStates;
        if (convertUnit(ucum, metric) && (us || ucum == other)) {
            const std::string to = us ? other : metric;
            return convertUnit(ucum, to) ? to : ucum;
        }
    }
    return ucum;
}

Result<IoLinkSettings> ioLinkSettings(const JsonText& text) {
    using Units = IoLinkSettings::Units;
    IoLinkSettings out;
    SettingsReader settings(text);
    std::string address = settings.word("address");
    if (address.starts_with("http://")) address = address.substr(7);
    while (address.ends_with('/')) address.pop_back();
    auto link = linkAddress(address, 80);
    if (!link) return link.error();
    if (link.value().isCapture())
        out.capture = link.value().line.port;
    else if (link.value().host.empty())
        return failure("A master is reached over the network: give its address, as in 192.0.2.7.");
    out.host = link.value().host;
    if (out.host.find_first_not_of("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-._:") !=
        std::string::npos)
        return failure("\"{0}\" is no name of a host.", out.host);
    out.port = link.value().port;
    out.everySeconds = settings.number("every-s", 0.5, 0.01, 86400);
    out.timeoutSeconds = settings.number("timeout-s", 2, 0.05, 600);
    constexpr Units units[]{Units::asDescribed, Units::metric, Units::unitedStates};
    out.units = units[settings.choice("units", 0, {"as described", "metric", "United States"})];
    for (auto& [alias, path] : settings.pairs("sensors", mostIoLinkSensors)) {
        IoLinkSettings::Sensor s;
        s.alias = alias;
        s.path = path;
        if (alias.size() > 100) return failure("A sensor needs the name that the master gives it.");
        if (!s.path.empty()) {
            auto iodd = loadIodd(s.path);
            if (!iodd) return iodd.error();
            s.iodd = std::move(iodd.value());
        }
        out.sensors.push_back(std::move(s));
    }
    out.wanted = settings.pairs("parameters", 4096);
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

ShownAs shownAs(const IoddValue& v, IoLinkSettings::Units units) {
    ShownAs out{v.gradient, v.offset, v.unit.empty() ? "1" : v.unit};
    const std::string to = unitIn(units, out.unit);
    if (const auto c = convertUnit(out.unit, to); c && to != out.unit)
        out = {out.slope * c->factor, out.offset * c->factor + c->offset, to};
    return out;
}

std::string terminalOf(const IoLinkSettings::Sensor& s, const std::string& name) {
    return s.alias + "." + name;
}

std::vector<TerminalInfo> ioLinkTerminals(const JsonText& text) {
    std::vector<TerminalInfo> out;
    const auto settings = ioLinkSettings(text);
    if (!settings) return out;
    for (const auto& s : settings.value().sensors) {
        const auto add = [&](const IoddValue& v, bool isOut) {
            TerminalInfo info{terminalOf(s, v.name)};
            const bool bit = v.type == IoddValue::Type::boolean;
            info.kind = isOut ? (bit ? ChannelKind::digitalOutput : ChannelKind::analogOutput)
                              : (bit ? ChannelKind::digitalInput : ChannelKind::analogInput);
            info.type = v.sampleType();
            const ShownAs as = shownAs(v, settings.value().units);
            if (!bit) info.chain = {slopeOffset(as.slope, as.offset, as.unit)};
            if (isOut && !bit && v.limits) {
                const auto [low, high] =
                    std::minmax({v.limits->low * as.slope + as.offset, v.limits->high * as.slope + as.offset});
                if (low < high) info.ranges = {{low, high}};
            }
            std::string title;
            for (const auto& [value, words] : v.words)
                title += (title.empty() ? "" : ", ") + std::to_string(value) + " " + words;
            info.title = Text{title.substr(0, 200)};
            out.push_back(std::move(info));
        };
        for (const IoddValue& v : s.iodd.in) add(v, false);
        for (const IoddValue& v : s.iodd.out) add(v, true);
    }
    return out;
}

DeviceKind ioLinkKind() {
    DeviceKind kind;
    kind.key = "io-link-master";
    kind.title = CRUSCOTTO_TEXT("Smart sensors on an IO-Link master");
    kind.name = CRUSCOTTO_TEXT("IO-Link master");
    kind.hasWire = true;
    using Type = SettingInfo::Type;
    kind.rateKey = "every-s";
    kind.settings = {
        {"address",
         CRUSCOTTO_TEXT("Address of the master"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("As in 192.0.2.7, or 192.0.2.7:8080.")},
        {"sensors",
         CRUSCOTTO_TEXT("Sensors"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT("One a line: the name that the master gives it, =, and the file of its description (IODD, "
                        ".xml). The names that are there "
                        "stand in the sentence above."),
         ".xml"},
        {"units",
         CRUSCOTTO_TEXT("Units"),
         Type::choice,
         {"as described", "metric", "United States"},
         "as described",
         CRUSCOTTO_TEXT("Of new signals, and of the settings in the sensors.")},
        {"every-s", CRUSCOTTO_TEXT("Read every, in s"), Type::number, {}, "0.5", {}},
        {"timeout-s", CRUSCOTTO_TEXT("Wait for a reply, in s"), Type::number, {}, "2", {}},
        {"parameters",
         CRUSCOTTO_TEXT("Settings of the sensors, as the bench wants them"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT(
             "One a line: the sensor, /, the setting, =, and its value. What differs is shown and can be written.")},
    };
    kind.terminals = ioLinkTerminals;
    kind.check = checkedBy<ioLinkSettings>;
    kind.make = [](const DeviceContext& context, const JsonText& text,
                   const std::vector<TerminalRequest>&) -> std::unique_ptr<Device> {
        return makeIoLink(context, settingsBy<ioLinkSettings>(text));
    };
    return kind;
}

}  // namespace cruscotto
