#include "core/base/whole_file.h"

#include <sys/stat.h>

#include <cstdint>

#include "core/base/parsed.h"
#include "support.h"

namespace cruscotto {
namespace {

TEST(WholeFile, IsReadToTheByteOrRefusedInOneSentence) {
    const test::TempFolder folder;
    const std::string content("a\0\r\nb", 5);
    test::writeFile(folder.file("five"), content);
    ASSERT_TRUE(readWholeFile(folder.file("five"), 5).ok());
    EXPECT_EQ(readWholeFile(folder.file("five"), 5).value(), content);
    test::writeFile(folder.file("none"), "");
    EXPECT_EQ(readWholeFile(folder.file("none"), 5).value(), "");

    const auto saying = [](const std::string& path, std::size_t most = 1'000'000) {
        const auto read = readWholeFile(path, most);
        return read ? "it was read" : read.error().english();
    };
    EXPECT_EQ(saying(folder.file("absent")), folder.file("absent") + " cannot be read: No such file or directory.");
    test::writeFile(folder.file("large"), std::string(2'000'001, 'x'));
    EXPECT_EQ(saying(folder.file("large"), 2'000'000),
              folder.file("large") + " is larger than 2 MB. Is it the right file?");
    // What never ends, or waits for somebody to write, holds up nothing.
    ASSERT_EQ(mkfifo(folder.file("pipe").c_str(), 0600), 0);
    for (const std::string& path : {folder.file("pipe"), std::string("/dev/zero"), folder.file("")})
        EXPECT_NE(saying(path).find("cannot be read"), std::string::npos) << path;
}

TEST(Parsed, TakesTheWholeOfTheTextOrNothing) {
    int whole = 0;
    EXPECT_TRUE(parsed("-17", whole));
    EXPECT_EQ(whole, -17);
    EXPECT_TRUE(parsed("fF", whole, 16));
    EXPECT_EQ(whole, 255);
    std::uint8_t small = 0;
    EXPECT_TRUE(parsed("255", small));
    EXPECT_FALSE(parsed("256", small)) << "more than it can hold";
    double number = 0;
    EXPECT_TRUE(parsed("2.5e3", number));
    EXPECT_EQ(number, 2500);
    for (const char* wrong : {"", " 1", "1 ", "+1", "1x", "0x1", "--1", "."}) {
        EXPECT_FALSE(parsed(wrong, whole)) << wrong;
        EXPECT_FALSE(parsed(wrong, number)) << wrong;
    }
}

}  // namespace
}  // namespace cruscotto
