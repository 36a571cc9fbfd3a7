#include "devices/link/check_sum.h"

#include <algorithm>
#include <array>

namespace cruscotto {

namespace {

/// A CRC's table of remainders: one step a byte.
template <unsigned width, std::uint32_t polynomial, bool reflected>
constexpr std::array<std::uint32_t, 256> remainders() {
    std::array<std::uint32_t, 256> out{};
    for (std::uint32_t byte = 0; byte < 256; ++byte) {
        std::uint32_t r = reflected ? byte : byte << (width - 8);
        for (int i = 0; i < 8; ++i) {
            if constexpr (reflected)
                r = (r & 1U) != 0 ? (r >> 1) ^ polynomial : r >> 1;
            else
                r = (r >> (width - 1) & 1U) != 0 ? (r << 1) ^ polynomial : r << 1;
        }
        out[byte] = r;
    }
    return out;
}

/// `polynomial` in the order of the bits as they are shifted: reversed where reflected.
template <unsigned width, std::uint32_t polynomial, bool reflected>
std::uint32_t crc(std::string_view bytes, std::uint32_t preset) {
    static constexpr auto table = remainders<width, polynomial, reflected>();
    constexpr std::uint32_t mask = width == 32 ? 0xFFFFFFFFU : (1U << (width % 32)) - 1;
    std::uint32_t r = preset;
    for (const char c : bytes) {
        const auto byte = static_cast<std::uint8_t>(c);
        if constexpr (reflected)
            r = r >> 8 ^ table[(r ^ byte) & 0xFFU];
        else
            r = r << 8 ^ table[(r >> (width - 8) ^ byte) & 0xFFU];
    }
    return r & mask;
}

}  // namespace

const std::vector<std::pair<CheckSum, std::string>>& checkSums() {
    static const std::vector<std::pair<CheckSum, std::string>> all{{CheckSum::sum8, "sum8"},
                                                                   {CheckSum::sum8Negated, "sum8-negated"},
                                                                   {CheckSum::xor8, "xor8"},
                                                                   {CheckSum::crc8, "crc8"},
                                                                   {CheckSum::crc8Maxim, "crc8-maxim"},
                                                                   {CheckSum::crc16Modbus, "crc16-modbus"},
                                                                   {CheckSum::crc16Ccitt, "crc16-ccitt"},
                                                                   {CheckSum::crc16Xmodem, "crc16-xmodem"},
                                                                   {CheckSum::crc32, "crc32"}};
    return all;
}

std::optional<CheckSum> checkSumNamed(std::string_view name) {
    for (const auto& [kind, word] : checkSums())
        if (word == name) return kind;
    return std::nullopt;
}

std::size_t checkSumBytes(CheckSum kind) {
    switch (kind) {
        case CheckSum::crc16Modbus:
        case CheckSum::crc16Ccitt:
        case CheckSum::crc16Xmodem:
            return 2;
        case CheckSum::crc32:
            return 4;
        default:
            return 1;
    }
}

std::uint32_t checkSum(CheckSum kind, std::string_view bytes) {
    std::uint32_t plain = 0;
    switch (kind) {
        case CheckSum::sum8:
        case CheckSum::sum8Negated:
            for (const char c : bytes) plain += static_cast<std::uint8_t>(c);
            return (kind == CheckSum::sum8 ? plain : 0U - plain) & 0xFFU;
        case CheckSum::xor8:
            for (const char c : bytes) plain ^= static_cast<std::uint8_t>(c);
            return plain;
        case CheckSum::crc8:
            return crc<8, 0x07, false>(bytes, 0);
        case CheckSum::crc8Maxim:
            return crc<8, 0x8C, true>(bytes, 0);
        case CheckSum::crc16Modbus:
            return crc<16, 0xA001, true>(bytes, 0xFFFF);
        case CheckSum::crc16Ccitt:
            return crc<16, 0x1021, false>(bytes, 0xFFFF);
        case CheckSum::crc16Xmodem:
            return crc<16, 0x1021, false>(bytes, 0);
        case CheckSum::crc32:
            return ~crc<32, 0xEDB88320, true>(bytes, 0xFFFFFFFF);
    }
    return 0;
}

}  // namespace cruscotto
