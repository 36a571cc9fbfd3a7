#pragma once

#include <string>
#include <vector>

#include "core/base/result.h"

namespace cruscotto {

/// A serial port that is attached now.
struct FoundPort {
    std::string path;  ///< the name that stays the same when it is plugged in again, where the system has one
    std::string node;  ///< the name of today: /dev/ttyUSB0
    std::string maker, product, serial;  ///< as the adapter or board says; empty where it does not
    Text problem;  ///< why it cannot be opened now, and what mends it; empty: it can, as far as is known
    bool operator==(const FoundPort&) const = default;
};

/// Looks only; opens and writes nothing. Sorted by path. Ports that the kernel lists without hardware behind them are
/// left out. `root` is where the trees /sys and /dev are looked for, so that a made or a copied one can be examined.
std::vector<FoundPort> findSerialPorts(const std::string& root = "/");

/// The names of the CAN interfaces that the kernel has now ("can0"), from sys/class/net. Looks only.
std::vector<std::string> findCanInterfaces(const std::string& root = "/");

}  // namespace cruscotto
