#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "devices/device_kind.h"
#include "devices/link/byte_link.h"
#include "devices/modbus/modbus_frame.h"
#include "devices/modbus/rack_module.h"
#include "devices/terminal_setup.h"

namespace cruscotto {

/// The kind "modbus": registers and coils of one or several units, on TCP or a serial line, listed one by one or by the
/// modules of a rack.
DeviceKind modbusKind();

/// Something written to a unit by the driver itself.
struct ModbusWrite {
    ModbusPoint point;
    std::vector<double> values;
    double everySeconds = 0;
};

/// What the kind "modbus" is set to in a bench.
struct ModbusSettings {
    LinkAddress address;
    ModbusFraming framing = ModbusFraming::tcp;
    int unit = 1;                      ///< of points that say none
    std::vector<ModbusPoint> points;   ///< with their unit and rate; rack channels too
    std::map<int, std::string> slots;  ///< the rack's modules
    Rack rack;
    std::map<std::string, std::string> wanted;  ///< of the modules' settings
    double timeoutSeconds = 0.5;
    std::size_t mostGap = 8;
    /// Written when the link has opened, before any output: after how long without requests units put their outputs to
    /// rest by themselves.
    std::vector<ModbusWrite> watchdogs;
    std::optional<ModbusWrite> heartbeat;  ///< its values are written in turn
};
Result<ModbusSettings> modbusSettings(const JsonText& json);
/// The terminals that these settings make; none where they do not read.
std::vector<TerminalInfo> modbusTerminals(const JsonText& json);

/// What can be set at a channel of a rack: what its module's description says. What all channels of a module share is
/// offered at each, as the first that sets it says.
std::vector<TerminalSetting> modbusTerminalSettings(const JsonText& json, const std::string& terminal,
                                                    const std::vector<TerminalRequest>& all);
/// One sentence of it; empty where nothing can be set.
Text modbusSetupSentence(const JsonText& json, const std::string& terminal, const std::vector<TerminalRequest>& all);
/// What the terminals ask for, by the names of the modules' settings.
std::map<std::string, std::string> askedAtTerminals(const Rack& rack, const std::vector<TerminalRequest>& all);

}  // namespace cruscotto
