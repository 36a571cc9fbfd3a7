#pragma once

#include <memory>

#include "devices/device.h"
#include "devices/serial/serial_settings.h"

namespace cruscotto {

/// A board that prints lines, or answers with them.
std::unique_ptr<Device> makeSerialLine(const DeviceContext& context, SerialLineSettings settings);

}  // namespace cruscotto
