#include "engine/recorder.h"

#include <sqlite3.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>

#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "feed.h"
#include "integrity.h"
#include "support.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::Feed;
using test::TempFolder;

/// Keeps anybody else from writing the file while it lives.
class Lock {
public:
    explicit Lock(const std::string& path) {
        sqlite3_open(path.c_str(), &db_);
        sqlite3_busy_timeout(db_, 5000);
        held = sqlite3_exec(db_, "BEGIN EXCLUSIVE", nullptr, nullptr, nullptr) == SQLITE_OK;
    }
    ~Lock() {
        sqlite3_exec(db_, "ROLLBACK", nullptr, nullptr, nullptr);
        sqlite3_close(db_);
    }
    Lock(const Lock&) = delete;
    Lock& operator=(const Lock&) = delete;
    bool held = false;

private:
    sqlite3* db_ = nullptr;
};

TEST(Recorder, EverythingHandedOverIsThereAfterTheClose) {
    Feed feed;
    for (int i = 0; i < 500; ++i) feed.add(17);
    feed.recorder->note([](RunWriter& w) { w.addMark({5}, "here"); });
    feed.recorder->close();
    const RecordingStatus status = feed.recorder->status();
    EXPECT_FALSE(status.active);
    EXPECT_EQ(status.samples, 8500U);
    EXPECT_EQ(status.lost, 0U);
    EXPECT_GT(status.bytes, 8500U * 8);
    const auto reader = feed.read();
    EXPECT_TRUE(reader->info().closed);
    EXPECT_EQ(reader->info().signal("in")->samples, 8500U);
    EXPECT_EQ(reader->info().marks.size(), 1U);
}

TEST(Recorder, CommitsByItselfSeveralTimesASecond) {
    Feed feed;
    feed.add(100);
    EXPECT_TRUE(eventually([&] { return feed.recorder->status().samples == 100; }, std::chrono::seconds(5)));
    EXPECT_TRUE(feed.recorder->status().active);
}

TEST(Recorder, WhileTheFileCannotBeWrittenItSaysSoAndLosesNothing) {
    RecorderLimits limits;
    limits.commitEvery = milliseconds(20);
    Feed feed(limits);
    feed.add(100);
    ASSERT_TRUE(eventually([&] { return feed.recorder->status().samples == 100; }));
    {
        const Lock lock(feed.path);
        ASSERT_TRUE(lock.held);
        feed.add(100);
        ASSERT_TRUE(eventually([&] { return !feed.recorder->status().problem.empty(); }));
        const std::string said = feed.recorder->status().problem.english();
        EXPECT_NE(said.find("kept in memory"), std::string::npos) << said;
        feed.add(100);
    }
    ASSERT_TRUE(eventually([&] { return feed.recorder->status().samples == 300; }));
    EXPECT_TRUE(feed.recorder->status().problem.empty()) << "all is well again";
    feed.recorder->close();
    EXPECT_EQ(feed.read()->info().lostSamples(), 0U);
}

TEST(Recorder, WhatMemoryCannotHoldIsAGapWithItsExactNumber) {
    RecorderLimits limits;
    limits.commitEvery = milliseconds(20);
    limits.pendingBytes = 4000;
    Feed feed(limits);
    feed.add(100);
    ASSERT_TRUE(eventually([&] { return feed.recorder->status().samples == 100; }));
    {
        const Lock lock(feed.path);
        ASSERT_TRUE(lock.held);
        feed.add(1000);  // 8000 bytes: more than may be held
        ASSERT_TRUE(eventually([&] { return feed.recorder->status().lost > 0; }));
    }
    feed.add(50);
    feed.recorder->close();
    const RecordingStatus status = feed.recorder->status();
    const auto reader = feed.read();
    EXPECT_EQ(reader->info().lostSamples(), status.lost);
    EXPECT_EQ(reader->info().signal("in")->samples + status.lost, 1150U) << "each sample is there or accounted for";
    ASSERT_FALSE(reader->info().groups[0].gaps.empty());
    EXPECT_EQ(reader->info().groups[0].gaps[0].from, (Instant{100'000'000}));
}

TEST(Recorder, AFullDiskIsOneSentenceAndTheRunStaysWhole) {
    // A process of its own with a limit on the size of its files stands in for a full disk.
    TempFolder folder;
    const std::string path = folder.file("a.run");
    const pid_t child = fork();
    if (child == 0) {
        ::signal(SIGXFSZ, SIG_IGN);
        const rlimit limit{3'000'000, 3'000'000};
        if (setrlimit(RLIMIT_FSIZE, &limit) != 0) _exit(2);
        Bench bench;
        bench.name = "Test";
        auto writer = RunWriter::create(path, bench, {});
        if (!writer) _exit(3);
        auto group = test::oneChannelGroup(1000);
        bool refused = false;
        for (std::uint64_t i = 0; i < 100; ++i) {
            writer.value()->add(test::clockedBlock(group, i * 10'000, {static_cast<std::int64_t>(i) * 10'000'000'000},
                                                   std::vector<double>(10'000, 1)),
                                {{0, "in"}});
            refused = refused || !writer.value()->commit().ok();
        }
        _exit(refused && writer.value()->pendingBytes() > 0 ? 0 : 1);
    }
    int status = 0;
    ASSERT_EQ(waitpid(child, &status, 0), child);
    ASSERT_TRUE(WIFEXITED(status));
    EXPECT_EQ(WEXITSTATUS(status), 0);
    EXPECT_EQ(test::integrity(path), "ok");
}

TEST(Recorder, AQueueThatIsFullInRealTimeIsAGapWithItsExactNumber) {
    RecorderLimits limits;
    limits.queueBytes = 4000;
    limits.commitEvery = milliseconds(20);
    Feed feed(limits);
    feed.add(100);
    ASSERT_TRUE(eventually([&] { return feed.recorder->status().samples == 100; }));
    feed.add(1000);  // alone larger than the queue
    feed.add(700);
    EXPECT_EQ(feed.recorder->status().lost, 1700U);
    EXPECT_NE(feed.recorder->status().problem.english().find("1700 samples are missing"), std::string::npos);
    feed.add(50);
    feed.add(2000);  // nothing comes behind this one
    feed.recorder->close();
    EXPECT_EQ(feed.recorder->status().samples, 150U);
    const auto reader = feed.read();
    EXPECT_EQ(reader->info().lostSamples(), 3700U);
    EXPECT_EQ(reader->info().signal("in")->samples, 150U);
    const auto& gaps = reader->info().groups[0].gaps;
    ASSERT_EQ(gaps.size(), 2U) << "losses in a row are one gap";
    EXPECT_EQ(gaps[0].from, (Instant{100'000'000}));
    EXPECT_EQ(gaps[0].to, (Instant{1'800'000'000}));
    EXPECT_EQ(gaps[0].lostSamples, 1700U);
    EXPECT_EQ(gaps[0].cause, "The disk could not follow.");
    EXPECT_EQ(gaps[1].lostSamples, 2000U);
    RunReplay replay(*reader, 1);
    RunReplay::Step step;
    ASSERT_TRUE(replay.next(step));
    EXPECT_FALSE(step.block->gapBefore);
    ASSERT_TRUE(replay.next(step));
    EXPECT_EQ(step.block->firstIndex, 1800U);
    ASSERT_TRUE(step.block->gapBefore);
    EXPECT_EQ(step.block->gapBefore->lostSamples, 1700U);
}

TEST(Recorder, AsFastAsPossibleItWaitsInsteadOfDropping) {
    RecorderLimits limits;
    limits.queueBytes = 20'000;
    Feed feed(limits, Pace::asFastAsPossible);
    for (int i = 0; i < 300; ++i) feed.add(500);
    feed.recorder->close();
    EXPECT_EQ(feed.recorder->status().lost, 0U);
    EXPECT_EQ(feed.read()->info().signal("in")->samples, 150'000U);
}

TEST(Recorder, FilesAreSplitBySizeAndTimeWithoutASampleLostBetweenThem) {
    for (const bool bySize : {false, true}) {
        RecorderLimits limits;
        limits.commitEvery = milliseconds(10);
        if (bySize)
            limits.splitBytes = 400'000;
        else
            limits.splitEvery = seconds(20);
        Feed feed(limits);
        while (feed.recorder->status().parts < 4) {
            feed.add(1000);
            ASSERT_TRUE(eventually([&] { return feed.recorder->status().samples == feed.next; }));
        }
        feed.add(500);
        feed.recorder->note([](RunWriter& w) { w.addMark({5}, "in the last one"); });
        feed.recorder->close();
        const RecordingStatus status = feed.recorder->status();
        EXPECT_EQ(status.samples, feed.next) << "over all files";
        EXPECT_EQ(status.path, feed.folder.file("a.part4.run"));
        std::uint64_t next = 0;
        std::uint64_t bytes = 0;
        for (const char* name : {"a.run", "a.part2.run", "a.part3.run", "a.part4.run"}) {
            feed.path = feed.folder.file(name);
            const auto reader = feed.read();
            EXPECT_TRUE(reader->info().closed);
            EXPECT_EQ(reader->info().bench.name, "Test");
            EXPECT_EQ(reader->info().lostSamples(), 0U);
            EXPECT_EQ(reader->info().span.from.ns, static_cast<std::int64_t>(next) * 1'000'000) << "one time axis";
            auto blocks = reader->blocks(reader->info().signal("in")->group);
            while (const BlockPtr b = blocks.next()) {
                ASSERT_EQ(b->firstIndex, next);
                ASSERT_EQ(std::get<std::vector<double>>(b->columns[0]).front(), static_cast<double>(next));
                next += b->size();
            }
            bytes += reader->info().fileBytes;
            ASSERT_FALSE(reader->info().events.empty()) << "each says where it goes on or comes from";
        }
        EXPECT_EQ(next, feed.next);
        EXPECT_EQ(bytes, status.bytes);
    }
}

}  // namespace
}  // namespace cruscotto
