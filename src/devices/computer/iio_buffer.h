#pragma once

#include "devices/device_kind.h"

namespace cruscotto {

/// How a channel of a buffered capture is packed, as the kernel's sysfs says: "le:s12/16>>4"
/// (Documentation/ABI/testing/sysfs-bus-iio, scan_elements).
struct IioElement {
    bool bigEndian = false, isSigned = false;
    int bits = 16;         ///< that mean something
    int storageBits = 16;  ///< 8, 16, 32 or 64
    int shift = 0;
    int repeat = 1;
    [[nodiscard]] std::size_t bytes() const { return static_cast<std::size_t>(storageBits / 8 * repeat); }
    /// The first value. Precondition: bytes() of them.
    [[nodiscard]] double value(const char* bytes) const;
    bool operator==(const IioElement&) const = default;
};
Result<IioElement> iioElement(const std::string& text);

/// Where each element of a scan lies: behind the one before, at a multiple of its own size. Returns the whole scan's
/// size, which is a multiple of the largest.
std::size_t layOutScan(const std::vector<IioElement>& elements, std::vector<std::size_t>& offsets);

/// The kind "iio-buffer": an input of the kernel's industrial I/O that is read scan by scan from its buffer, as its
/// trigger says.
DeviceKind iioBufferKind();

}  // namespace cruscotto
