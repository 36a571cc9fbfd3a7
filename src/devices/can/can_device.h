#pragma once

#include <memory>

#include "devices/can/can_settings.h"
#include "devices/device.h"

namespace cruscotto {

/// A bus that is listened to and sent to.
std::unique_ptr<Device> makeCan(const DeviceContext& context, CanSettings settings);

}  // namespace cruscotto
