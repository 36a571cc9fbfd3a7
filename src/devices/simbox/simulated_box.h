#pragma once

#include "devices/device_kind.h"

namespace cruscotto {

/// The kind "sim-io-box": a simulated multichannel I/O box with the pump bench wired to it. 16-bit converters with a
/// choice of ranges, two 32-bit pulse counters, four digital inputs, one analog and two digital outputs.
/// Settings: seed (number), rate-hz (of the analog and digital inputs; the counters are read at a tenth of it),
/// sieve-hz (of the seed sorter; 0: by its own programme), faults (list of names, or of {"fault", "from-s", "to-s"}).
DeviceKind simulatedBoxKind();

}  // namespace cruscotto
