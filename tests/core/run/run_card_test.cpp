// What a list of runs tells of each.
#include "core/run/run_card.h"

#include "core/run/run_notes.h"
#include "core/run/run_writer.h"
#include "support.h"

namespace cruscotto {
namespace {

constexpr std::int64_t secondNs = 1'000'000'000, november = 1'795'000'000;  // 2026-11-18

std::string written(const std::string& path, const std::string& title, std::int64_t unixS) {
    Bench bench = test::oneSignal();
    bench.recording.notes.title = title;
    auto writer = RunWriter::create(path, bench, {{}, unixS * secondNs});
    const auto group = test::oneChannelGroup(1000);
    writer.value()->add(test::clockedBlock(group, 0, {2 * secondNs}, std::vector<double>(3000, 1.0)), {{0, "in"}});
    writer.value()->addMark({3 * secondNs}, "Seal replaced");
    EXPECT_TRUE(writer.value()->close().ok());
    return path;
}

TEST(RunCard, TellsARunWithoutItsSamples) {
    const test::TempFolder folder;
    const RunCard card = readRunCard(written(folder.file("a.run"), "Run-in", november));
    EXPECT_EQ(card.problem, Text());
    EXPECT_EQ(card.title(), "Run-in");
    EXPECT_EQ(card.bench, "Test");
    EXPECT_EQ(card.length, seconds(3));
    EXPECT_EQ(card.beganUnixNs, (november + 2) * secondNs) << "its first sample, not its making";
    EXPECT_EQ(card.began().substr(0, 7), "2026-11");
    EXPECT_TRUE(card.closed);
    EXPECT_EQ(card.signals, 1U);
    ASSERT_EQ(card.markCount, 1U);
    EXPECT_EQ(card.marks[0], "Seal replaced");
    EXPECT_GT(card.bytes, 0U);
    EXPECT_EQ(readRunCard(written(folder.file("b.run"), "", november)).title(), "b") << "by its file";
}

TEST(RunCard, SaysWhyAFileIsNone) {
    const test::TempFolder folder;
    test::writeFile(folder.file("x.run"), "no run at all");
    EXPECT_FALSE(readRunCard(folder.file("x.run")).problem.empty());
    EXPECT_FALSE(readRunCard(folder.file("none.run")).problem.empty());
}

TEST(RunCard, IsFoundByWordsAndDays) {
    const test::TempFolder folder;
    const std::string path = written(folder.file("pump.run"), "Run-in of pump 7", november);
    ASSERT_TRUE(describeRun(path, {"Run-in of pump 7", "", "", "dry bearing", "bad"}, {{{0}, "Seal replaced"}}).ok());
    const RunCard card = readRunCard(path);
    for (const char* words : {"", "pump 7", "PUMP.RUN seal", "bearing bad", "2026-11", "test"})
        EXPECT_EQ(found(card, {words, "", ""}), std::string(words) != "PUMP.RUN seal") << words;
    EXPECT_TRUE(found(card, {"SEAL pump", "", ""}));
    EXPECT_FALSE(found(card, {"pump nine", "", ""}));
    EXPECT_TRUE(found(card, {"", "2026-11-01", "2026-11-30"}));
    EXPECT_FALSE(found(card, {"", "2026-11-25", ""}));
    EXPECT_FALSE(found(card, {"", "", "2026-11-01"}));
    EXPECT_TRUE(isDay("2026-11-29"));
    for (const char* none : {"", "2026-13-01", "2026-1-1", "yesterday", "2026-11-29 "})
        EXPECT_FALSE(isDay(none)) << none;
}

TEST(RunCard, RunsAreListedFromFoldersBelowToo) {
    const test::TempFolder folder;
    std::filesystem::create_directories(folder.file("below"));
    written(folder.file("a.run"), "", november);
    written(folder.file("below") + "/b.run", "", november);
    test::writeFile(folder.file("c.txt"), "");
    EXPECT_EQ(runsIn(folder.file("")).size(), 2U);
    EXPECT_EQ(runsIn(folder.file(""), 1).size(), 1U);
    EXPECT_TRUE(runsIn(folder.file("nowhere")).empty());
}

}  // namespace
}  // namespace cruscotto
