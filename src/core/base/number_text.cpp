#include "core/base/number_text.h"

#include <array>
#include <bit>
#include <charconv>
#include <cmath>
#include <cstdint>
#include <cstring>

namespace cruscotto {

namespace {

constexpr std::array<double, 23> powersOfTen{1e0,  1e1,  1e2,  1e3,  1e4,  1e5,  1e6,  1e7,  1e8,  1e9,  1e10, 1e11,
                                             1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22};

constexpr auto pairs = [] {
    std::array<char, 200> out{};
    for (std::size_t i = 0; i < 100; ++i) {
        out[2 * i] = static_cast<char>('0' + i / 10);
        out[2 * i + 1] = static_cast<char>('0' + i % 10);
    }
    return out;
}();

/// The digits of m in front of `end`; returns where they begin.
char* digitsBefore(char* end, std::uint64_t m) {
    while (m >= 100) {
        std::memcpy(end -= 2, pairs.data() + m % 100 * 2, 2);
        m /= 100;
    }
    if (m >= 10) {
        std::memcpy(end -= 2, pairs.data() + m * 2, 2);
        return end;
    }
    *--end = static_cast<char>('0' + m);
    return end;
}

/// Takes `zeros` trailing decimals that are all 0 off. The divisor is fixed, so that it becomes a multiplication.
template <int zeros, std::uint64_t by>
void takeZeros(std::uint64_t& m, int& decimals) {
    if (decimals >= zeros && m % by == 0) {
        m /= by;
        decimals -= zeros;
    }
}

}  // namespace

char* writeShortest(char* to, double v) {
    // Two decimals of 15 digits or fewer never stand for the same double. So where a decimal of 15 digits reads back as
    // v, it is the only one and, its zeros taken off, the shortest; and m / 10^k, both of them exact, is rounded once,
    // as reading is. That is quick to try; what needs 16 or 17 digits goes the general way.
    const double size = std::fabs(v);
    if (size >= 1e-3 && size < 1e15) {
        // the power of ten at or below it: from the power of two, then corrected
        const int two = static_cast<int>(std::bit_cast<std::uint64_t>(size) >> 52) - 1023;
        int ten = (two * 1233) >> 12;  // log10(2), rounded down
        if (ten >= 0 ? size >= powersOfTen[static_cast<std::size_t>(ten + 1)]
                     : size * powersOfTen[static_cast<std::size_t>(-ten - 1)] >= 1)
            ++ten;
        int decimals = 14 - ten;
        const auto rounded = static_cast<std::int64_t>(size * powersOfTen[static_cast<std::size_t>(decimals)] + 0.5);
        if (static_cast<double>(rounded) / powersOfTen[static_cast<std::size_t>(decimals)] == size) {
            auto m = static_cast<std::uint64_t>(rounded);
            takeZeros<8, 100'000'000>(m, decimals);
            takeZeros<4, 10'000>(m, decimals);
            takeZeros<2, 100>(m, decimals);
            takeZeros<1, 10>(m, decimals);
            if (v < 0) *to++ = '-';
            std::array<char, 64> digits;
            char* const end = digits.data() + 40;
            char* begin = digitsBefore(end, m);
            while (end - begin <= decimals) *--begin = '0';
            const auto whole = static_cast<std::size_t>(end - begin - decimals);
            // More than needed is copied, since a fixed length is quicker; what follows is written over.
            std::memcpy(to, begin, 16);
            to += whole;
            if (decimals > 0) {
                *to++ = '.';
                std::memcpy(to, begin + whole, 24);
                to += decimals;
            }
            return to;
        }
    }
    return std::to_chars(to, to + longestNumber, v).ptr;
}

}  // namespace cruscotto
