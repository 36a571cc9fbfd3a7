#pragma once

#include "devices/device_kind.h"

namespace cruscotto {

/// The kind "computer": what the kernel offers of this computer and the boards on it. Only what the bench uses is read.
DeviceKind computerKind();

}  // namespace cruscotto
