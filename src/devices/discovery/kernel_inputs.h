#pragma once

#include <string>
#include <vector>

#include "core/base/result.h"
#include "core/bench/bench.h"

namespace cruscotto {

/// Something that the kernel itself offers, and the device that reads it.
struct FoundInput {
    std::string kind;  ///< of device
    std::string name;  ///< as the kernel or the thing itself says
    Text what;
    JsonText settings;       ///< to begin with
    std::string key, value;  ///< the setting by which a device of a bench is known to be this one
    bool operator==(const FoundInput&) const = default;
};

/// CAN interfaces, sensors, inputs with a buffer (IIO), chips of lines (GPIO), counters that tell of events, sound
/// inputs. Looks into the trees /sys, /dev and /proc under `root` only; opens no device and writes nothing.
std::vector<FoundInput> findKernelInputs(const std::string& root = "/");

}  // namespace cruscotto
