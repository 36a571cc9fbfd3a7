#pragma once

#include <memory>
#include <vector>

#include "devices/device.h"
#include "devices/firmata/firmata_settings.h"

namespace cruscotto {

/// A board whose pins are asked for as terminals.
std::unique_ptr<Device> makeFirmata(const DeviceContext& context, FirmataSettings settings,
                                    const std::vector<TerminalRequest>& requests);

}  // namespace cruscotto
