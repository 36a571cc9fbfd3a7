#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/base/result.h"
#include "core/signal/block.h"

namespace cruscotto {

/// The four tables of the Modbus data model (Modbus Application Protocol V1.1b3, 4.3).
enum class ModbusTable { coil, discrete, holding, input };
const char* modbusTableName(ModbusTable table);

/// One value in a unit's tables.
struct ModbusPoint {
    enum class Type { bit, u16, i16, u32, i32, u64, i64, f32, f64 };
    /// Where the most significant byte, A, stands: abcd as the standard sends words and as most do; cdab: words
    /// swapped; badc: bytes swapped in each word; dcba: both.
    enum class Order { abcd, cdab, badc, dcba };
    std::string name;
    int unit = -1;  ///< 0 to 255; -1: the device's own
    ModbusTable table = ModbusTable::holding;
    std::uint16_t address = 0;  ///< as in the message, counted from 0
    Type type = Type::u16;
    Order order = Order::abcd;
    int bit = -1;                             ///< 0 to 15: only this bit of a register; -1: all of it
    double everySeconds = 0;                  ///< 0: the device's own
    bool out = false;                         ///< written, not read
    bool counter = false;                     ///< counts pulses, and wraps
    [[nodiscard]] std::size_t words() const;  ///< registers; 1 for a coil or a discrete input
    [[nodiscard]] bool isBit() const {
        return table == ModbusTable::coil || table == ModbusTable::discrete || bit >= 0;
    }
    [[nodiscard]] Channel channel() const;
    bool operator==(const ModbusPoint&) const = default;
};

/// Reads "input 30 i16", "unit 2 holding 10 f32 cdab every 0.5", "coil 3 out", "discrete 7", "holding 4 bit 9",
/// "input 8 u32 counter". The error says what is expected.
Result<ModbusPoint> modbusPoint(const std::string& name, std::string_view words);

/// A point's value from its registers. Precondition: words() of them.
double modbusValue(const ModbusPoint& point, const std::uint16_t* registers);
/// The registers that hold a value; it is rounded and held at the type's ends.
std::vector<std::uint16_t> modbusRegisters(const ModbusPoint& point, double value);

/// One request for neighbouring values of one unit.
struct ModbusRead {
    int unit = 1;
    ModbusTable table = ModbusTable::holding;
    std::uint16_t address = 0, count = 0;
    double everySeconds = 1;
    std::vector<std::size_t> points;  ///< indexes into what was planned, in the order of their addresses
};
/// As few requests as the gaps allow: values of one unit, table and rate are read together where at most `mostGap`
/// registers (16 times as many coils) that nobody asked for lie between them, up to 125 registers or 2000 coils a
/// request (V1.1b3, 6.1 to 6.4). `points` without those that are written. Precondition: unit and rate are set in each.
std::vector<ModbusRead> planReads(const std::vector<ModbusPoint>& points, std::size_t mostGap);

/// What asks for so many of them, and what writes a point (V1.1b3, 6).
std::string modbusReadPdu(ModbusTable table, std::uint16_t address, std::uint16_t count);
std::string modbusWritePdu(const ModbusPoint& p, double value);

}  // namespace cruscotto
