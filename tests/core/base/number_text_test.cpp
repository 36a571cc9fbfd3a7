#include "core/base/number_text.h"

#include <charconv>
#include <cmath>
#include <cstring>
#include <random>

#include "support.h"

namespace cruscotto {
namespace {

std::string shortest(double v) {
    char text[longestNumber];
    return {text, writeShortest(text, v)};
}

std::size_t significant(const std::string& text) {
    std::string digits;
    for (const char c : text.substr(0, text.find_first_of("eE")))
        if (c >= '0' && c <= '9') digits += c;
    digits.erase(0, digits.find_first_not_of('0'));
    digits.erase(digits.find_last_not_of('0') + 1);
    return digits.size();
}

void expectShortestAndExact(double v) {
    const std::string text = shortest(v);
    double back = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), back);
    ASSERT_EQ(error, std::errc()) << text;
    ASSERT_EQ(end, text.data() + text.size()) << text;
    ASSERT_EQ(std::memcmp(&back, &v, sizeof v), 0) << text;
    char known[longestNumber];
    const std::string standard(known, std::to_chars(known, known + longestNumber, v).ptr);
    ASSERT_EQ(significant(text), significant(standard)) << text << " against " << standard;
}

TEST(WriteShortest, IsWhatPeopleExpect) {
    for (const auto& [v, text] : {std::pair(0.0, "0"),
                                  {1.0, "1"},
                                  {-2.5, "-2.5"},
                                  {0.1, "0.1"},
                                  {0.001, "0.001"},
                                  {100000.0, "100000"},
                                  {31.42, "31.42"},
                                  {0.9957275390625, "0.9957275390625"},
                                  {123456789012345.0, "123456789012345"},
                                  {0.30000000000000004, "0.30000000000000004"}})
        EXPECT_EQ(shortest(v), text);
    EXPECT_EQ(shortest(-0.0), "-0");
    EXPECT_EQ(shortest(1e300), "1e+300");
}

TEST(WriteShortest, ReadsBackAsTheSameDoubleWithTheFewestDigits) {
    std::mt19937_64 random(3);
    for (int i = 0; i < (SANITIZED ? 20'000 : 100'000); ++i) {
        const std::uint64_t bits = random();
        double any = 0;
        std::memcpy(&any, &bits, sizeof any);
        if (std::isfinite(any)) expectShortestAndExact(any);
        // numbers as they come from a converter and its chain, and from people
        const auto count = static_cast<double>(static_cast<std::int16_t>(bits));
        expectShortestAndExact(count * 20 / 65536 * 2.5 - 2.5);
        expectShortestAndExact(count / 1000);
        expectShortestAndExact(std::ldexp(static_cast<double>(bits >> 11), -static_cast<int>(bits % 70)));
        expectShortestAndExact(std::nextafter(count / 100, 1e9));
    }
    for (int power = -3; power <= 15; ++power)
        for (const double around :
             {std::pow(10, power), std::nextafter(std::pow(10, power), 0), std::nextafter(std::pow(10, power), 1e300)})
            expectShortestAndExact(around);
}

}  // namespace
}  // namespace cruscotto
