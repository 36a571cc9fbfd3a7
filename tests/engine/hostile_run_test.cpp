// Runs that say impossible things of themselves: whatever stands in them, they open or are refused with a sentence, all
// that reads them comes to an end, and their memory is that of what they hold. Under a sanitizer that looks for
// undefined arithmetic these tests would show any.
#include <sqlite3.h>

#include "core/export/run_export.h"
#include "core/run/run_format.h"
#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "core/run/run_writer.h"
#include "engine/run_source.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using test::TempFolder;

class NoProgress : public Progress {
public:
    void advance(std::uint64_t, std::uint64_t) override {}
    [[nodiscard]] bool cancelled() const override { return false; }
};

struct SmallRun {
    TempFolder folder;
    std::string path = folder.file("a.run");

    /// A clocked group with a mean and a counter, an unclocked one, gaps, marks, events; summaries of all levels that
    /// are stored.
    explicit SmallRun(int blocks = 6, std::size_t samples = 1000) {
        Bench bench;
        bench.name = "Test";
        bench = withDevice(bench, {"box", "Box", "sim-io-box", "", ""});
        SignalSpec s;
        s.id = s.name = "fast";
        s.device = "box";
        s.terminal = "AI0";
        s.chain = {countsToVolts(), movingMean(8)};
        bench = withSignal(bench, s);
        s.id = s.name = "slow";
        s.terminal = "1";
        s.chain = {slopeOffset(1, 0, "kg")};
        bench = withSignal(bench, s);
        auto made = RunWriter::create(path, bench, {{0}, 1'768'467'600'000'000'000});
        if (!made) throw std::runtime_error(made.error().english());
        RunWriter& writer = *made.value();
        const auto fast = test::oneChannelGroup(1000, SampleType::int16);
        auto slow = test::oneChannelGroup(1);
        slow->name = "slow";
        slow->rateHz = 0;
        std::uint64_t index = 0;
        for (int b = 0; b < blocks; ++b) {
            std::vector<std::int16_t> v(samples);
            for (auto& x : v) x = static_cast<std::int16_t>(index % 300 + (&x - v.data()));
            auto block = std::make_shared<Block>(
                *test::clockedBlock(fast, index, {static_cast<std::int64_t>(index) * 1'000'000}, v));
            if (b > 0 && b == blocks / 2) {
                block->firstIndex = index += 500;
                block->t0 = {static_cast<std::int64_t>(index) * 1'000'000};
                block->gapBefore = Gap{{block->t0.ns - 500'000'000}, block->t0, 500, "lost"};
            }
            index += samples;
            const Bucket bucket{block->t0, {0, 1, 0.5, 1024}};
            writer.add(block, {{0, "fast"}}, {{0, {2, bucket}}, {0, {3, bucket}}, {0, {4, bucket}}});
            auto one = std::make_shared<Block>();
            one->group = slow;
            one->firstIndex = static_cast<std::uint64_t>(b);
            one->t0 = block->t0;
            one->times = {one->t0};
            one->columns.emplace_back(std::vector<double>{1});
            writer.add(one, {{0, "slow"}});
            if (auto kept = writer.commit(); !kept) throw std::runtime_error(kept.error().english());
        }
        writer.addMark({5'000'000}, "Here");
        writer.addEvent({6'000'000}, "event", "There");
        if (auto closed = writer.close(); !closed) throw std::runtime_error(closed.error().english());
    }
    void change(const std::string& sql) const {
        sqlite3* db = nullptr;
        sqlite3_open(path.c_str(), &db);
        char* message = nullptr;
        if (sqlite3_exec(db, sql.c_str(), nullptr, nullptr, &message) != SQLITE_OK) ADD_FAILURE() << sql << message;
        sqlite3_close(db);
    }
};

/// Reads it in every way there is.
void readAll(const SmallRun& run) {
    auto opened = RunReader::open(run.path);
    if (!opened) {
        EXPECT_FALSE(opened.error().english().empty());
        return;
    }
    RunReader& reader = *opened.value();
    const Span span = reader.info().span;
    EXPECT_TRUE(plausible(span.from) && plausible(span.to));
    for (const RunGroup& g : reader.info().groups) {
        RunReplay replay(reader, g.id);
        for (RunReplay::Step step; replay.next(step);) EXPECT_EQ(step.readings.size(), step.block->columns.size());
        (void)reader.replayFrom(g.id, {}, span.from + Duration{(span.to - span.from).ns / 2});
    }
    for (const RunSignal& s : reader.info().signals) (void)summaryOf(reader, s);
    (void)reader.info().lostSamples();
    NoProgress progress;
    (void)exportCsv(run.path, run.folder.file("a.csv"), {}, progress);
    (void)exportHdf5(run.path, run.folder.file("a.h5"), {}, progress);
    for (const std::size_t memory : {std::size_t{1} << 26, std::size_t{1000}}) {
        const RunSource source(run.path, memory);
        ASSERT_TRUE(test::eventually([&] { return source.state().done; }));
        const Duration width{std::max<std::int64_t>(1, (span.to - span.from).ns / 50)};
        std::vector<Column> columns;
        std::vector<Point> points;
        for (int again = 0; again < 2; ++again)
            for (const char* name : {"fast", "slow"}) {
                source.columns(name, {span.from, width, 50}, columns);
                (void)source.at(name, span.to);
                (void)source.points(name, span, 1000, points);
                (void)source.stagesAt(name, span.to);
                (void)source.lastChange(name, span.to);
            }
    }
}

TEST(HostileRun, ImpossibleTimesAndCountsOfAnyKindComeToAnEnd) {
    for (const char* place : {"block.t0_ns",           "block.end_ns",       "block.n",
                              "block.first_index",     "block.dt_ns",        "anchor.at_ns",
                              "anchor.unix_ns",        "scan_group.rate_hz", "definition.from_ns",
                              "definition.from_index", "gap.quality",        "quality.begin",
                              "gap.from_ns",           "gap.to_ns",          "gap.lost",
                              "gap.before_index",      "mark.at_ns",         "event.at_ns",
                              "layout.group_id",       "signal.type"}) {
        const std::string where = place;
        const std::string table = where.substr(0, where.find('.')), column = where.substr(where.find('.') + 1);
        for (const char* value : {"9223372036854775807", "-9223372036854775808", "4611686018427387904", "-1", "1e300",
                                  "-1e300", "2000000000000000001", "67108864", "0"}) {
            SCOPED_TRACE(where + " = " + value);
            const SmallRun run(3, 200);
            run.change("UPDATE " + table + " SET " + column + " = " + value);
            readAll(run);
        }
    }
}

TEST(HostileRun, ImpossibleTimesInsideABlockAndOfASummaryAreLeftOut) {
    const SmallRun run;
    // The first byte says how the block is laid out; then come the times.
    run.change("UPDATE block SET data = x'00' || x'FFFFFFFFFFFFFF7F' || substr(data, -8) WHERE dt_ns IS NULL");
    run.change("UPDATE pyramid SET data = x'000000000000008000' || substr(data, 10)");
    readAll(run);
    auto opened = RunReader::open(run.path);
    ASSERT_TRUE(opened.ok());
    EXPECT_TRUE(opened.value()->summaries(1, 2).empty());
    RunReader::Blocks blocks = opened.value()->blocks(2);
    EXPECT_EQ(blocks.next(), nullptr);
    EXPECT_EQ(blocks.damaged(), 1U);
}

TEST(HostileRun, WhatIsLeftOutIsSaid) {
    const SmallRun run;
    run.change("UPDATE mark SET at_ns = 9223372036854775807");
    auto opened = RunReader::open(run.path);
    ASSERT_TRUE(opened.ok());
    EXPECT_TRUE(opened.value()->info().marks.empty());
    ASSERT_EQ(opened.value()->info().problems.size(), 1U);
    EXPECT_EQ(opened.value()->info().problems[0].english(),
              "The marks of this run: 1 have impossible times or numbers and are left out. The file is damaged.");
}

TEST(HostileRun, ABlockThatSaysMoreThanItsBytesHoldIsAGapAndNoMemory) {
    const SmallRun run(6, 1000);
    run.change("UPDATE block SET n = 67108864 WHERE id = 3");
    auto opened = RunReader::open(run.path);
    ASSERT_TRUE(opened.ok());
    RunReader::Blocks blocks = opened.value()->blocks(1);
    std::uint64_t samples = 0;
    std::vector<Gap> gaps;
    while (const BlockPtr block = blocks.next()) {
        samples += block->size();
        if (block->gapBefore) gaps.push_back(*block->gapBefore);
        EXPECT_LE(block->size(), 6000U);
    }
    EXPECT_EQ(blocks.damaged(), 1U);
    EXPECT_LT(samples, 6000U);
    ASSERT_FALSE(gaps.empty()) << "nothing is drawn across what is missing";
}

TEST(HostileRun, ColumnsThatABlockDoesNotHoldAreMadeUpByThePiece) {
    const SmallRun run(1, 20'000);
    run.change(
        "WITH RECURSIVE n(i) AS (SELECT 10 UNION ALL SELECT i+1 FROM n WHERE i<1010) "
        "INSERT INTO signal SELECT i, 's' || i, 1, 0 FROM n");
    auto opened = RunReader::open(run.path);
    ASSERT_TRUE(opened.ok());
    RunReader::Blocks blocks = opened.value()->blocks(1);
    std::uint64_t next = 0;
    std::size_t pieces = 0;
    for (BlockPtr block; (block = blocks.next()); ++pieces) {
        EXPECT_EQ(block->firstIndex, next);
        ASSERT_EQ(block->columns.size(), 1002U);
        const auto& held = std::get<std::vector<std::int16_t>>(block->columns[0]);
        ASSERT_EQ(held.size(), block->size());
        EXPECT_EQ(held.back(), static_cast<std::int16_t>(next + held.size() - 1));
        EXPECT_TRUE(block->quality[0].empty());
        EXPECT_EQ(block->quality[1], (std::vector<QualityInterval>{{0, block->size(), Quality::gap}}));
        EXPECT_TRUE(std::isnan(std::get<std::vector<double>>(block->columns[1001]).back()));
        next += block->size();
    }
    EXPECT_EQ(next, 20'000U);
    EXPECT_GT(pieces, 3U);
}

TEST(HostileRun, ManyGapsInManyGroupsAreReadOnce) {
    const SmallRun run;
    run.change(
        "WITH RECURSIVE n(i) AS (SELECT 10 UNION ALL SELECT i+1 FROM n WHERE i<9000) "
        "INSERT INTO scan_group SELECT i, 'd', 'g' || i, 1 FROM n");
    run.change(
        "WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i+1 FROM n WHERE i<90000) "
        "INSERT INTO gap SELECT 10 + i % 9000, i, i * 1000, i * 1000 + 10, 1, 5, 'lost' FROM n");
    auto opened = RunReader::open(run.path);
    ASSERT_TRUE(opened.ok());
    for (const RunGroup& g : opened.value()->info().groups) {
        auto blocks = opened.value()->blocks(g.id);
        EXPECT_EQ(blocks.next() != nullptr, g.samples > 0);
    }
    EXPECT_EQ(opened.value()->info().groups.back().gaps.size(), 10U);
}

TEST(HostileRun, ChainsThatAskForMoreThanARunMayHoldAreLeftOut) {
    const SmallRun run;
    run.change("UPDATE bench SET json = ''");
    run.change(
        "UPDATE definition SET json = json_set(json, '$.chain', json('[{\"stage\":\"moving-mean\",\"samples\":"
        "1000000},{\"stage\":\"moving-mean\",\"samples\":1000000},{\"stage\":\"moving-mean\",\"samples\":1000000}"
        ",{\"stage\":\"moving-mean\",\"samples\":1000000}]'))");
    run.change(
        "WITH RECURSIVE n(i) AS (SELECT 10 UNION ALL SELECT i+1 FROM n WHERE i<1000) "
        "INSERT INTO signal SELECT i, 's' || i, 1, 0 FROM n");
    run.change(
        "INSERT INTO definition SELECT s.id, 0, 0, d.json FROM signal s, (SELECT json FROM definition LIMIT 1) d "
        "WHERE s.id >= 10");
    auto opened = RunReader::open(run.path);
    ASSERT_TRUE(opened.ok());
    std::size_t remembered = 0;
    for (const RunSignal& s : opened.value()->info().signals) remembered += rememberedSamples(s.current().chain);
    EXPECT_EQ(remembered, 16'000'000U);
    EXPECT_GT(opened.value()->info().problems.size(), 900U) << "each signal that is shown raw is named";
}

}  // namespace
}  // namespace cruscotto
