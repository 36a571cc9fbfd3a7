#include "devices/modbus/modbus_point.h"
#include "core/base/parsed.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <limits>
#include <utility>

namespace cruscotto {

namespace {

constexpr std::array<std::pair<const char*, ModbusTable>, 4> tables{{{"coil", ModbusTable::coil},
                                                                     {"discrete", ModbusTable::discrete},
                                                                     {"holding", ModbusTable::holding},
                                                                     {"input", ModbusTable::input}}};
using PointType = ModbusPoint::Type;
using Order = ModbusPoint::Order;
constexpr std::array<std::pair<const char*, PointType>, 8> types{{{"u16", PointType::u16},
                                                                  {"i16", PointType::i16},
                                                                  {"u32", PointType::u32},
                                                                  {"i32", PointType::i32},
                                                                  {"u64", PointType::u64},
                                                                  {"i64", PointType::i64},
                                                                  {"f32", PointType::f32},
                                                                  {"f64", PointType::f64}}};
constexpr std::array<std::pair<const char*, Order>, 4> orders{
    {{"abcd", Order::abcd}, {"cdab", Order::cdab}, {"badc", Order::badc}, {"dcba", Order::dcba}}};

template <class Table, class Value>
bool find(const Table& table, std::string_view word, Value& out) {
    for (const auto& [name, value] : table)
        if (word == name) {
            out = value;
            return true;
        }
    return false;
}

/// The bytes of a value, most significant first, from its registers.
std::uint64_t join(const ModbusPoint& point, const std::uint16_t* registers) {
    const std::size_t n = point.words();
    std::uint64_t bits = 0;
    for (std::size_t i = 0; i < n; ++i) {
        const bool wordsSwapped = point.order == Order::cdab || point.order == Order::dcba;
        std::uint16_t word = registers[wordsSwapped ? n - 1 - i : i];
        if (point.order == Order::badc || point.order == Order::dcba)
            word = static_cast<std::uint16_t>(word << 8 | word >> 8);
        bits = bits << 16 | word;
    }
    return bits;
}

template <class T>
std::uint64_t whole(double value) {
    constexpr double low = static_cast<double>(std::numeric_limits<T>::min());
    constexpr double high = static_cast<double>(std::numeric_limits<T>::max());
    if (std::isnan(value)) return 0;
    const double rounded = std::round(value);
    if (rounded >= high) return static_cast<std::uint64_t>(std::numeric_limits<T>::max());
    if (rounded <= low) return static_cast<std::uint64_t>(std::numeric_limits<T>::min());
    return static_cast<std::uint64_t>(static_cast<T>(rounded));
}

}  // namespace

const char* modbusTableName(ModbusTable table) {
    return tables.at(static_cast<std::size_t>(table)).first;
}

std::size_t ModbusPoint::words() const {
    switch (type) {
        case PointType::u32:
        case PointType::i32:
        case PointType::f32:
            return 2;
        case PointType::u64:
        case PointType::i64:
        case PointType::f64:
            return 4;
        default:
            return 1;
    }
}

Channel ModbusPoint::channel() const {
    Channel c;
    c.terminal = name;
    if (out)
        c.kind = isBit() ? ChannelKind::digitalOutput : ChannelKind::analogOutput;
    else if (counter)
        c.kind = ChannelKind::counterInput;
    else
        c.kind = isBit() ? ChannelKind::digitalInput : ChannelKind::analogInput;
    if (isBit())
        c.type = SampleType::bit;
    else if (type == PointType::i16)
        c.type = SampleType::int16;
    else if (type == PointType::u16 || type == PointType::u32)
        c.type = SampleType::uint32;
    else if (type == PointType::i32)
        c.type = SampleType::int32;
    else if (type == PointType::f32)
        c.type = SampleType::float32;
    else
        c.type = SampleType::float64;
    return c;
}

Result<ModbusPoint> modbusPoint(const std::string& name, std::string_view text) {
    ModbusPoint p;
    p.name = name;
    bool placed = false, typed = false;
    std::vector<std::string_view> words;
    while (!text.empty()) {
        const std::size_t start = text.find_first_not_of(" \t");
        if (start == std::string_view::npos) break;
        const std::size_t end = std::min(text.find_first_of(" \t", start), text.size());
        words.push_back(text.substr(start, end - start));
        text.remove_prefix(end);
    }
    const auto wrong = [&](std::string_view word) {
        return failure(
            "{0}: \"{1}\" is not understood. It takes a table and an address counted from 0, as in: input 30 i16, or "
            "unit 2 holding 10 f32 cdab every 0.5, coil 3 out, holding 4 bit 9.",
            name, std::string(word));
    };
    for (std::size_t i = 0; i < words.size(); ++i) {
        const std::string_view word = words[i];
        const std::string_view next = i + 1 < words.size() ? words[i + 1] : std::string_view{};
        if (find(tables, word, p.table)) {
            if (placed || !parsed(next, p.address)) return wrong(word);
            placed = true;
            ++i;
        } else if (find(types, word, p.type)) {
            typed = true;
        } else if (find(orders, word, p.order)) {
        } else if (word == "unit") {
            if (!parsed(next, p.unit) || p.unit < 0 || p.unit > 255)
                return failure("{0}: a unit is a number from 0 to 255.", name);
            ++i;
        } else if (word == "every") {
            if (!parsed(next, p.everySeconds) || !(p.everySeconds >= 0.001 && p.everySeconds <= 86400))
                return failure("{0}: \"every\" takes seconds, 0.001 to 86400.", name);
            ++i;
        } else if (word == "bit") {
            if (!parsed(next, p.bit) || p.bit < 0 || p.bit > 15)
                return failure("{0}: a register has the bits 0 to 15.", name);
            ++i;
        } else if (word == "out") {
            p.out = true;
        } else if (word == "counter") {
            p.counter = true;
        } else {
            return wrong(word);
        }
    }
    if (!placed) return wrong(words.empty() ? "" : words.front());
    const bool coils = p.table == ModbusTable::coil || p.table == ModbusTable::discrete;
    if (coils && (typed || p.bit >= 0))
        return failure("{0}: a {1} is one bit; it has no type.", name, modbusTableName(p.table));
    if (coils) p.type = PointType::bit;
    if (p.out && (p.table == ModbusTable::discrete || p.table == ModbusTable::input))
        return failure("{0}: the table \"{1}\" can only be read. Outputs are coils or holding registers.", name,
                       modbusTableName(p.table));
    if (p.out && p.bit >= 0)
        return failure("{0}: one bit of a register cannot be written without the others. Use a coil, or all of it.",
                       name);
    if (p.counter && (p.out || p.isBit() || p.type != PointType::u32))
        return failure("{0}: a counter is read as u32.", name);
    if (p.address + p.words() > 65536) return failure("{0}: the addresses end at 65535.", name);
    return p;
}

double modbusValue(const ModbusPoint& point, const std::uint16_t* registers) {
    if (point.bit >= 0) return registers[0] >> point.bit & 1;
    const std::uint64_t bits = join(point, registers);
    switch (point.type) {
        case PointType::bit:
            return bits != 0;
        case PointType::u16:
        case PointType::u32:
        case PointType::u64:
            return static_cast<double>(bits);
        case PointType::i16:
            return static_cast<std::int16_t>(bits);
        case PointType::i32:
            return static_cast<std::int32_t>(bits);
        case PointType::i64:
            return static_cast<double>(static_cast<std::int64_t>(bits));
        case PointType::f32:
            return std::bit_cast<float>(static_cast<std::uint32_t>(bits));
        case PointType::f64:
            return std::bit_cast<double>(bits);
    }
    return 0;
}

std::vector<std::uint16_t> modbusRegisters(const ModbusPoint& point, double value) {
    std::uint64_t bits = 0;
    switch (point.type) {
        case PointType::bit:
            bits = value != 0;
            break;
        case PointType::u16:
            bits = whole<std::uint16_t>(value);
            break;
        case PointType::i16:
            bits = whole<std::int16_t>(value);
            break;
        case PointType::u32:
            bits = whole<std::uint32_t>(value);
            break;
        case PointType::i32:
            bits = whole<std::int32_t>(value);
            break;
        case PointType::u64:
            bits = whole<std::uint64_t>(value);
            break;
        case PointType::i64:
            bits = whole<std::int64_t>(value);
            break;
        case PointType::f32:
            bits = std::bit_cast<std::uint32_t>(static_cast<float>(value));
            break;
        case PointType::f64:
            bits = std::bit_cast<std::uint64_t>(value);
            break;
    }
    const std::size_t n = point.words();
    std::vector<std::uint16_t> out(n);
    for (std::size_t i = 0; i < n; ++i) out[i] = static_cast<std::uint16_t>(bits >> (16 * (n - 1 - i)));
    // Each order is its own inverse.
    const std::uint64_t ordered = join(point, out.data());
    for (std::size_t i = 0; i < n; ++i) out[i] = static_cast<std::uint16_t>(ordered >> (16 * (n - 1 - i)));
    return out;
}

std::vector<ModbusRead> planReads(const std::vector<ModbusPoint>& points, std::size_t mostGap) {
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < points.size(); ++i)
        if (!points[i].out) order.push_back(i);
    const auto key = [&](std::size_t i) {
        const ModbusPoint& p = points[i];
        return std::tuple(p.unit, p.table, p.everySeconds, p.address);
    };
    std::ranges::stable_sort(order, {}, key);
    std::vector<ModbusRead> out;
    for (const std::size_t i : order) {
        const ModbusPoint& p = points[i];
        const bool coils = p.table == ModbusTable::coil || p.table == ModbusTable::discrete;
        const std::size_t end = p.address + p.words();
        if (!out.empty()) {
            ModbusRead& last = out.back();
            const std::size_t lastEnd = std::size_t{last.address} + last.count;
            if (last.unit == p.unit && last.table == p.table && last.everySeconds == p.everySeconds &&
                p.address <= lastEnd + mostGap * (coils ? 16 : 1) && end - last.address <= (coils ? 2000U : 125U)) {
                last.count = static_cast<std::uint16_t>(std::max(lastEnd, end) - last.address);
                last.points.push_back(i);
                continue;
            }
        }
        out.push_back({p.unit, p.table, p.address, static_cast<std::uint16_t>(p.words()), p.everySeconds, {i}});
    }
    return out;
}

std::string modbusReadPdu(ModbusTable table, std::uint16_t address, std::uint16_t count) {
    static constexpr int readFunction[] = {1, 2, 3, 4};  // by ModbusTable
    std::string out;
    out += static_cast<char>(readFunction[static_cast<int>(table)]);
    for (const std::uint16_t w : {address, count}) {
        out += static_cast<char>(w >> 8);
        out += static_cast<char>(w);
    }
    return out;
}

std::string modbusWritePdu(const ModbusPoint& p, double value) {
    std::string out;
    const auto put = [&](unsigned w) {
        out += static_cast<char>(w >> 8);
        out += static_cast<char>(w);
    };
    if (p.table == ModbusTable::coil) {
        out += '\x05';
        put(p.address);
        put(value != 0 ? 0xFF00U : 0U);
        return out;
    }
    const auto registers = modbusRegisters(p, value);
    out += registers.size() == 1 ? '\x06' : '\x10';
    put(p.address);
    if (registers.size() > 1) {
        put(static_cast<unsigned>(registers.size()));
        out += static_cast<char>(registers.size() * 2);
    }
    for (const std::uint16_t r : registers) put(r);
    return out;
}

}  // namespace cruscotto
