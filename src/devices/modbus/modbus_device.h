#pragma once

#include "devices/device_kind.h"

namespace cruscotto {

/// The kind "modbus": registers and coils of one or several units, on TCP or a serial line, listed one by one or by the
/// modules of a rack. The driver frames by itself (libmodbus shows nobody the bytes and cannot be woken), and is tested
/// against libmodbus.
DeviceKind modbusKind();

}  // namespace cruscotto
