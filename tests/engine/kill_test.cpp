// The recorder is killed at moments that nobody chose.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <csignal>
#include <random>

#include "core/run/run_reader.h"
#include "engine/engine.h"
#include "fast_bench.h"
#include "integrity.h"
#include "support.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::TempFolder;

/// What a victim says in memory that outlives it; nanoseconds.
struct Said {
    std::atomic<std::int64_t> reached, began;  // the bench's time
    /// How long in all the machine has not let a plain program go on, and when that last began a round.
    std::atomic<std::int64_t> stalled, roundBegan;
};

std::int64_t monotonicNs() {
    return std::chrono::steady_clock::now().time_since_epoch().count();
}

constexpr std::int64_t roundNs = 10'000'000;

std::int64_t tooLong(std::int64_t round) {
    return round > roundNs * 3 / 2 ? round - roundNs : 0;
}

/// The reference: a plain program that writes a little a hundred times a second, while a thread of its own makes the
/// disk confirm it. Does not return.
void writePlainly(Said& said, const std::string& path) {
    const int file = open(path.c_str(), O_CREAT | O_WRONLY | O_TRUNC | O_CLOEXEC, 0600);
    std::thread([file] {
        while (fdatasync(file) == 0) std::this_thread::sleep_for(std::chrono::milliseconds(100));
        _exit(1);
    }).detach();
    const std::vector<char> some(16384);
    said.roundBegan = monotonicNs();
    while (true) {
        if (write(file, some.data(), some.size()) < 0) _exit(1);
        std::this_thread::sleep_for(std::chrono::nanoseconds(roundNs));
        const std::int64_t now = monotonicNs();
        said.stalled += tooLong(now - said.roundBegan);
        said.roundBegan = now;
    }
}

/// A process that records, and says what time its bench has reached.
class Victim {
public:
    Victim(const Bench& bench, std::string path) : path_(std::move(path)) {
        said_ = new (mmap(nullptr, 4096, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0)) Said;
        child_ = fork();
        if (child_ > 0) return;
        prctl(PR_SET_PDEATHSIG, SIGKILL);  // it ends with the test, however that ends
        std::thread([this] { writePlainly(*said_, path_ + ".plain"); }).detach();
        auto engine = Engine::start(bench);
        if (!engine->startRecording(path_).ok()) _exit(1);
        said_->began = engine->now().ns;
        while (true) {
            said_->reached = engine->now().ns;
            std::this_thread::sleep_for(std::chrono::milliseconds(1));
        }
    }
    ~Victim() {
        if (child_ > 0) kill();
        munmap(said_, 4096);
        std::filesystem::remove(path_);
        std::filesystem::remove(path_ + ".plain");
    }
    Victim(const Victim&) = delete;
    Victim& operator=(const Victim&) = delete;
    [[nodiscard]] bool recording() const { return said_->reached > 0; }
    /// The bench's time at its last moment.
    Instant kill() {
        ::kill(child_, SIGKILL);
        waitpid(child_, nullptr, 0);
        child_ = 0;
        return {said_->reached};
    }
    /// When it began to record.
    [[nodiscard]] Instant began() const { return {said_->began}; }
    /// How long the machine itself let nobody go on.
    [[nodiscard]] Duration stalled() const {
        return {said_->stalled + (said_->roundBegan > 0 ? tooLong(monotonicNs() - said_->roundBegan) : 0)};
    }
    [[nodiscard]] const std::string& path() const { return path_; }

private:
    const std::string path_;
    Said* said_ = nullptr;
    pid_t child_ = 0;
};

void expectNoMoreLost(const Victim& victim, Instant last, Duration atMost) {
    auto reader = RunReader::open(victim.path());
    ASSERT_TRUE(reader.ok()) << victim.path() << ": " << reader.error().english();
    const RunInfo& info = reader.value()->info();
    EXPECT_FALSE(info.closed);
    EXPECT_EQ(test::integrity(victim.path()), "ok") << victim.path();
    if (!SANITIZED && last > victim.began() + atMost)
        EXPECT_GE(info.span.to, last - atMost) << victim.path() << ": allowed were " << atMost.seconds() << " s";
    test::expectWhole(*reader.value());
}

/// `disk`: on the machine's own; else in memory. Half a second is all that a kill may cost, but for the time in which
/// the machine lets nobody go on, and as long again in which all that has waited meanwhile is caught up. Slow
/// recordings can go on several `together`.
void killAgainAndAgain(const Bench& bench, int rounds, int together = 1, bool disk = false) {
    using Clock = std::chrono::steady_clock;
    TempFolder folder(disk ? TempFolder::Where::disk : TempFolder::Where::memory);
    std::mt19937 random(7);
    for (int round = 0; round < rounds; round += together) {
        std::vector<std::unique_ptr<Victim>> victims;
        for (int i = 0; i < together; ++i) {  // one after the other: what a start takes is no loss of the others'
            victims.push_back(std::make_unique<Victim>(bench, folder.file(fmt::format("{}.run", round + i))));
            ASSERT_TRUE(eventually([&] { return victims.back()->recording(); }));
        }
        std::vector<int> after(victims.size());
        for (int& ms : after) ms = static_cast<int>(random() % 900);
        std::ranges::sort(after);
        const auto began = Clock::now();
        for (std::size_t i = 0; i < victims.size(); ++i) {
            std::this_thread::sleep_until(began + std::chrono::milliseconds(after[i]));
            const Duration stalled = victims[i]->stalled();
            const Instant last = victims[i]->kill();
            expectNoMoreLost(*victims[i], last, {milliseconds(500).ns + 2 * stalled.ns});
            victims[i].reset();
        }
    }
}

constexpr int rounds = SANITIZED ? 2 : 50;
constexpr const char* fastBox = R"({"channels":32,"rate-hz":200000})";

TEST(Kill, AtFiftyMomentsOfASlowRecording) {
    killAgainAndAgain(test::exampleBench("pump-bench"), rounds, SANITIZED ? 1 : 5);
}
TEST(Kill, AtFiftyMomentsOfAFastRecording) {
    killAgainAndAgain(test::fastBench(fastBox, 32), rounds, SANITIZED ? 1 : 5);
}
TEST(Kill, AtMomentsOfAVeryFastRecording) {
#ifdef __SANITIZE_THREAD__
    GTEST_SKIP() << "under the thread sanitizer no recording is that fast";
#endif
    killAgainAndAgain(test::fastBench(R"({"channels":32,"rate-hz":500000})", 32), SANITIZED ? 1 : 12);
}
TEST(Kill, OnTheMachinesOwnDisk) {
    killAgainAndAgain(test::exampleBench("pump-bench"), SANITIZED ? 1 : 10, SANITIZED ? 1 : 5, true);
    killAgainAndAgain(test::fastBench(fastBox, 32), SANITIZED ? 1 : 10, SANITIZED ? 1 : 2, true);
}

}  // namespace
}  // namespace cruscotto
