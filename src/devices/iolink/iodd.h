#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/base/result.h"
#include "core/signal/block.h"
#include "core/signal/scale.h"

namespace cruscotto {

/// One value of a smart sensor, as its description has it (IO Device Description, V1.1): in its process data, or a
/// parameter. Bits are counted from the least significant of the last byte.
struct IoddValue {
    enum class Type { boolean, unsignedWhole, signedWhole, real, text };
    std::string name;
    Type type = Type::unsignedWhole;
    std::size_t bitOffset = 0;
    std::size_t bits = 8;  ///< a text: 8 times its longest
    double gradient = 1;   ///< shown = gradient * raw + offset
    double offset = 0;
    std::string unit;                                           ///< UCUM
    std::vector<std::pair<std::int64_t, std::string>> words{};  ///< what single values mean
    std::optional<Scale> limits{};                              ///< of the raw value
    [[nodiscard]] SampleType sampleType() const;
    /// The raw value in bytes that came, most significant first; empty where they are too few, or it is a text.
    [[nodiscard]] std::optional<double> raw(std::string_view bytes) const;
    /// Puts a raw value there, rounded and held at its ends. Precondition: the bytes are enough.
    void put(double value, std::string& bytes) const;
};

/// A parameter of the sensor, or one part of one.
struct IoddParameter {
    IoddValue value;
    int index = 0;
    int subindex = 0;  ///< 0: all of it
    bool readable = true, writable = true;
};

struct Iodd {
    std::uint32_t vendorId = 0, deviceId = 0;
    std::string vendor, device;
    std::vector<IoddValue> in, out;  ///< process data from and to the sensor
    std::size_t inBits = 0, outBits = 0;
    std::vector<IoddParameter> parameters;
    std::vector<std::pair<int, std::string>> commands;  ///< what the system command understands
};

/// Reads a description. The error says what is missing. What it does not understand is left out; external entities are
/// not followed.
Result<Iodd> readIodd(std::string_view xml);
Result<Iodd> loadIodd(const std::string& path);

/// UCUM's code for a unit code of IODD's standard unit definitions, as 1001 for the degree Celsius; "{unit 1999}" for
/// one that is not known here.
std::string ioddUnit(int code);

/// A system command after which the sensor is away for a moment (IO-Link Interface and System Specification V1.1.3,
/// table B.9: device reset 128, restore factory settings 130, back-to-box 131); application reset, 129, keeps it.
bool losesConnection(int command);

}  // namespace cruscotto
