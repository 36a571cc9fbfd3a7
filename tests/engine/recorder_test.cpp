#include "engine/recorder.h"

#include <sqlite3.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>

#include "core/run_reader.h"
#include "support.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::TempFolder;

/// A recorder on a file of its own, fed with numbered blocks of one signal.
struct Feed {
    TempFolder folder;
    std::string path = folder.file("a.run");
    std::shared_ptr<ScanGroup> group = test::oneChannelGroup(1000);
    std::unique_ptr<Recorder> recorder;
    std::uint64_t next = 0;

    explicit Feed(RecorderLimits limits = {}, Pace pace = Pace::realTime) {
        Bench bench;
        bench.name = "Test";
        SignalSpec s;
        s.id = s.name = "in";
        s.device = "device";
        s.terminal = "AI0";
        bench = withSignal(withDevice(bench, {"device", "Device", "sim-io-box", "", ""}), s);
        auto writer = RunWriter::create(path, bench, {});
        if (!writer) throw std::runtime_error(writer.error().english());
        recorder = std::make_unique<Recorder>(std::move(writer.value()), path, Instant{}, pace, limits);
    }
    void add(std::size_t n) {
        std::vector<double> v(n);
        for (std::size_t i = 0; i < n; ++i) v[i] = static_cast<double>(next + i);
        recorder->add(test::clockedBlock(group, next, {static_cast<std::int64_t>(next) * 1'000'000}, std::move(v)),
                      {{0, "in", nullptr}});
        next += n;
    }
    std::unique_ptr<RunReader> read() const {
        auto reader = RunReader::open(path);
        if (!reader) throw std::runtime_error(reader.error().english());
        return std::move(reader.value());
    }
};

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
                                {{0, "in", nullptr}});
            refused = refused || !writer.value()->commit().ok();
        }
        _exit(refused && writer.value()->pendingBytes() > 0 ? 0 : 1);
    }
    int status = 0;
    ASSERT_EQ(waitpid(child, &status, 0), child);
    ASSERT_TRUE(WIFEXITED(status));
    EXPECT_EQ(WEXITSTATUS(status), 0);
    sqlite3* db = nullptr;
    ASSERT_EQ(sqlite3_open(path.c_str(), &db), SQLITE_OK);
    std::string verdict;
    sqlite3_exec(
        db, "PRAGMA integrity_check",
        [](void* to, int, char** values, char**) {
            *static_cast<std::string*>(to) = values[0];
            return 0;
        },
        &verdict, nullptr);
    sqlite3_close(db);
    EXPECT_EQ(verdict, "ok");
}

TEST(Recorder, AQueueThatIsFullInRealTimeDropsAndSaysSo) {
    RecorderLimits limits;
    limits.queueBytes = 100;
    Feed feed(limits);
    feed.add(1000);  // alone larger than the queue
    EXPECT_EQ(feed.recorder->status().lost, 1000U);
    EXPECT_NE(feed.recorder->status().problem.english().find("1000 samples are missing"), std::string::npos);
    feed.recorder->close();
    ASSERT_EQ(feed.read()->info().events.size(), 1U);
    EXPECT_EQ(feed.read()->info().events[0].kind, "loss");
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

}  // namespace
}  // namespace cruscotto
