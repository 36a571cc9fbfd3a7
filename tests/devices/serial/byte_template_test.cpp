#include "devices/link/byte_template.h"

#include <gtest/gtest.h>

#include <limits>

namespace cruscotto::byte_template_test {
namespace {

TEST(ByteTemplate, BecomesTheBytesThatItSays) {
    using std::string;
    for (const auto& [written, value, bytes] : std::vector<std::tuple<const char*, double, string>>{
             {"H{value}\\n", 12.5, "H12.5\n"},
             {"H{value:0}\\r\\n", 12.5, "H12\r\n"},
             {"{value:2};{value}", -0.125, "-0.12;-0.125"},
             {"\\x02{u8}\\x03", 65,
              "\x02"
              "A\x03"},
             {"{u16le}{u16be}", 0x1234, "\x34\x12\x12\x34"},
             {"{i16be}", -2, "\xff\xfe"},
             {"{u32be}", 0x01020304, "\x01\x02\x03\x04"},
             {"{f32be}", 1, string("\x3f\x80\0\0", 4)},
             {"{f32le}", -2, string("\0\0\0\xc0", 4)},
             {"{u8}", 300, "\xff"},
             {"{u8}", -5, string(1, '\0')},
             {"{i16le}", 1e9, "\xff\x7f"},
             {"{u8}", std::numeric_limits<double>::quiet_NaN(), string(1, '\0')},
             {"{{x}}\\\\\\0", 0, string("{x}\\\0", 5)},
             {"", 1, ""}}) {
        ASSERT_TRUE(checkByteTemplate(written).ok()) << written;
        EXPECT_EQ(bytesFor(written, value), bytes) << written;
    }
}

TEST(ByteTemplate, WhatIsWrongIsRefusedWithItsPlace) {
    for (const auto& [written, words] :
         std::vector<std::pair<std::string, const char*>>{{"ab\\q", "character 3"},
                                                          {"\\", "character 1"},
                                                          {"\\x4", "character 1"},
                                                          {"\\xzz", "character 1"},
                                                          {"x{val}", "\"val\" is unknown"},
                                                          {"{value:x}", "unknown"},
                                                          {"{value", "not closed"},
                                                          {"a}", "closes nothing"},
                                                          {std::string(257, 'a'), "256"}}) {
        const auto checked = checkByteTemplate(written);
        ASSERT_FALSE(checked.ok()) << written;
        EXPECT_NE(checked.error().english().find(words), std::string::npos) << checked.error().english();
    }
}

TEST(ByteTemplate, RandomTextNeverCrashesIt) {
    std::uint32_t random = 3;
    const auto next = [&] { return (random = random * 1664525 + 1013904223) >> 16; };
    for (int i = 0; i < 20'000; ++i) {
        std::string written;
        for (auto n = next() % 12; n > 0; --n) written += "\\{}:nx0u8valuef32be"[next() % 19];
        if (checkByteTemplate(written).ok()) EXPECT_LE(bytesFor(written, 1.5).size(), 64U);
    }
}

}  // namespace
}  // namespace cruscotto::byte_template_test
