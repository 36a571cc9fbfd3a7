#pragma once

#include "devices/device_kind.h"

namespace cruscotto {

/// The kind "firmata": a board with the generic firmware of that protocol (2.3 or later): its pins are the terminals.
DeviceKind firmataKind();

}  // namespace cruscotto
