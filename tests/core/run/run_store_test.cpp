#include <sqlite3.h>

#include <cmath>
#include <random>

#include "core/export/run_export.h"
#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "core/run/run_writer.h"
#include "integrity.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using test::TempFolder;

class NoProgress : public Progress {
public:
    void advance(std::uint64_t, std::uint64_t) override { ++calls; }
    [[nodiscard]] bool cancelled() const override { return cancel; }
    int calls = 0;
    bool cancel = false;
};

Bench twoSignals() {
    Bench b;
    b.name = "Test";
    b = withDevice(b, {"box", "Box", "sim-io-box", "", ""});
    SignalSpec s;
    s.id = "fast";
    s.name = "Fast, \"quoted\"";
    s.tag = "F";
    s.device = "box";
    s.terminal = "AI0";
    s.chain = {countsToVolts(16, -10, 10)};
    b = withSignal(b, s);
    s.id = "slow";
    s.name = "Slow";
    s.tag = "S";
    s.terminal = "1";
    s.chain = {slopeOffset(1, 0, "kg")};
    return withSignal(b, s);
}

struct Recorded {
    TempFolder folder;
    std::string path = folder.file("a.run");
    Bench bench = twoSignals();
    std::unique_ptr<RunWriter> writer;
    std::shared_ptr<ScanGroup> fast = test::oneChannelGroup(1000, SampleType::int16);
    std::shared_ptr<ScanGroup> slow = test::oneChannelGroup(1);
    std::uint64_t index = 0, slowIndex = 0;
    PyramidBuilder pyramid;

    Recorded() {
        auto made = RunWriter::create(path, bench, {{0}, 1'768'467'600'000'000'000});
        if (!made) throw std::runtime_error(made.error().english());
        writer = std::move(made.value());
        fast->name = "fast";
        slow->name = "slow";
        slow->rateHz = 0;
    }
    void addFast(std::size_t n, std::optional<Gap> gap = {}, std::uint64_t skip = 0) {
        index += skip;
        std::vector<std::int16_t> v;
        for (std::size_t i = 0; i < n; ++i) v.push_back(static_cast<std::int16_t>((index + i) % 60'000 - 30'000));
        auto block = std::make_shared<Block>(
            *test::clockedBlock(fast, index, {static_cast<std::int64_t>(index) * 1'000'000}, v));
        block->gapBefore = std::move(gap);
        std::vector<double> readings;
        for (const auto c : v) readings.push_back(c * 20.0 / 65536);
        std::vector<RecordedBucket> buckets;
        pyramid.add(
            readings, [&](std::size_t i) { return block->timeOf(i); },
            [&](int level, const Bucket& b) {
                buckets.push_back({0, {level, b}});
            });
        index += n;
        writer->add(block, {{0, "fast"}}, buckets);
    }
    void addSlow(Instant t, double v) {
        auto block = std::make_shared<Block>();
        block->group = slow;
        block->firstIndex = slowIndex++;
        block->t0 = t;
        block->times = {t};
        block->columns.emplace_back(std::vector<double>{v});
        writer->add(block, {{0, "slow"}});
    }
    std::unique_ptr<RunReader> read() const {
        auto opened = RunReader::open(path);
        if (!opened) throw std::runtime_error(opened.error().english());
        return std::move(opened.value());
    }
};

TEST(RunStore, EverySampleIsThereOnceAndExact) {
    Recorded r;
    for (int i = 0; i < 25; ++i) {
        r.addFast(40);
        if (i % 7 == 3) ASSERT_TRUE(r.writer->commit().ok());
    }
    r.addSlow({1'234'567}, 31.42);
    r.addSlow({900'000'001}, -0.1);
    ASSERT_TRUE(r.writer->close().ok());
    EXPECT_EQ(r.writer->samplesWritten(), 1002U);
    EXPECT_FALSE(std::filesystem::exists(r.path + "-journal")) << "one file when it is closed";
    const auto reader = r.read();
    const RunInfo& info = reader->info();
    EXPECT_TRUE(info.closed);
    EXPECT_EQ(info.bench.name, "Test");
    EXPECT_EQ(info.signal("fast")->samples, 1000U);
    EXPECT_EQ(info.signal("slow")->samples, 2U);
    EXPECT_EQ(info.lostSamples(), 0U);
    EXPECT_EQ(info.span.from, Instant{});
    EXPECT_EQ(info.span.to, (Instant{1'000'000'000}));
    auto blocks = reader->blocks(info.signal("fast")->group);
    std::uint64_t next = 0;
    while (const BlockPtr b = blocks.next()) {
        EXPECT_EQ(b->firstIndex, next);
        const auto& v = std::get<std::vector<std::int16_t>>(b->columns[0]);
        for (std::size_t i = 0; i < v.size(); ++i, ++next) {
            EXPECT_EQ(v[i], static_cast<std::int16_t>(next % 60'000 - 30'000));
            EXPECT_EQ(b->timeOf(i).ns, static_cast<std::int64_t>(next) * 1'000'000);
        }
    }
    EXPECT_EQ(next, 1000U);
    auto slow = reader->blocks(info.signal("slow")->group);
    const BlockPtr b = slow.next();
    ASSERT_TRUE(b);
    EXPECT_EQ(b->times, (std::vector<Instant>{{1'234'567}, {900'000'001}}));
    EXPECT_EQ(std::get<std::vector<double>>(b->columns[0]), (std::vector<double>{31.42, -0.1}));
}

TEST(RunStore, WhatWasCommittedIsThereWithoutAClose) {
    Recorded r;
    r.addFast(100);
    ASSERT_TRUE(r.writer->commit().ok());
    r.addFast(50);  // not yet committed
    const auto reader = r.read();
    EXPECT_FALSE(reader->info().closed);
    EXPECT_EQ(reader->info().signal("fast")->samples, 100U);
    EXPECT_EQ(reader->info().fileBytes, r.writer->bytesOnDisk()) << "most of it may be in the journal yet";
}

TEST(RunStore, CanBeReadWhileItIsRecorded) {
    Recorded r;
    for (int i = 1; i <= 5; ++i) {
        r.addFast(10);
        ASSERT_TRUE(r.writer->commit().ok());
        EXPECT_EQ(r.read()->info().signal("fast")->samples, static_cast<std::uint64_t>(10 * i));
    }
}

TEST(RunStore, GapsAreKeptWithTheirSamplesAndCause) {
    Recorded r;
    r.addFast(100);
    r.addFast(100, Gap{{100'000'000}, {250'000'000}, 150, "The box did not answer."}, 150);
    ASSERT_TRUE(r.writer->close().ok());
    const auto reader = r.read();
    ASSERT_EQ(reader->info().groups.size(), 1U);
    ASSERT_EQ(reader->info().groups[0].gaps.size(), 1U);
    EXPECT_EQ(reader->info().groups[0].gaps[0].lostSamples, 150U);
    EXPECT_EQ(reader->info().lostSamples(), 150U);
    auto blocks = reader->blocks(reader->info().groups[0].id);
    EXPECT_FALSE(blocks.next()->gapBefore);
    const BlockPtr after = blocks.next();
    ASSERT_TRUE(after && after->gapBefore);
    EXPECT_EQ(after->gapBefore->cause, "The box did not answer.");
}

TEST(RunStore, QualityIntervalsSurvive) {
    Recorded r;
    auto block = std::make_shared<Block>(*test::clockedBlock(r.fast, 0, {0}, std::vector<std::int16_t>{1, 2, 3, 4}));
    block->quality = {{{1, 3, Quality::openSensor}}};
    r.writer->add(block, {{0, "fast"}});
    auto more = std::make_shared<Block>(*test::clockedBlock(r.fast, 4, {4'000'000}, std::vector<std::int16_t>{5, 6}));
    more->quality = {{{0, 2, Quality::stale}}};
    r.writer->add(more, {{0, "fast"}});
    ASSERT_TRUE(r.writer->close().ok());
    const auto reader = r.read();
    auto blocks = reader->blocks(reader->info().groups[0].id);
    EXPECT_EQ(blocks.next()->quality[0],
              (std::vector<QualityInterval>{{1, 3, Quality::openSensor}, {4, 6, Quality::stale}}));
}

TEST(RunStore, AChangedChainHoldsFromItsMoment) {
    Recorded r;
    r.addFast(100);
    SignalSpec changed = *r.bench.signal("fast");
    changed.chain.emplace_back(slopeOffset(100, 0, "bar"));
    r.writer->define(changed, {100'000'000});
    r.addFast(100);
    ASSERT_TRUE(r.writer->close().ok());
    const auto reader = r.read();
    ASSERT_EQ(reader->info().signal("fast")->definitions.size(), 2U);
    RunReplay replay(*reader, reader->info().signal("fast")->group);
    RunReplay::Step step;
    std::vector<double> readings;
    while (replay.next(step))
        readings.insert(readings.end(), step.readings[0].values.begin(), step.readings[0].values.end());
    ASSERT_EQ(readings.size(), 200U);
    EXPECT_DOUBLE_EQ(readings[99], (99 - 30000) * 20.0 / 65536);
    EXPECT_DOUBLE_EQ(readings[100], (100 - 30000) * 2000.0 / 65536);
}

TEST(RunStore, SummariesAreWhatBruteForceSays) {
    Recorded r;
    for (int i = 0; i < 300; ++i) {
        r.addFast(117);
        if (i % 4 == 0) ASSERT_TRUE(r.writer->commit().ok());
    }
    ASSERT_TRUE(r.writer->close().ok());
    const auto reader = r.read();
    for (const int level : {2, 3}) {
        const auto buckets = reader->summaries(reader->info().signal("fast")->id, level);
        const std::uint64_t size = bucketSamples(level);
        ASSERT_EQ(buckets.size(), 300 * 117 / size);
        for (std::size_t k = 0; k < buckets.size(); ++k) {
            Summary expected;
            for (std::uint64_t i = k * size; i < (k + 1) * size; ++i)
                expected.add((static_cast<double>(i) - 30000) * 20.0 / 65536);
            EXPECT_EQ(buckets[k].begin.ns, static_cast<std::int64_t>(k * size) * 1'000'000);
            EXPECT_EQ(buckets[k].summary.min, expected.min);
            EXPECT_EQ(buckets[k].summary.max, expected.max);
            EXPECT_NEAR(buckets[k].summary.mean, expected.mean, 1e-9);
            EXPECT_EQ(buckets[k].summary.count, size);
        }
    }
    const Summary all = summaryOf(*reader, *reader->info().signal("fast"));
    EXPECT_EQ(all.count, 35'100U);
    EXPECT_EQ(all.min, -30000 * 20.0 / 65536);
    EXPECT_EQ(all.max, 5099 * 20.0 / 65536);
    EXPECT_NEAR(all.mean, (-30000 + 5099) / 2.0 * 20.0 / 65536, 1e-9);
}

TEST(RunStore, OnlyWhatIsAskedForIsRead) {
    Recorded r;
    for (int i = 0; i < 10; ++i) {
        r.addFast(2000);
        ASSERT_TRUE(r.writer->commit().ok());
    }
    ASSERT_TRUE(r.writer->close().ok());
    const auto reader = r.read();
    auto blocks = reader->blocks(1, {{{5'500'000'000}, {8'000'000'000}}, {}});
    std::vector<std::uint64_t> seen;
    while (const BlockPtr block = blocks.next()) seen.push_back(block->firstIndex);
    EXPECT_EQ(seen, (std::vector<std::uint64_t>{4000, 6000})) << "blocks that have samples in the span, and no others";
    auto none = reader->blocks(1, {{}, {99}});
    EXPECT_EQ(none.next(), nullptr) << "no such signal";
}

TEST(RunStore, TheTimeAndTheNoiseOfAnInputCostTheirBitsOnly) {
    Recorded r;
    const std::uint64_t empty = r.writer->bytesOnDisk();
    for (int i = 0; i < 100; ++i) r.addFast(10'000);
    ASSERT_TRUE(r.writer->close().ok());
    EXPECT_LT(r.writer->bytesOnDisk() - empty, 1'000'000 * 2 / 8) << "an even ramp of int16";
    const auto reader = r.read();
    auto blocks = reader->blocks(1);
    std::uint64_t next = 0;
    while (const BlockPtr block = blocks.next()) {
        EXPECT_LE(block->size() * 2, std::size_t{3} << 20) << "a moment can be read without reading minutes";
        const auto& v = std::get<std::vector<std::int16_t>>(block->columns[0]);
        for (std::size_t i = 0; i < v.size(); ++i, ++next)
            ASSERT_EQ(v[i], static_cast<std::int16_t>(next % 60'000 - 30'000));
    }
    EXPECT_EQ(next, 1'000'000U);
}

TEST(RunStore, SmallCommitsOfASlowSignalMakeOneBlock) {
    Recorded r;
    auto block = std::make_shared<Block>(*test::clockedBlock(r.fast, 0, {}, std::vector<std::int16_t>(10, 7)));
    block->quality = {{{2, 5, Quality::openSensor}}};
    r.writer->add(block, {{0, "fast"}});
    r.index = 10;
    for (int i = 0; i < 90; ++i) {
        ASSERT_TRUE(r.writer->commit().ok());
        r.addFast(10);
    }
    ASSERT_TRUE(r.writer->commit().ok());
    EXPECT_EQ(r.read()->info().signal("fast")->samples, 910U) << "read while it is being recorded";
    EXPECT_EQ(r.writer->samplesWritten(), 910U) << "none counted twice";
    r.addFast(50);
    EXPECT_EQ(r.writer->dropPending("The disk was full."), 50U) << "what is on disk already is not lost";
    ASSERT_TRUE(r.writer->close().ok());
    const auto reader = r.read();
    EXPECT_EQ(reader->info().lostSamples(), 50U);
    auto blocks = reader->blocks(1);
    const BlockPtr whole = blocks.next();
    ASSERT_TRUE(whole);
    EXPECT_EQ(whole->size(), 910U);
    EXPECT_EQ(whole->quality[0], (std::vector<QualityInterval>{{2, 5, Quality::openSensor}}));
    const auto& v = std::get<std::vector<std::int16_t>>(whole->columns[0]);
    for (std::size_t i = 10; i < v.size(); ++i) ASSERT_EQ(v[i], static_cast<std::int16_t>(i - 30'000));
    EXPECT_EQ(blocks.next(), nullptr);
}

TEST(RunStore, ARunThatGrowsFastIsStillOneAndReadable) {
    // Commits of several megabytes, with a reader there and without.
    Recorded r;
    std::mt19937 random(5);
    std::uint64_t n = 0;
    const auto addNoise = [&] {
        std::vector<std::int16_t> v(3'000'000);
        for (auto& x : v) x = static_cast<std::int16_t>(random());
        r.writer->add(test::clockedBlock(r.fast, n, {static_cast<std::int64_t>(n) * 1'000'000}, v), {{0, "fast"}});
        n += v.size();
        ASSERT_TRUE(r.writer->commit().ok());
    };
    {
        const auto reader = r.read();
        auto blocks = reader->blocks(1);
        addNoise();
    }
    addNoise();
    EXPECT_EQ(r.read()->info().signal("fast")->samples, n);
    addNoise();
    ASSERT_TRUE(r.writer->close().ok());
    EXPECT_EQ(r.read()->info().signal("fast")->samples, n);
    EXPECT_EQ(test::integrity(r.path), "ok");
    EXPECT_FALSE(std::filesystem::exists(r.path + "-wal")) << "one file when it is closed";
    EXPECT_FALSE(std::filesystem::exists(r.path + "-journal"));
}

TEST(RunStore, NeverOverwritesAndSaysWhyItCannotBegin) {
    Recorded r;
    const auto again = RunWriter::create(r.path, r.bench, {});
    ASSERT_FALSE(again.ok());
    EXPECT_NE(again.error().english().find("never overwrites"), std::string::npos);
    EXPECT_FALSE(RunWriter::create("/nonexistent/a.run", r.bench, {}).ok());
}

TEST(RunStore, DroppedSamplesAreAccountedForExactly) {
    Recorded r;
    r.addFast(100);
    ASSERT_TRUE(r.writer->commit().ok());
    r.addFast(70);
    r.addFast(30);
    EXPECT_EQ(r.writer->dropPending("The disk was full."), 100U);
    r.addFast(10);
    ASSERT_TRUE(r.writer->close().ok());
    const auto reader = r.read();
    EXPECT_EQ(reader->info().signal("fast")->samples, 110U);
    EXPECT_EQ(reader->info().lostSamples(), 100U);
    ASSERT_EQ(reader->info().groups[0].gaps.size(), 1U);
    EXPECT_EQ(reader->info().groups[0].gaps[0].from, (Instant{100'000'000}));
    EXPECT_EQ(reader->info().groups[0].gaps[0].to, (Instant{200'000'000}));
}

TEST(RunStore, ALockedFileLosesNothingThatIsHeld) {
    // Another process holds the file: commits fail, everything stays in memory, and is written once it lets go.
    Recorded r;
    r.addFast(100);
    ASSERT_TRUE(r.writer->commit().ok());
    sqlite3* other = nullptr;
    ASSERT_EQ(sqlite3_open(r.path.c_str(), &other), SQLITE_OK);
    ASSERT_EQ(sqlite3_exec(other, "BEGIN EXCLUSIVE", nullptr, nullptr, nullptr), SQLITE_OK);
    r.addFast(100);
    EXPECT_FALSE(r.writer->commit().ok());
    r.addFast(100);
    EXPECT_FALSE(r.writer->commit().ok());
    EXPECT_GE(r.writer->pendingBytes(), 400U);
    sqlite3_exec(other, "ROLLBACK", nullptr, nullptr, nullptr);
    sqlite3_close(other);
    ASSERT_TRUE(r.writer->close().ok());
    EXPECT_EQ(r.read()->info().signal("fast")->samples, 300U);
    EXPECT_EQ(r.read()->info().lostSamples(), 0U);
}

TEST(RunReader, RefusesWhatIsNoRunWithASentence) {
    TempFolder folder;
    EXPECT_FALSE(RunReader::open(folder.file("none.run")).ok());
    EXPECT_FALSE(RunReader::open("/").ok());
    test::writeFile(folder.file("text.run"),
                    "this is no database, but long enough to be looked at as one, one would think");
    EXPECT_NE(RunReader::open(folder.file("text.run")).error().english().find("not a run"), std::string::npos);
    test::writeFile(folder.file("empty.run"), "");
    EXPECT_FALSE(RunReader::open(folder.file("empty.run")).ok());
    Recorded r;
    ASSERT_TRUE(r.writer->close().ok());
    r.writer.reset();
    sqlite3* db = nullptr;
    sqlite3_open(r.path.c_str(), &db);
    sqlite3_exec(db, "UPDATE run SET value=99 WHERE key='version'", nullptr, nullptr, nullptr);
    sqlite3_close(db);
    EXPECT_NE(RunReader::open(r.path).error().english().find("newer version"), std::string::npos);
}

TEST(RunReader, DamagedRowsArePassedOverAndCounted) {
    Recorded r;
    for (int i = 0; i < 5; ++i) {
        r.addFast(2000);
        ASSERT_TRUE(r.writer->commit().ok());
    }
    ASSERT_TRUE(r.writer->close().ok());
    r.writer.reset();
    sqlite3* db = nullptr;
    sqlite3_open(r.path.c_str(), &db);
    for (const char* sql : {"UPDATE block SET n=-4 WHERE id=1", "UPDATE block SET data=x'00' WHERE id=2",
                            "UPDATE block SET t0_ns=-5 WHERE id=4"})
        ASSERT_EQ(sqlite3_exec(db, sql, nullptr, nullptr, nullptr), SQLITE_OK);
    sqlite3_close(db);
    const auto reader = r.read();
    auto blocks = reader->blocks(reader->info().groups[0].id);
    std::vector<std::uint64_t> firsts;
    while (const BlockPtr b = blocks.next()) firsts.push_back(b->firstIndex);
    EXPECT_EQ(firsts, (std::vector<std::uint64_t>{4000, 8000}));
    EXPECT_EQ(blocks.damaged(), 3U);
}

TEST(RunReader, WhateverElseDoesNotReadTheSamplesDoAndWhatIsMissingIsSaid) {
    for (const char* damage : {"UPDATE bench SET json='nonsense'", "DELETE FROM bench",
                               "UPDATE definition SET json='{'", "DELETE FROM definition", "DROP TABLE event",
                               "DROP TABLE mark", "DROP TABLE anchor", "DROP TABLE bench", "DROP TABLE definition"}) {
        Recorded r;
        r.addFast(2000);
        ASSERT_TRUE(r.writer->close().ok());
        r.writer.reset();
        sqlite3* db = nullptr;
        sqlite3_open(r.path.c_str(), &db);
        ASSERT_EQ(sqlite3_exec(db, damage, nullptr, nullptr, nullptr), SQLITE_OK) << damage;
        sqlite3_close(db);
        auto reader = RunReader::open(r.path);
        ASSERT_TRUE(reader.ok()) << damage << ": " << reader.error().english();
        const RunInfo& info = reader.value()->info();
        if (std::string_view(damage) != "DELETE FROM bench") EXPECT_FALSE(info.problems.empty()) << damage;
        const RunSignal* fast = info.signal("fast");
        ASSERT_TRUE(fast) << damage;
        EXPECT_EQ(fast->samples, 2000U) << damage;
        EXPECT_TRUE(info.bench.signal("fast")) << damage << ": it is in the list";
        auto blocks = reader.value()->blocks(fast->group);
        std::size_t n = 0;
        while (const BlockPtr b = blocks.next()) n += b->size();
        EXPECT_EQ(n, 2000U) << damage;
    }
}

TEST(RunReplay, APartGivesTheReadingsOfTheWholeToTheLastBit) {
    TempFolder folder;
    Bench bench = test::oneSignal();
    SignalSpec in = *bench.signal("in");
    in.chain = {slopeOffset(0.1, 0.3, "V"), movingMean(37), movingMean(50)};
    bench = withSignal(bench, in);
    auto writer = std::move(RunWriter::create(folder.file("a.run"), bench, {Instant{}, 0}).value());
    const auto group = test::oneChannelGroup(1000);
    std::minstd_rand random(3);
    std::uint64_t index = 0;
    for (int b = 0; b < 60; ++b) {
        std::vector<double> samples(200 + random() % 300);
        for (double& v : samples) v = static_cast<double>(random() % 100'000) / 7;
        const std::size_t n = samples.size();
        auto block = std::make_shared<Block>(*test::clockedBlock(
            group, index, Instant{static_cast<std::int64_t>(index) * 1'000'000}, std::move(samples)));
        index += n;
        writer->add(block, {{0, "in"}});
        ASSERT_TRUE(writer->commit().ok());
    }
    ASSERT_TRUE(writer->close().ok());
    auto reader = std::move(RunReader::open(folder.file("a.run")).value());
    const RunSignal* signal = reader->info().signal("in");
    const auto readings = [&](Instant begins, Instant from) {
        RunReader::Part part;
        part.span.from = begins;
        RunReplay replay(*reader, signal->group, part);
        std::vector<double> out;
        for (RunReplay::Step step; replay.next(step);)
            for (std::size_t i = 0; i < step.block->size(); ++i)
                if (step.block->timeOf(i) >= from) out.push_back(step.readings[0].values[i]);
        return out;
    };
    bool later = false;
    for (int i = 0; i < 40; ++i) {
        const Instant from{static_cast<std::int64_t>(random() % index) * 1'000'000};
        const Instant begins = reader->replayFrom(signal->group, {}, from);
        later = later || begins > reader->info().span.from + seconds(1);
        EXPECT_TRUE(readings(begins, from) == readings(reader->info().span.from, from)) << from.ns;
    }
    EXPECT_TRUE(later) << "not all of them begin at the run's start";
}

TEST(RunReader, MoreSignalsThanAnybodyHasAreRefusedAtOnce) {
    Recorded r;
    r.addFast(10);
    ASSERT_TRUE(r.writer->close().ok());
    r.writer.reset();
    sqlite3* db = nullptr;
    sqlite3_open(r.path.c_str(), &db);
    ASSERT_EQ(sqlite3_exec(db,
                           "WITH RECURSIVE n(i) AS (SELECT 10 UNION ALL SELECT i+1 FROM n WHERE i<10100) "
                           "INSERT INTO signal SELECT i, 's' || i, 1, 0 FROM n",
                           nullptr, nullptr, nullptr),
              SQLITE_OK);
    sqlite3_close(db);
    const auto opened = RunReader::open(r.path);
    ASSERT_FALSE(opened.ok());
    EXPECT_NE(opened.error().english().find("10000 at most"), std::string::npos) << opened.error().english();
}

TEST(RunReader, RandomDamageNeverCrashesOrHangs) {
    Recorded r;
    for (int i = 0; i < 50; ++i) r.addFast(100);
    r.addSlow({5}, 1);
    ASSERT_TRUE(r.writer->close().ok());
    const std::string good = test::readFile(r.path);
    std::mt19937 random(3);
    int opened = 0;
    for (int i = 0; i < 150; ++i) {
        std::string bad = good;
        for (int k = 0; k < 20; ++k) bad[random() % bad.size()] = static_cast<char>(random());
        if (i % 4 == 0) bad.resize(random() % bad.size());
        const std::string path = r.folder.file("bad.run");
        test::writeFile(path, bad);
        auto reader = RunReader::open(path);
        if (!reader) continue;
        ++opened;
        for (const RunGroup& g : reader.value()->info().groups) {
            RunReplay replay(*reader.value(), g.id);
            RunReplay::Step step;
            while (replay.next(step)) {
            }
        }
    }
    EXPECT_GT(opened, 0) << "most of the file is samples: some damage must leave it readable";
}

/// A CSV line's cells; quotes are not looked at.
std::vector<std::string> cells(const std::string& line) {
    std::vector<std::string> out(1);
    for (const char c : line)
        if (c == ',')
            out.emplace_back();
        else if (c != '\r')
            out.back() += c;
    return out;
}

TEST(CsvExport, EverySampleOnceAndNumbersReadBackTheSame) {
    Recorded r;
    for (int i = 0; i < 20; ++i) r.addFast(50);
    r.addSlow({0}, 0.1);
    r.addSlow({10'500'000}, 1.0 / 3);
    ASSERT_TRUE(r.writer->close().ok());
    NoProgress progress;
    const auto result = exportCsv(r.path, r.folder.file("a.csv"), {}, progress);
    ASSERT_TRUE(result.ok()) << result.error().english();
    EXPECT_EQ(result.value().rows, 1001U);
    EXPECT_EQ(result.value().samples,
              (std::vector<std::pair<std::string, std::uint64_t>>{{"fast", 1000}, {"slow", 2}}));
    std::istringstream csv(test::readFile(r.folder.file("a.csv")));
    std::string line;
    std::getline(csv, line);
    EXPECT_EQ(line, "time [s],\"Fast, \"\"quoted\"\" [V]\",Slow [kg]\r");
    std::uint64_t fast = 0;
    std::vector<double> slow;
    while (std::getline(csv, line)) {
        const auto c = cells(line);
        ASSERT_EQ(c.size(), 3U);
        if (!c[1].empty()) {
            EXPECT_EQ(std::stod(c[1]), (static_cast<double>(fast) - 30000) * 20.0 / 65536);
            EXPECT_EQ(c[0], secondsText(static_cast<std::int64_t>(fast) * 1'000'000));
            ++fast;
        }
        if (!c[2].empty()) slow.push_back(std::stod(c[2]));
    }
    EXPECT_EQ(fast, 1000U);
    EXPECT_EQ(slow, (std::vector<double>{0.1, 1.0 / 3}));
}

TEST(CsvExport, ChosenSignalsAndTimesHalfOpen) {
    Recorded r;
    r.addFast(100);
    r.addSlow({50'000'000}, 7);
    ASSERT_TRUE(r.writer->close().ok());
    NoProgress progress;
    ExportOptions options;
    options.signals = {"F"};  // by tag
    options.from = milliseconds(10);
    options.to = milliseconds(20);
    options.qualityColumns = true;
    const auto result = exportCsv(r.path, r.folder.file("a.csv"), options, progress);
    ASSERT_TRUE(result.ok());
    EXPECT_EQ(result.value().rows, 10U);
    const std::string csv = test::readFile(r.folder.file("a.csv"));
    EXPECT_NE(csv.find("\r\n0.01,"), std::string::npos);
    EXPECT_EQ(csv.find("\r\n0.02,"), std::string::npos);
    EXPECT_NE(csv.find(",good\r\n"), std::string::npos);
    options.signals = {"nothing"};
    const auto wrong = exportCsv(r.path, r.folder.file("b.csv"), options, progress);
    ASSERT_FALSE(wrong.ok());
    EXPECT_NE(wrong.error().english().find("It has: fast, slow"), std::string::npos);
}

TEST(CsvExport, ACancelledOneLeavesNothingBehind) {
    Recorded r;
    for (int i = 0; i < 400; ++i) r.addFast(1000);
    ASSERT_TRUE(r.writer->close().ok());
    NoProgress progress;
    progress.cancel = true;
    test::writeFile(r.folder.file("a.csv"), "older");
    EXPECT_FALSE(exportCsv(r.path, r.folder.file("a.csv"), {}, progress).ok());
    EXPECT_EQ(test::readFile(r.folder.file("a.csv")), "older");
    EXPECT_TRUE(test::leftBehind(r.folder).empty()) << test::leftBehind(r.folder);
    EXPECT_GT(progress.calls, 0);
}

}  // namespace
}  // namespace cruscotto
