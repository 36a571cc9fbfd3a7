#pragma once

#include <string>

namespace cruscotto {

/// Characters of room that writing a number asks for.
inline constexpr int longestNumber = 48;

/// Writes the number with the fewest digits that reads back as the same double, and returns where it ends; "nan" and
/// "inf" as std::to_chars does. Numbers from a thousandth up to 10^15 are written without an exponent. Precondition:
/// longestNumber characters have room.
char* writeShortest(char* to, double v);

/// The shortest text that reads back as the same double: "0.1", "12345.678", "1e+300". NaN is "".
std::string exactNumber(double v);
/// Up to six significant digits, without trailing zeros: for sentences.
std::string shortNumber(double v);
/// Three significant digits, with a true minus sign: for noise and the like.
std::string threeDigits(double v);
/// A reading for a person: as many decimals as asked for, with a true minus sign; "–" for NaN, "+∞"/"−∞".
std::string readingText(double v, int decimals);
/// How many decimals tell apart a thousandth of the span: 0 for 0..1000, 1 for 0..100, 3 for -1..1.5; 0 to 6.
int decimalsFor(double low, double high);
/// Reads a number a person typed: a decimal point or comma, a true minus, blanks around. False if it is none.
bool parseNumber(const std::string& typed, double& out);

}  // namespace cruscotto
