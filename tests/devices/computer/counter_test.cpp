#include "devices/counter/counter_device.h"

#include <fcntl.h>
#include <linux/counter.h>
#include <time.h>
#include <unistd.h>

#include <atomic>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "devices/device_listener.h"
#include "devices/link/waker.h"

namespace cruscotto::counter_test {
namespace {

using nlohmann::json;
using test::eventually;

/// A made kernel with one counter: what is asked of it, and events when a test says so. No counter is on the machines
/// that run this.
struct Kernel {
    static inline std::atomic<int> openRefusal{0}, watchRefusal{0};
    static inline std::mutex mutex;
    static inline std::vector<counter_watch> queued, watched;
    static inline int events = -1;  // where they are written
    static inline bool firstByItself = false;

    static void begin() {
        openRefusal = watchRefusal = 0;
        firstByItself = false;
        const std::lock_guard lock(mutex);
        queued.clear();
        watched.clear();
    }
    static int open(const char*) {
        if (openRefusal != 0) {
            errno = openRefusal;
            return -1;
        }
        int both[2] = {};
        if (pipe2(both, O_CLOEXEC | O_NONBLOCK) != 0) return -1;
        const std::lock_guard lock(mutex);
        if (events >= 0) close(events);
        events = both[1];
        queued.clear();
        return both[0];
    }
    static int control(int, unsigned long request, void* argument) {
        const std::lock_guard lock(mutex);
        switch (request) {
            case COUNTER_ADD_WATCH_IOCTL:
                if (watchRefusal != 0) {
                    errno = watchRefusal;
                    return -1;
                }
                queued.push_back(*static_cast<counter_watch*>(argument));
                return 0;
            case COUNTER_ENABLE_EVENTS_IOCTL:
                watched = std::exchange(queued, {});
                if (firstByItself) put(watched.at(0), 1, 0);
                return 0;
            case COUNTER_DISABLE_EVENTS_IOCTL:
                watched.clear();
                return 0;
            default:
                errno = ENOTTY;
                return -1;
        }
    }
    static void put(const counter_watch& watch, std::uint64_t value, int status) {
        timespec t{};
        clock_gettime(CLOCK_MONOTONIC, &t);
        counter_event e{};
        e.timestamp = static_cast<std::uint64_t>(t.tv_sec) * 1'000'000'000 + static_cast<std::uint64_t>(t.tv_nsec);
        e.value = value;
        e.watch = watch;
        e.status = static_cast<std::uint8_t>(status);
        ASSERT_EQ(write(events, &e, sizeof e), static_cast<ssize_t>(sizeof e));
    }
    static void happens(std::size_t watch, std::uint64_t value, int status = 0) {
        const std::lock_guard lock(mutex);
        put(watched.at(watch), value, status);
    }
    static void pull() {
        openRefusal = ENOENT;
        const std::lock_guard lock(mutex);
        close(events);
        events = -1;
    }
    static std::size_t count() {
        const std::lock_guard lock(mutex);
        return watched.size();
    }
};

std::unique_ptr<test::DeviceListener> listen() {
    const auto settings = counterEventsSettings(
        jsonText(json{{"watches", {{"stroke", "count 1 on capture channel 2"}, {"turns", "count 0 on index"}}}}));
    return std::make_unique<test::DeviceListener>(
        makeCounterEvents({"device", Pace::realTime, {}, std::make_shared<WireTap>()}, settings.value(),
                          {Kernel::open, Kernel::control}));
}

TEST(CounterWatch, WordsAreReadOrRefused) {
    EXPECT_EQ(counterWatch("a", "count 0 on index").value(), (CounterWatch{"a", false, 0, COUNTER_EVENT_INDEX, 0}));
    EXPECT_EQ(counterWatch("a", "signal 3 on change channel 1").value(),
              (CounterWatch{"a", true, 3, COUNTER_EVENT_CHANGE_OF_STATE, 1}));
    EXPECT_EQ(counterWatch("a", "count 1 on turn-over").value().event, COUNTER_EVENT_OVERFLOW_UNDERFLOW);
    for (const char* wrong : {"", "count", "count 0", "count 0 on", "count 0 on tuesday", "count x on index",
                              "count 300 on index", "flower 0 on index", "count 0 on index channel",
                              "count 0 on index channel x", "count 0 at index", "count 0 on index row 1"})
        EXPECT_FALSE(counterWatch("a", wrong).ok()) << wrong;
    EXPECT_FALSE(counterWatch("", "count 0 on index").ok());
    EXPECT_FALSE(counterEventsSettings(R"({"device":""})").ok());
    EXPECT_FALSE(counterEventsSettings(R"({"watches":{"a":"count"}})").ok());
}

TEST(CounterEvents, AreAskedForAndReadAtTheKernelsTime) {
    Kernel::begin();
    const auto listener = listen();
    ASSERT_TRUE(listener->reaches(LinkState::live)) << listener->status().sentence.english();
    {
        const std::lock_guard lock(Kernel::mutex);
        ASSERT_EQ(Kernel::watched.size(), 2U);
        const counter_watch& stroke = Kernel::watched[0];
        EXPECT_EQ(stroke.component.type, COUNTER_COMPONENT_COUNT);
        EXPECT_EQ(stroke.component.scope, COUNTER_SCOPE_COUNT);
        EXPECT_EQ(stroke.component.parent, 1);
        EXPECT_EQ(stroke.event, COUNTER_EVENT_CAPTURE);
        EXPECT_EQ(stroke.channel, 2);
    }
    const Instant before = listener->now();
    for (std::uint64_t i = 0; i < 5; ++i) Kernel::happens(1, 100 + i);
    Kernel::happens(0, (std::uint64_t{1} << 32) + 7);
    ASSERT_TRUE(eventually([&] { return listener->count("turns") == 5 && listener->count("stroke") == 1; }));
    EXPECT_EQ(listener->latest("turns"), 104);
    EXPECT_EQ(listener->latest("stroke"), 7) << "the lower 32 bits";
    const auto samples = listener->samples("turns");
    EXPECT_NEAR((samples[0].t - before).seconds(), 0, 0.05);
    EXPECT_TRUE(std::ranges::is_sorted(samples, {}, [](const auto& s) { return s.t.ns; }));
    Kernel::happens(1, 0, EIO);
    EXPECT_TRUE(eventually([&] { return listener->status().rejected == 1; })) << "it could not be read then";
    EXPECT_EQ(listener->count("turns"), 5U);
    listener->stop();
    EXPECT_EQ(Kernel::count(), 0U) << "nothing is watched any more";
}

TEST(CounterEvents, EveryRefusalHasItsSentence) {
    for (const auto& [open, watch, state, words] :
         {std::tuple{EACCES, 0, LinkState::noPermission, "sudo chown"},
          std::tuple{EBUSY, 0, LinkState::busy, "another program"},
          std::tuple{ENOENT, 0, LinkState::absent, "There is no /dev/counter0"},
          std::tuple{0, EINVAL, LinkState::failed, "cannot tell of \"stroke\""},
          std::tuple{0, ENOTTY, LinkState::failed, "is no counter"}}) {
        Kernel::begin();
        Kernel::openRefusal = open;
        Kernel::watchRefusal = watch;
        const auto listener = listen();
        ASSERT_TRUE(listener->reaches(state));
        EXPECT_NE(listener->status().sentence.english().find(words), std::string::npos)
            << listener->status().sentence.english();
        Kernel::openRefusal = Kernel::watchRefusal = 0;
        EXPECT_TRUE(listener->reaches(LinkState::live));
    }
    Kernel::begin();
    test::DeviceListener nothing(makeCounterEvents({"device", Pace::realTime, {}, std::make_shared<WireTap>()}, {},
                                                   {Kernel::open, Kernel::control}));
    EXPECT_TRUE(nothing.reaches(LinkState::live));
    EXPECT_NE(nothing.status().sentence.english().find("nothing of it is watched"), std::string::npos);
}

TEST(KernelTime, FollowsTheAxisOverASleepOfTheComputerButNotHowLongLookingTakes) {
    KernelTime time;
    timespec t{};
    clock_gettime(CLOCK_MONOTONIC, &t);
    const std::int64_t stamp = static_cast<std::int64_t>(t.tv_sec) * 1'000'000'000 + t.tv_nsec;
    const auto axis = [&](std::int64_t later) { return [=] { return Instant{5'000'000'000 + later}; }; };
    time.look(axis(0));
    const Instant first = time.at(stamp);
    EXPECT_NEAR((first - axis(0)()).seconds(), 0, 0.05);
    time.look(axis(10'000'000));
    EXPECT_EQ(time.at(stamp), first);
    // A minute on the bench's axis in which the kernel's clock stood still.
    time.look(axis(60'000'000'000));
    EXPECT_NEAR((time.at(stamp) - first).seconds(), 60, 0.05);
}

TEST(KernelTime, IsNotLedAstrayByWhoIsHeldUpBetweenTheClocks) {
    KernelTime time;
    int looks = 0;
    const auto began = std::chrono::steady_clock::now();
    const auto axis = [&] {
        const Instant t{(std::chrono::steady_clock::now() - began).count()};
        // Held up behind the bench's clock, the first time of each look.
        if (looks++ % 2 == 0)
            while (std::chrono::steady_clock::now() - began < std::chrono::nanoseconds(t.ns + 130'000'000)) continue;
        return t;
    };
    time.look(axis);
    const Instant first = time.at(1'000'000'000'000);
    EXPECT_GE(looks, 2);
    looks = 0;
    time.look(axis);
    EXPECT_EQ(time.at(1'000'000'000'000), first);
}

TEST(CounterEvents, UnpluggedAgainAndAgainTheyKeepEveryGapAndNothingElse) {
    Kernel::begin();
    Kernel::firstByItself = true;
    const auto listener = listen();
    test::unplugAgainAndAgain(
        *listener, "stroke", SANITIZED ? 100 : 1000, [] { Kernel::pull(); }, [] { Kernel::openRefusal = 0; });
}

}  // namespace
}  // namespace cruscotto::counter_test
