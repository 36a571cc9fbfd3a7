#include "devices/can/can_frame.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

namespace cruscotto {

namespace {

constexpr std::array<std::uint8_t, 16> fdLengths{0, 1, 2, 3, 4, 5, 6, 7, 8, 12, 16, 20, 24, 32, 48, 64};
constexpr std::size_t longestLine = 1 + 8 + 1 + 128 + 8;  // with a time stamp, as some adapters add

int digit(char c) {
    if (c >= '0' && c <= '9') return c - '0';
    if (c >= 'A' && c <= 'F') return c - 'A' + 10;
    if (c >= 'a' && c <= 'f') return c - 'a' + 10;
    return -1;
}

/// Counts the bits of a frame as they are put on the bus: after five equal ones another one.
struct BusBits {
    unsigned count = 0, crc = 0;
    int equal = 0, last = -1;
    bool stuffed = true;
    void put(unsigned value, int bits) {
        for (int i = bits - 1; i >= 0; --i) {
            const int bit = static_cast<int>(value >> i & 1U);
            const bool next = (bit ^ static_cast<int>(crc >> 14 & 1U)) != 0;
            crc = crc << 1 & 0x7fffU;
            if (next) crc ^= 0x4599U;
            one(bit);
        }
    }
    void one(int bit) {
        ++count;
        equal = bit == last ? equal + 1 : 1;
        last = bit;
        if (stuffed && equal == 5) {
            ++count;
            last = 1 - bit;
            equal = 1;
        }
    }
};

bool frameFrom(std::string_view line, CanFrame& out) {
    const char kind = line[0];
    const std::string_view known = "tTrRdDbB";
    if (known.find(kind) == std::string_view::npos) return false;
    out.extended = kind == 'T' || kind == 'R' || kind == 'D' || kind == 'B';
    out.remote = kind == 'r' || kind == 'R';
    out.fd = kind == 'd' || kind == 'D' || kind == 'b' || kind == 'B';
    out.bitRateSwitch = kind == 'b' || kind == 'B';
    const std::size_t idDigits = out.extended ? 8 : 3;
    if (line.size() < 2 + idDigits) return false;
    for (std::size_t i = 1; i <= idDigits; ++i) {
        const int d = digit(line[i]);
        if (d < 0) return false;
        out.id = out.id << 4 | static_cast<unsigned>(d);
    }
    if (out.id > (out.extended ? 0x1FFFFFFFU : 0x7FFU)) return false;
    const int code = digit(line[1 + idDigits]);
    if (code < 0 || (!out.fd && code > 8)) return false;
    out.length = fdLength(static_cast<unsigned>(code));
    const std::string_view rest = line.substr(2 + idDigits);
    const std::size_t digits = out.remote ? 0 : 2U * out.length;
    if (rest.size() != digits && rest.size() != digits + 4 && rest.size() != digits + 8) return false;
    for (std::size_t i = 0; i < digits / 2; ++i) {
        const int high = digit(rest[2 * i]), low = digit(rest[2 * i + 1]);
        if (high < 0 || low < 0) return false;
        out.data.at(i) = static_cast<std::uint8_t>(high << 4 | low);
    }
    return true;
}

}  // namespace

std::uint8_t fdLength(unsigned code) {
    return fdLengths.at(code & 15U);
}
unsigned fdCode(std::size_t length) {
    return static_cast<unsigned>(std::ranges::lower_bound(fdLengths, std::min<std::size_t>(length, 64)) -
                                 fdLengths.begin());
}

unsigned bitsOnBus(const CanFrame& f) {
    BusBits bits;
    bits.put(0, 1);
    if (f.extended) {
        bits.put(f.id >> 18, 11);
        bits.put(3, 2);
        bits.put(f.id & 0x3ffffU, 18);
        bits.put(f.remote, 1);
        bits.put(0, 2);
    } else {
        bits.put(f.id, 11);
        bits.put(f.remote, 1);
        bits.put(0, 2);
    }
    bits.put(fdCode(f.length), 4);
    if (!f.remote)
        for (std::size_t i = 0; i < f.length; ++i) bits.put(f.data.at(i), 8);
    const unsigned crc = bits.crc;
    for (int i = 14; i >= 0; --i) bits.one(static_cast<int>(crc >> i & 1U));
    if (f.fd) bits.count += f.length > 16 ? 16 : 12;  // its CRC is longer, and has stuff bits at fixed places
    return bits.count + 3 + 7 + 3;                    // delimiters and acknowledge, end of frame, what lies between two
}

std::string canIdText(const CanFrame& f) {
    return f.extended ? fmt::format("{:08X}", f.id) : fmt::format("{:03X}", f.id);
}

std::string slcanText(const CanFrame& f) {
    char kind = f.remote ? 'r' : f.bitRateSwitch ? 'b' : f.fd ? 'd' : 't';
    if (f.extended) kind = static_cast<char>(kind - 'a' + 'A');
    std::string out = fmt::format("{}{}{:X}", kind, canIdText(f), f.fd ? fdCode(f.length) : f.length);
    if (!f.remote)
        for (std::size_t i = 0; i < (f.fd ? fdLength(fdCode(f.length)) : f.length); ++i)
            out += fmt::format("{:02X}", f.data.at(i));
    return out + '\r';
}

void SlcanReader::reset() {
    line_.clear();
    skipping_ = false;
}

void SlcanReader::feed(std::string_view bytes, std::vector<Piece>& out) {
    for (const char c : bytes) {
        if (c == '\a') {
            Piece piece;
            piece.what = Piece::What::refused;
            piece.bytes = line_ + c;
            out.push_back(std::move(piece));
            reset();
            continue;
        }
        if (c != '\r' && c != '\n') {
            if (skipping_) continue;
            line_ += c;
            if (line_.size() > longestLine) {
                Piece piece;
                piece.bytes = std::exchange(line_, {});
                out.push_back(std::move(piece));
                skipping_ = true;
            }
            continue;
        }
        if (std::exchange(skipping_, false)) continue;
        if (c == '\n' && line_.empty()) continue;
        Piece piece;
        piece.bytes = line_ + c;
        if (line_.empty() || line_ == "z" || line_ == "Z")  // done; a frame was sent
            piece.what = Piece::What::done;
        else if (frameFrom(line_, piece.frame))
            piece.what = Piece::What::frame;
        else if (line_[0] == 'V' || line_[0] == 'v' || line_[0] == 'N' || line_[0] == 'F')
            piece.what = Piece::What::other;
        out.push_back(std::move(piece));
        line_.clear();
    }
}

}  // namespace cruscotto
