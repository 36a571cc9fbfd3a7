#include "devices/modbus/modbus_frame.h"

#include <array>

#include "devices/link/check_sum.h"

namespace cruscotto {

namespace {

constexpr std::size_t longestTcp = 260, longestRtu = 256;

std::uint8_t at(std::string_view s, std::size_t i) {
    return static_cast<std::uint8_t>(s[i]);
}
std::uint16_t word(std::string_view s, std::size_t i) {
    return static_cast<std::uint16_t>(at(s, i) << 8 | at(s, i + 1));
}
void put(std::string& out, std::uint16_t value) {
    out += static_cast<char>(value >> 8);
    out += static_cast<char>(value);
}

/// Of a device identification: its objects tell their lengths one by one.
int identificationLength(std::string_view s) {
    if (s.size() > 2 && at(s, 2) != 0x0E) return -1;
    if (s.size() < 8) return 0;
    std::size_t i = 8;
    for (int left = at(s, 7); left > 0; --left) {
        if (i + 2 > s.size()) return 0;
        i += 2U + at(s, i + 1);
        if (i > longestRtu) return -1;
    }
    return static_cast<int>(i) + 2;
}

/// Bytes of a reply on a serial line, with its CRC, as far as its beginning tells; 0: not yet; -1: it is none.
int replyLength(std::string_view s) {
    if (s.size() < 2) return 0;
    const std::uint8_t function = at(s, 1);
    if (function & 0x80U) return 5;
    switch (function) {
        case 1:
        case 2:
        case 3:
        case 4:
            return s.size() < 3 ? 0 : 5 + at(s, 2);
        case 5:
        case 6:
        case 15:
        case 16:
            return 8;
        case 0x2B:
            return identificationLength(s);
        default:
            return -1;
    }
}

}  // namespace

std::uint16_t modbusCrc(std::string_view bytes) {
    return static_cast<std::uint16_t>(checkSum(CheckSum::crc16Modbus, bytes));
}

std::string modbusBytes(ModbusFraming framing, const ModbusMessage& m) {
    std::string out;
    if (framing == ModbusFraming::tcp) {
        put(out, m.transaction);
        put(out, 0);
        put(out, static_cast<std::uint16_t>(m.pdu.size() + 1));
        out += static_cast<char>(m.unit);
        return out + m.pdu;
    }
    out += static_cast<char>(m.unit);
    out += m.pdu;
    const std::uint16_t crc = modbusCrc(out);
    out += static_cast<char>(crc);
    out += static_cast<char>(crc >> 8);
    return out;
}

void ModbusReplies::refuse(Text problem, std::vector<Piece>& out) {
    out.push_back({std::move(held_), {}, std::move(problem)});
    held_.clear();
}

void ModbusReplies::feed(std::string_view bytes, std::vector<Piece>& out) {
    while (true) {
        // No more is held than one frame: a peer that never ends a frame costs nothing.
        const std::size_t room = (framing_ == ModbusFraming::tcp ? longestTcp : longestRtu) - held_.size();
        held_ += bytes.substr(0, room);
        bytes.remove_prefix(std::min(room, bytes.size()));
        if (held_.empty()) return;
        if (framing_ == ModbusFraming::tcp) {
            if (held_.size() < 7) return;
            const std::size_t length = word(held_, 4);
            if (word(held_, 2) != 0 || length < 3 || length > longestTcp - 6) {
                refuse(CRUSCOTTO_TEXT("no Modbus reply: its header makes no sense"), out);
                continue;
            }
            if (held_.size() < 6 + length) return;
            Piece piece;
            piece.bytes = held_.substr(0, 6 + length);
            piece.message = {word(held_, 0), at(held_, 6), piece.bytes.substr(7)};
            held_.erase(0, 6 + length);
            out.push_back(std::move(piece));
        } else {
            const int length = replyLength(held_);
            if (length < 0 || length > static_cast<int>(longestRtu)) {
                refuse(CRUSCOTTO_TEXT("no Modbus reply: it begins with no known function"), out);
                continue;
            }
            if (length == 0 || held_.size() < static_cast<std::size_t>(length)) return;
            const auto n = static_cast<std::size_t>(length);
            Piece piece;
            piece.bytes = held_.substr(0, n);
            const std::uint16_t crc = modbusCrc(std::string_view(piece.bytes).substr(0, n - 2));
            if (at(piece.bytes, n - 2) != (crc & 0xff) || at(piece.bytes, n - 1) != crc >> 8) {
                refuse(CRUSCOTTO_TEXT("its check sum is wrong"), out);
                continue;
            }
            piece.message = {0, at(held_, 0), piece.bytes.substr(1, n - 3)};
            held_.erase(0, n);
            out.push_back(std::move(piece));
        }
    }
}

void ModbusReplies::pause(std::vector<Piece>& out) {
    if (!held_.empty()) refuse(CRUSCOTTO_TEXT("no whole reply"), out);
}

Text modbusException(std::uint8_t code) {
    switch (code) {
        case 1:
            return CRUSCOTTO_TEXT(
                "it does not know this function: the table cannot be read or written that way (exception 1)");
        case 2:
            return CRUSCOTTO_TEXT("it has no such address, or not so many behind it (exception 2)");
        case 3:
            return CRUSCOTTO_TEXT("it does not take this value or this number of values (exception 3)");
        case 4:
            return CRUSCOTTO_TEXT("it failed while it did it (exception 4)");
        case 5:
            return CRUSCOTTO_TEXT("it has begun and needs longer (exception 5)");
        case 6:
            return CRUSCOTTO_TEXT("it is busy; ask later (exception 6)");
        case 8:
            return CRUSCOTTO_TEXT("its own memory has an error (exception 8)");
        case 10:
            return CRUSCOTTO_TEXT("the gateway has no path to that unit (exception 10)");
        case 11:
            return CRUSCOTTO_TEXT("the unit behind the gateway does not answer (exception 11)");
        default:
            return text(CRUSCOTTO_TEXT("it refused with the exception {0}"), code);
    }
}

}  // namespace cruscotto
