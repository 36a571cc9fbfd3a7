// tests/core/run/format-3.run was written by the first version that wrote format 3; every later one reads it as it did.
// It holds a clocked signal whose chain was edited and whose device was set up anew, one of single lines that went
// silent for a while, a mark and an event.
#include <sqlite3.h>

#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "support.h"
#include "where.h"

namespace cruscotto {
namespace {

class FrozenRun : public testing::Test {
protected:
    test::TempFolder folder;
    std::string path = folder.file("a.run");
    std::unique_ptr<RunReader> reader;
    void SetUp() override {
        // A copy: the original stays as it is, whatever opens it.
        test::writeFile(path, test::readFile(std::string(test::sourceFolder) + "/tests/core/run/format-3.run"));
        auto opened = RunReader::open(path);
        ASSERT_TRUE(opened.ok()) << opened.error().english();
        reader = std::move(opened.value());
    }
};

TEST_F(FrozenRun, SaysWhatItHolds) {
    const RunInfo& info = reader->info();
    EXPECT_TRUE(info.problems.empty());
    EXPECT_TRUE(info.closed);
    EXPECT_EQ(info.bench.name, "Frozen");
    EXPECT_EQ(info.notes.title, "A run of format 3");
    ASSERT_EQ(info.anchors.size(), 1U);
    EXPECT_EQ(info.anchors[0].unixNs, 1'768'467'600'000'000'000);
    ASSERT_EQ(info.marks.size(), 1U);
    EXPECT_EQ(info.marks[0].words, "Valve opened");
    ASSERT_EQ(info.events.size(), 1U);
    EXPECT_EQ(info.events[0].kind, "device lost");
    ASSERT_TRUE(info.signal("level") && info.signal("weight"));
    EXPECT_EQ(info.signal("level")->samples, 5000U);
    EXPECT_EQ(info.signal("weight")->samples, 3U);
    const auto& definitions = info.signal("level")->definitions;
    ASSERT_EQ(definitions.size(), 2U);
    EXPECT_EQ(definitions[1].first, 3000U);
    EXPECT_EQ(definitions[1].from, Instant{3'000'000'000});
    EXPECT_EQ(definitions[1].spec.chain[1].number("slope"), 4);
}

TEST_F(FrozenRun, GivesItsSamplesReadingsAndGaps) {
    const RunSignal& level = *reader->info().signal("level");
    RunReplay replay(*reader, level.group);
    RunReplay::Step step;
    std::uint64_t next = 0;
    std::vector<Gap> gaps;
    while (replay.next(step)) {
        EXPECT_EQ(step.block->firstIndex, next) << "the count goes on where the device began its own again";
        if (step.block->gapBefore) gaps.push_back(*step.block->gapBefore);
        const auto& raw = std::get<std::vector<std::int16_t>>(step.block->columns[0]);
        for (std::size_t i = 0; i < raw.size(); ++i, ++next) {
            const int part = next < 3000   ? 0
                             : next < 4000 ? 3000
                                           : 4000,
                      from = part == 0      ? -250
                             : part == 3000 ? 100
                                            : 200;
            ASSERT_EQ(raw[i], from + static_cast<int>(next - static_cast<std::uint64_t>(part)) % 500);
            const double volts = raw[i] * 20.0 / 65536;
            ASSERT_DOUBLE_EQ(step.readings[0].values[i], (part == 0 ? 2 : 4) * volts + 1) << next;
        }
        if (next == 3000) {
            EXPECT_EQ(step.readings[0].quality, (std::vector<QualityInterval>{{2, 5, Quality::openSensor}}));
        }
    }
    EXPECT_EQ(next, 5000U);
    EXPECT_EQ(replay.damagedBlocks(), 0U);
    ASSERT_EQ(gaps.size(), 1U);
    EXPECT_EQ(gaps[0].quality, Quality::gap);
    EXPECT_EQ(gaps[0].from, Instant{4'000'000'000});

    RunReader::Blocks lines = reader->blocks(reader->info().signal("weight")->group);
    ASSERT_EQ(lines.next()->times.size(), 2U);
    const BlockPtr behind = lines.next();
    ASSERT_TRUE(behind && behind->gapBefore);
    EXPECT_EQ(behind->gapBefore->quality, Quality::stale);
    EXPECT_EQ(std::get<std::vector<double>>(behind->columns[0]), (std::vector<double>{2.75}));
}

TEST_F(FrozenRun, AQualityOfALaterVersionIsSuspect) {
    reader.reset();
    sqlite3* db = nullptr;
    sqlite3_open(path.c_str(), &db);
    ASSERT_EQ(sqlite3_exec(db, "UPDATE quality SET quality = 77", nullptr, nullptr, nullptr), SQLITE_OK);
    sqlite3_close(db);
    reader = std::move(RunReader::open(path).value());
    const BlockPtr block = reader->blocks(reader->info().signal("level")->group).next();
    EXPECT_EQ(block->quality[0], (std::vector<QualityInterval>{{2, 5, Quality::suspect}}));
}

TEST_F(FrozenRun, GivesItsSummariesWithTheirSpreadAndWorstQuality) {
    const auto buckets = reader->summaries(reader->info().signal("level")->id, 2);
    ASSERT_EQ(buckets.size(), 4U);
    EXPECT_EQ(buckets[0].worst, Quality::openSensor);
    EXPECT_EQ(buckets[1].worst, Quality::good);
    for (std::size_t k = 0; k < 2; ++k) {
        double sum = 0, squares = 0;
        const auto reading = [&](int i) { return 2 * ((i % 500 - 250) * 20.0 / 65536) + 1; };
        const int first = static_cast<int>(k) * 1024;
        for (int i = first; i < first + 1024; ++i) sum += reading(i);
        for (int i = first; i < first + 1024; ++i) squares += (reading(i) - sum / 1024) * (reading(i) - sum / 1024);
        EXPECT_EQ(buckets[k].summary.count, 1024U);
        EXPECT_NEAR(buckets[k].summary.mean, sum / 1024, 1e-12);
        EXPECT_NEAR(buckets[k].summary.squares, squares, 1e-9);
    }
}

}  // namespace
}  // namespace cruscotto
