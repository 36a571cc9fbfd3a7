#pragma once

#include "devices/device_kind.h"

namespace cruscotto {

/// The kind "io-link-master": smart sensors behind a master that is spoken to by JSON over HTTP (IO-Link Community,
/// JSON Integration for IO-Link, V1.0.0), with their descriptions (IODD).
DeviceKind ioLinkKind();

}  // namespace cruscotto
