#pragma once

#include <memory>
#include <vector>

#include "devices/device.h"
#include "devices/modbus/modbus_settings.h"

namespace cruscotto {

/// The driver frames by itself (libmodbus shows nobody the bytes and cannot be woken), and is tested against libmodbus.
std::unique_ptr<Device> makeModbus(const DeviceContext& context, ModbusSettings settings,
                                   const std::vector<TerminalRequest>& requests);

}  // namespace cruscotto
