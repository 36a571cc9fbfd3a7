#pragma once

#include <memory>

#include "devices/device.h"
#include "devices/iolink/iolink_settings.h"

namespace cruscotto {

/// A master and the sensors behind it.
std::unique_ptr<Device> makeIoLink(const DeviceContext& context, IoLinkSettings settings);

}  // namespace cruscotto
