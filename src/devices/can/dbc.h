#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/base/result.h"
#include "core/signal/block.h"
#include "devices/can/can_frame.h"

namespace cruscotto {

/// A signal in a message, as a DBC file describes it.
struct DbcSignal {
    std::string name;
    /// The number of its lowest bit where the order is little endian, of its highest where it is big endian, counted
    /// as the file does: bit 0 of byte 0 is 0, bit 7 of byte 1 is 15.
    unsigned start = 0, bits = 1;
    bool bigEndian = false, isSigned = false;
    enum class Float { none, single, twice } real = Float::none;
    double factor = 1, offset = 0, low = 0, high = 0;
    std::string unit;
    bool selects = false;                ///< its value tells which of the others are there
    std::optional<unsigned> selectedBy;  ///< it is there when the selecting signal has this value
    std::map<std::int64_t, std::string> words;
    std::string comment;
    /// The type that holds its raw values exactly, where one does.
    [[nodiscard]] SampleType sampleType() const;
    bool operator==(const DbcSignal&) const = default;
};
struct DbcMessage {
    std::uint32_t id = 0;
    bool extended = false;
    std::string name, sender, comment;
    std::uint8_t length = 8;
    double cycleSeconds = 0;  ///< 0: not said
    std::vector<DbcSignal> signals;
    [[nodiscard]] const DbcSignal* selector() const;
    bool operator==(const DbcMessage&) const = default;
};
struct Dbc {
    std::vector<DbcMessage> messages;
    std::vector<std::string> leftOut{};  ///< signals that cannot be read as they are described, and why; with the line
    bool operator==(const Dbc&) const = default;
};

/// Reads messages, signals, value tables, comments, cycle times and float types; what else a file holds is passed over.
/// The error says in which line it is wrong. A signal that does not fit in its message is left
/// out, and the others are read.
Result<Dbc> readDbc(std::string_view text);
/// What readDbc() and other readers take. Names that the format does not allow are made to fit.
std::string writeDbc(const Dbc& dbc);

/// A signal's raw value in the data; not there where the frame is too short.
std::optional<double> rawValue(const DbcSignal& signal, const CanFrame& frame);
/// Puts a raw value into the data; it is rounded and held at the ends of its bits. Precondition: it fits in the frame.
void setRawValue(const DbcSignal& signal, double raw, CanFrame& frame);
/// The bytes of the data that hold some of it: first and one behind the last.
std::pair<std::size_t, std::size_t> bytesOfSignal(const DbcSignal& signal);

}  // namespace cruscotto
