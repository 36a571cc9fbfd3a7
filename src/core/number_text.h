#pragma once

namespace cruscotto {

/// Characters of room that writing a number asks for.
inline constexpr int longestNumber = 48;

/// Writes the number with the fewest digits that reads back as the same double, and returns where it ends; "nan" and
/// "inf" as std::to_chars does. Numbers from a thousandth up to 10^15 are written without an exponent. Precondition:
/// longestNumber characters have room.
char* writeShortest(char* to, double v);

}  // namespace cruscotto
