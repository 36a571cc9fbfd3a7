#include "devices/modbus/modbus_settings.h"

#include <algorithm>
#include <cmath>

#include "core/base/number_text.h"
#include "core/chain/common_stages.h"
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

}  // namespace cruscotto
