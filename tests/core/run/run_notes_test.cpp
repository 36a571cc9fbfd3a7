#include "core/run/run_notes.h"

#include "core/bench/bench.h"
#include "core/bench/run_name.h"
#include "core/run/run_writer.h"
#include "integrity.h"
#include "support.h"

namespace cruscotto {
namespace {

using test::TempFolder;

TEST(RunNotes, AreWrittenWithTheRunAndChangedLaterWithoutTouchingTheData) {
    TempFolder folder;
    const std::string path = folder.file("a.run");
    Bench bench = test::oneSignal();
    bench.recording.notes = {"Run-in", "A. Tester", "Pump 7", ""};
    auto writer = RunWriter::create(path, bench, {});
    ASSERT_TRUE(writer.ok());
    const auto group = test::oneChannelGroup(1000);
    writer.value()->add(test::clockedBlock(group, 0, {}, std::vector<double>{1, 2, 3}), {{0, "in"}});
    writer.value()->addMark({1'000'000}, "as recorded");
    ASSERT_TRUE(writer.value()->close().ok());
    const auto read = [&] { return RunReader::open(path).value()->info(); };
    EXPECT_EQ(read().notes, bench.recording.notes);

    const RunNotes changed{"Run-in, second try", "A. Tester", "", "Seal replaced\nbefore this one; \"quoted\" – 5 µm"};
    ASSERT_TRUE(describeRun(path, changed, {{{2'000'000}, "moved"}, {{0}, "new"}}).ok());
    const RunInfo after = read();
    EXPECT_EQ(after.notes, changed);
    ASSERT_EQ(after.marks.size(), 2U);
    EXPECT_EQ(after.marks[0].words, "new") << "in the order of time";
    EXPECT_EQ(after.marks[1].at, (Instant{2'000'000}));
    EXPECT_EQ(after.signal("in")->samples, 3U);
    EXPECT_TRUE(after.closed);
    EXPECT_EQ(test::integrity(path), "ok");
    EXPECT_FALSE(describeRun(folder.file("none.run"), changed, {}).ok());
}

TEST(RunName, IsFilledInAndNeverTaken) {
    const RunNameParts parts{"Pump bench", "Seal test", 1'774'447'390'000'000'000};
    const auto free = [](const std::string&) { return false; };
    EXPECT_EQ(runName("{bench} {title}", parts, free), "pump-bench seal-test.run");
    const std::string dated = runName("{date}-{time}", parts, free);
    EXPECT_EQ(dated.size(), std::string("20260325-142310.run").size());
    EXPECT_EQ(dated.substr(0, 6), "202603");
    EXPECT_EQ(runName("{number}", parts, [](const std::string& n) { return n < "007"; }), "007.run");
    EXPECT_EQ(runName("{bench}", parts, [](const std::string& n) { return n == "pump-bench.run"; }),
              "pump-bench-2.run");
    EXPECT_EQ(partName("/x/a.run", 2), "/x/a.part2.run");
}

TEST(RunName, APatternCannotLeadOutOfTheFolderOrNameWhatIsNotThere) {
    for (const char* fine : {"{bench}-{date}", "Prüfung {number}", "a.b"}) EXPECT_TRUE(checkRunName(fine).ok()) << fine;
    for (const char* wrong : {"", "../x", "a/b", ".hidden", "{bench", "{host}", "a\nb", "..."})
        EXPECT_FALSE(checkRunName(wrong).ok()) << wrong;
    EXPECT_NE(checkRunName("{host}").error().english().find("{number}, not {host}"), std::string::npos);
}

TEST(RunName, StandsInTheBenchFileWithTheOtherWishesForRecordings) {
    Bench bench;
    bench.name = "Test";
    bench.recording = {"{title}-{number}", 30, 500, 1000, true, {"Title", "Person", "Specimen", "Words"},
                       R"({"later":1})"};
    const std::string text = writeBench(bench);
    const BenchReading again = readBench(text);
    ASSERT_TRUE(again.bench) << again.problems.front().english();
    EXPECT_EQ(again.bench->recording, bench.recording);
    EXPECT_TRUE(sameBench(*again.bench, bench));
    std::string wrong = text;
    wrong.replace(wrong.find("{title}-"), 8, "../");
    const BenchReading refused = readBench(wrong);
    ASSERT_EQ(refused.problems.size(), 1U);
    EXPECT_EQ(refused.problems[0].where, "/recording/name");
    EXPECT_GT(refused.problems[0].line, 1);
}

}  // namespace
}  // namespace cruscotto
