#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace cruscotto {

/// What a message carries so that damage on the way shows. CRCs are by the parameters of Williams, "A painless guide to
/// CRC error detection algorithms" (1993): each is described by its width, polynomial, preset and reflection.
enum class CheckSum {
    sum8,         ///< the sum of the bytes, its lowest 8 bits
    sum8Negated,  ///< what makes the sum of all bytes 0
    xor8,         ///< the exclusive or of the bytes
    crc8,         ///< polynomial 0x07, preset 0
    crc8Maxim,    ///< 0x31 reflected, preset 0; of one-wire sensors
    crc16Modbus,  ///< 0x8005 reflected, preset 0xFFFF (Modbus over Serial Line V1.02, 6.2.2)
    crc16Ccitt,   ///< 0x1021, preset 0xFFFF
    crc16Xmodem,  ///< 0x1021, preset 0
    crc32         ///< 0x04C11DB7 reflected, preset and final all ones (IEEE 802.3, 3.2.9)
};
/// All of them, with their names, as "crc16-modbus".
const std::vector<std::pair<CheckSum, std::string>>& checkSums();
std::optional<CheckSum> checkSumNamed(std::string_view name);

/// Bytes that it takes: 1, 2 or 4.
std::size_t checkSumBytes(CheckSum kind);
std::uint32_t checkSum(CheckSum kind, std::string_view bytes);

}  // namespace cruscotto
