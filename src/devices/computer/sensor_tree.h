#pragma once

#include <optional>
#include <string>
#include <vector>

#include "devices/device.h"
#include "devices/terminal_setup.h"

namespace cruscotto {

/// A value that the kernel offers as a file: of its hardware monitors (hwmon), of its industrial I/O devices (IIO, one
/// shot at a time), or of its counters.
struct KernelSensor {
    TerminalInfo info;  ///< its name, "cpu.temp1"; how it is read; what its label says
    std::string path;   ///< of the file with the raw number
    /// Where what a count is worth can be chosen: of which the kernel offers these, as it writes them.
    std::vector<std::string> scales{};
    std::string scalePath{};
    double scaleNow = 1, offset = 0, factor = 1;  ///< (count + offset) * scale * factor, in the chain's unit
    bool operator==(const KernelSensor&) const = default;
};

/// Looks only. `root`: where /sys is looked for, so that a made or a copied tree can be examined. Names stay the same
/// when the kernel numbers its devices otherwise; of two of one name the second is "cpu#2". At most 1000, in the order
/// of their names. The files are those of the kernel's sysfs documentation: hwmon/sysfs-interface,
/// testing/sysfs-bus-iio, testing/sysfs-bus-counter.
std::vector<KernelSensor> findKernelSensors(const std::string& root);

/// What can be set at such a sensor, and its chain as it is set up then.
std::vector<TerminalSetting> sensorSettings(const KernelSensor& sensor);
ChainSpec sensorChain(const KernelSensor& sensor, const TerminalSetup& setup);

/// The number in such a file; empty where it cannot be read or holds none.
std::optional<double> readKernelNumber(const std::string& path);

}  // namespace cruscotto
