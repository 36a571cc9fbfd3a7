#pragma once

#include "devices/device_kind.h"

namespace cruscotto {

/// The kind "sim-fast-box": a simulated box with many fast 16-bit inputs and a sample clock of its own, to see what
/// this computer can take. Every channel carries a sine of 2048 samples a turn, each at another phase, with a
/// converter's noise of 12 counts (standard deviation) on it. Settings: channels (1 to 64), rate-hz (per channel, 1 to
/// 10,000,000), buffer-ms (what the box itself can hold until it is fetched), clock-ppm (how much too fast its clock
/// runs), busy-from-s, busy-to-s (nobody fetches then).
DeviceKind fastBoxKind();

}  // namespace cruscotto
