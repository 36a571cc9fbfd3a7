#pragma once

#include <memory>

#include "devices/device.h"
#include "devices/scpi/scpi_settings.h"

namespace cruscotto {

/// An instrument that is asked in words, on TCP or a serial line.
std::unique_ptr<Device> makeScpi(const DeviceContext& context, ScpiSettings settings);

}  // namespace cruscotto
