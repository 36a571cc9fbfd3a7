#pragma once

#include <array>
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace cruscotto {

/// A frame on a CAN bus (ISO 11898-1).
struct CanFrame {
    std::uint32_t id = 0;  ///< 11 bits, or 29 where extended
    bool extended = false, remote = false;
    bool fd = false, bitRateSwitch = false;
    std::uint8_t length = 0;  ///< bytes of data: 0 to 8; FD: also 12, 16, 20, 24, 32, 48, 64
    std::array<std::uint8_t, 64> data{};
    bool operator==(const CanFrame&) const = default;
};

/// The bytes that an FD frame carries for a code of four bits, and the least code that has room (ISO 11898-1, 8.4.2.4).
std::uint8_t fdLength(unsigned code);
unsigned fdCode(std::size_t length);

/// How long the bus is taken by it, in bits of the nominal rate: with its own stuff bits, which its CRC decides
/// (11898-1, 8.4.2 and 10.5), the gaps and delimiters, and the three bits between two frames. FD: as if all were at one
/// rate.
unsigned bitsOnBus(const CanFrame& frame);

/// "123" or "18FEF100" for the wire view and for people: 3 or 8 hexadecimal digits.
std::string canIdText(const CanFrame& frame);

/// The widespread text protocol of serial adapters: t (11 bit) and T (29 bit), r and R (remote), d, D, b, B (FD,
/// without and with the faster rate), then the identifier, a digit of the length, and the data, all in hexadecimal, \r
/// behind it.
std::string slcanText(const CanFrame& frame);

/// Cuts what an adapter sends into frames and answers. Holds at most one line. Confined to one thread.
class SlcanReader {
public:
    struct Piece {
        enum class What { frame, done, refused, other, nonsense } what = What::nonsense;
        CanFrame frame;
        std::string bytes;  ///< as they came
    };
    void feed(std::string_view bytes, std::vector<Piece>& out);
    void reset();

private:
    std::string line_;
    bool skipping_ = false;
};

}  // namespace cruscotto
