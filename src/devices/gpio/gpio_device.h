#pragma once

#include <memory>

#include "devices/device.h"
#include "devices/gpio/gpio_settings.h"
#include "devices/link/kernel_calls.h"

namespace cruscotto {

/// Lines of a chip, by these calls of the kernel.
std::unique_ptr<Device> makeGpio(const DeviceContext& context, GpioSettings settings, KernelCalls calls);

}  // namespace cruscotto
