// What is written goes where the person chose, and nowhere else.
#include "core/base/new_file.h"

#include <sys/stat.h>

#include "support.h"

namespace cruscotto {
namespace {

using Existing = NewFile::Existing;
using test::readFile;
using test::TempFolder;
using test::writeFile;

bool put(const std::string& path, Existing existing, const std::string& words) {
    auto file = NewFile::create(path, existing);
    return file && file.value().write(words) && file.value().put().ok();
}

TEST(NewFile, AppearsUnderItsNameOnlyWhenItIsWhole) {
    const TempFolder f;
    {
        auto file = NewFile::create(f.file("a"), Existing::refuse);
        ASSERT_TRUE(file.ok());
        ASSERT_TRUE(file.value().write("half"));
        EXPECT_FALSE(std::filesystem::exists(f.file("a")));
    }
    EXPECT_TRUE(std::filesystem::is_empty(f.file("")));
    EXPECT_TRUE(put(f.file("a"), Existing::refuse, "whole"));
    EXPECT_EQ(readFile(f.file("a")), "whole");
    EXPECT_TRUE(test::leftBehind(f).empty());
}

TEST(NewFile, WhatIsThereStaysUnlessItMayBeReplaced) {
    const TempFolder f;
    writeFile(f.file("a"), "old");
    EXPECT_FALSE(put(f.file("a"), Existing::refuse, "new"));
    EXPECT_EQ(readFile(f.file("a")), "old");
    EXPECT_TRUE(put(f.file("a"), Existing::replace, "new"));
    EXPECT_EQ(readFile(f.file("a")), "new");
}

TEST(NewFile, WhatComesMeanwhileIsNotReplacedEither) {
    const TempFolder f;
    auto file = NewFile::create(f.file("a"), Existing::refuse);
    ASSERT_TRUE(file.ok());
    writeFile(f.file("a"), "somebody else's");
    EXPECT_FALSE(file.value().put().ok());
    EXPECT_EQ(readFile(f.file("a")), "somebody else's");
}

TEST(NewFile, LinksFoldersAndDevicesAreNeverReplacedOrWrittenThrough) {
    const TempFolder f;
    writeFile(f.file("theirs"), "theirs");
    std::filesystem::create_symlink(f.file("theirs"), f.file("link"));
    std::filesystem::create_symlink(f.file("nowhere"), f.file("dangling"));
    std::filesystem::create_directory(f.file("folder"));
    ASSERT_EQ(mkfifo(f.file("pipe").c_str(), 0600), 0);
    for (const char* name : {"link", "dangling", "folder", "pipe"})
        for (const auto existing : {Existing::refuse, Existing::replace})
            EXPECT_FALSE(put(f.file(name), existing, "ours")) << name;
    EXPECT_FALSE(put("/dev/null", Existing::replace, "ours"));
    EXPECT_EQ(readFile(f.file("theirs")), "theirs");
    EXPECT_TRUE(std::filesystem::is_symlink(f.file("link")));
    EXPECT_FALSE(std::filesystem::exists(f.file("nowhere")));
    EXPECT_TRUE(test::leftBehind(f).empty());
}

TEST(NewFile, KeepsTheModeOfWhatItReplacesAndObeysTheMaskElse) {
    const TempFolder f;
    writeFile(f.file("a"), "old");
    chmod(f.file("a").c_str(), 0640);
    const mode_t before = umask(027);
    EXPECT_TRUE(put(f.file("a"), Existing::replace, "new"));
    EXPECT_TRUE(put(f.file("b"), Existing::refuse, "new"));
    umask(before);
    struct stat s {};
    ASSERT_EQ(stat(f.file("a").c_str(), &s), 0);
    EXPECT_EQ(s.st_mode & 07777, 0640U);
    ASSERT_EQ(stat(f.file("b").c_str(), &s), 0);
    EXPECT_EQ(s.st_mode & 07777, 0640U);
}

TEST(NewFile, ANameThatIsTooLongOrGoesInCirclesIsASentence) {
    const TempFolder f;
    std::filesystem::create_symlink(f.file("circle"), f.file("circle"));
    for (const std::string& path : {f.file(std::string(300, 'x')), f.file("circle/a"), f.file("missing/a")}) {
        auto file = NewFile::create(path, Existing::refuse);
        ASSERT_FALSE(file.ok());
        EXPECT_NE(file.error().english().find("cannot be written ("), std::string::npos) << file.error().english();
    }
    EXPECT_TRUE(put(f.file(std::string(255, 'x')), Existing::refuse, "the longest name that there is"));
}

}  // namespace
}  // namespace cruscotto
