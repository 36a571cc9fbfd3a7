#pragma once

#include <map>
#include <string>
#include <vector>

#include "devices/device.h"
#include "devices/link/byte_link.h"
#include "devices/modbus/modbus_frame.h"
#include "devices/modbus/rack_module.h"

namespace cruscotto {

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
};
Result<ModbusSettings> modbusSettings(const JsonText& json);
/// The terminals that these settings make; none where they do not read.
std::vector<TerminalInfo> modbusTerminals(const JsonText& json);

}  // namespace cruscotto
