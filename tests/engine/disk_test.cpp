// What a disk can do to a recording: fill up, refuse, dawdle, vanish, and lose its power.
#include "test_disk.h"

#include <unistd.h>

#include <fstream>

#include "core/run/run_reader.h"
#include "engine/engine.h"
#include "fast_bench.h"
#include "feed.h"
#include "integrity.h"
#include "support.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::Feed;
using test::TempFolder;
using test::TestDisk;

RecorderLimits quick() {
    RecorderLimits limits;
    limits.commitEvery = milliseconds(20);
    return limits;
}

TEST(Disk, FullIsSaidAtOnceAndCostsNothingOnceThereIsRoom) {
    TestDisk disk;
    Feed feed(quick());
    feed.add(1000);
    ASSERT_TRUE(feed.allWritten());
    disk.full = true;
    feed.add(100'000);
    ASSERT_TRUE(feed.said("kept in memory"));
    feed.add(1000);
    ASSERT_TRUE(eventually([&] { return feed.recorder->status().memoryLeft.has_value(); }));
    EXPECT_GT(feed.recorder->status().memoryLeft->seconds(), 0);
    EXPECT_EQ(feed.recorder->status().lost, 0U);
    disk.full = false;
    EXPECT_TRUE(feed.allWritten()) << feed.recorder->status().problem.english();
    EXPECT_FALSE(feed.recorder->status().memoryLeft) << "only while it matters";
    feed.recorder->close();
    EXPECT_EQ(feed.read()->info().signal("in")->samples, 102'000U);
    EXPECT_EQ(feed.read()->info().lostSamples(), 0U);
    EXPECT_EQ(test::integrity(feed.path), "ok");
}

TEST(Disk, WriteProtectedForAWhileCostsNothingEither) {
    TestDisk disk;
    Feed feed(quick());
    feed.add(1000);
    ASSERT_TRUE(feed.allWritten());
    disk.writeProtected = true;
    feed.add(1000);
    ASSERT_TRUE(feed.said("kept in memory"));
    disk.writeProtected = false;
    EXPECT_TRUE(feed.allWritten()) << feed.recorder->status().problem.english();
    feed.recorder->close();
    EXPECT_EQ(feed.read()->info().signal("in")->samples, 2000U);
}

TEST(Disk, OneThatTakesItsTimeHoldsNobodyUp) {
    TestDisk disk;
    Feed feed(quick());
    disk.confirming = false;
    for (int i = 0; i < 20; ++i) {
        feed.add(100);
        EXPECT_TRUE(eventually([&] { return feed.recorder->status().samples == feed.next; }))
            << "written, so that it survives the process, though nothing is confirmed";
    }
    EXPECT_TRUE(feed.recorder->status().problem.empty());
    disk.confirmAgain();
    feed.recorder->close();
    EXPECT_EQ(feed.read()->info().signal("in")->samples, 2000U);
}

TEST(Disk, ARunThatIsRemovedWhileItIsRecordedIsWrittenAnew) {
    Feed feed(quick(), Pace::realTime, "deep/folder/a.run");
    feed.add(5000);
    ASSERT_TRUE(feed.allWritten());
    std::filesystem::remove_all(feed.folder.file("deep"));
    feed.add(1000);
    ASSERT_TRUE(feed.allWritten()) << feed.recorder->status().problem.english();
    EXPECT_EQ(feed.read()->info().signal("in")->samples, 6000U);
    // once more, and now nothing can be made in its place for a while
    std::filesystem::remove_all(feed.folder.file("deep"));
    test::writeFile(feed.folder.file("deep"), "in the way");
    feed.add(1000);
    ASSERT_TRUE(feed.said("removed while it was recorded"));
    std::filesystem::remove(feed.folder.file("deep"));
    EXPECT_TRUE(feed.allWritten()) << feed.recorder->status().problem.english();
    feed.recorder->close();
    EXPECT_EQ(feed.read()->info().signal("in")->samples, 7000U);
    EXPECT_TRUE(feed.read()->info().closed);
    EXPECT_EQ(test::integrity(feed.path), "ok");
}

TEST(Disk, ARecordingEndsInOrderBeforeTheDiskIsFull) {
    std::atomic<std::uint64_t> free{1'000'000'000};
    RecorderLimits limits = quick();
    limits.keepFreeBytes = 400'000'000;
    limits.freeBytes = [&](const std::string&) { return std::optional<std::uint64_t>(free); };
    Feed feed(limits);
    const auto began = std::chrono::steady_clock::now();
    ASSERT_TRUE(eventually([&] {
        feed.add(1000);
        return feed.recorder->status().diskLeft.has_value() &&
               std::chrono::steady_clock::now() - began > std::chrono::milliseconds(600);
    })) << "how long the disk will do is told";
    EXPECT_GT(feed.recorder->status().diskLeft->seconds(), 0);
    EXPECT_FALSE(feed.recorder->status().complete);
    ASSERT_TRUE(feed.allWritten());
    const std::uint64_t before = feed.next;
    free = 399'999'999;
    ASSERT_TRUE(eventually([&] { return feed.recorder->status().complete; }));
    feed.add(1000);
    EXPECT_TRUE(feed.said("ended in order"));
    feed.recorder->close();
    EXPECT_TRUE(feed.said("ended in order")) << "it is still told when the run is closed";
    EXPECT_EQ(feed.read()->info().signal("in")->samples, before);
    EXPECT_TRUE(feed.read()->info().closed);
}

/// How long this computer, in the second before now, did not let a thread run that wanted to: what a recorder that is
/// not let run either cannot commit meanwhile. Measured by a thread that sleeps for a few milliseconds again and again,
/// and by what the kernel says that a host took away from all processors (proc(5), /proc/stat, steal).
class Stalls {
public:
    [[nodiscard]] Duration inTheLastSecond() {
        const std::lock_guard lock(mutex_);
        const auto now = Clock::now();
        Clock::duration sum = now - woke_ > NAP ? now - woke_ - NAP : Clock::duration{};  // the one that lasts still
        std::chrono::milliseconds before = stolen();
        const auto after = before;
        for (const Look& look : looks_)
            if (now - look.when < std::chrono::seconds(1)) {
                sum += look.late;
                before = std::min(before, look.stolen);
            }
        return {std::chrono::nanoseconds(sum + (after - before)).count()};
    }

private:
    using Clock = std::chrono::steady_clock;
    static constexpr auto NAP = std::chrono::milliseconds(5);
    struct Look {
        Clock::time_point when;
        Clock::duration late;
        std::chrono::milliseconds stolen;  // since the start
    };
    static std::chrono::milliseconds stolen() {
        std::ifstream all("/proc/stat");
        std::string word;
        std::int64_t ticks = 0;
        for (int i = 0; i < 8 && all >> word >> std::ws; ++i) {
        }
        all >> ticks;  // the eighth number, behind "cpu"
        return std::chrono::milliseconds(ticks * 1000 / sysconf(_SC_CLK_TCK));
    }
    std::mutex mutex_;
    std::vector<Look> looks_;
    Clock::time_point woke_ = Clock::now();
    std::jthread watcher_{[this](const std::stop_token& stop) {
        while (!stop.stop_requested()) {
            std::this_thread::sleep_for(NAP);
            const std::lock_guard lock(mutex_);
            const auto now = Clock::now();
            looks_.push_back({now, now - woke_ - NAP, stolen()});
            woke_ = now;
        }
    }};
};

/// The power goes at moments that nobody chose, and of what was not confirmed any part may be on the disk.
void cutAgainAndAgain(const Bench& bench, int cuts) {
    // The disk is the one that TestDisk makes up: how busy the machine's own is does not count.
    struct Cut {
        Instant at;
        TestDisk::Moment held;
        Duration stalled;
    };
    TestDisk disk;
    TempFolder folder(TempFolder::Where::memory);
    Stalls stalls;
    std::vector<Cut> all;
    std::minstd_rand random(11);
    auto engine = Engine::startRecorded(bench, folder.file("a.run"));
    ASSERT_TRUE(engine.ok()) << engine.error().english();
    const auto began = std::chrono::steady_clock::now();
    for (int i = 0; i < cuts; ++i) {
        const auto until = began + std::chrono::milliseconds(i * 80 + static_cast<int>(random() % 80));
        ASSERT_TRUE(eventually([&] { return std::chrono::steady_clock::now() > until; }));
        const Instant at = engine.value()->now();
        all.push_back({at, disk.now(), stalls.inTheLastSecond()});
    }
    engine.value()->stop();
    int opened = 0;
    for (std::size_t i = 0; i < all.size(); ++i) {
        const Instant at = all[i].at;
        const TempFolder left(TempFolder::Where::memory);
        TestDisk::cutPower(std::move(all[i].held), left.file(""), std::array{0.0, 0.5, 0.95}[i % 3],
                           static_cast<unsigned>(random()));
        const std::string path = left.file("a.run");
        auto reader = RunReader::open(path);
        if (at > Instant{} + seconds(1)) {
            ASSERT_TRUE(reader.ok()) << reader.error().english();
        }
        if (!reader) continue;
        ++opened;
        EXPECT_EQ(test::integrity(path), "ok") << at.ns;
        const RunInfo& info = reader.value()->info();
        if (!SANITIZED && at > Instant{} + seconds(1)) {
            EXPECT_GE(info.span.to, at - milliseconds(500) - all[i].stalled)
                << "half a second is what a power cut may cost";
        }
        test::expectWhole(*reader.value());
    }
    EXPECT_GT(opened, cuts / 2);
}

TEST(Disk, APowerCutDuringASlowRecordingCostsHalfASecond) {
    cutAgainAndAgain(test::exampleBench("pump-bench"), SANITIZED ? 8 : 50);
}
TEST(Disk, APowerCutDuringAFastRecordingCostsHalfASecond) {
    cutAgainAndAgain(test::fastBench(R"({"channels":32,"rate-hz":60000})", 32), SANITIZED ? 5 : 40);
}

}  // namespace
}  // namespace cruscotto
