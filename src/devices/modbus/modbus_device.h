#pragma once

#include "devices/device.h"
#include "devices/link/byte_link.h"
#include "devices/modbus/modbus_frame.h"
#include "devices/modbus/rack_module.h"

namespace cruscotto {

/// The kind "modbus": registers and coils of one or several units, on TCP or a serial line, listed one by one or by the
/// modules of a rack. The driver frames by itself (libmodbus shows nobody the bytes and cannot be woken), and is tested
/// against libmodbus.
DeviceKind modbusKind();

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

}  // namespace cruscotto
