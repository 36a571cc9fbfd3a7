#include "devices/gpio/gpio_device.h"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <linux/gpio.h>
#include <sys/eventfd.h>
#include <time.h>
#include <unistd.h>

#include <atomic>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "devices/device_listener.h"

namespace cruscotto::gpio_test {
namespace {

using nlohmann::json;
using test::eventually;

/// A made kernel with one chip of 32 lines: what is asked of it, and edges when a test says so. No chip is on the
/// machines that run this.
struct Kernel {
    static inline std::atomic<bool> there{true};
    static inline std::atomic<int> refusal{0};
    static inline std::atomic<std::uint64_t> inputs{0}, outputs{0};
    static inline std::mutex mutex;
    static inline gpio_v2_line_request asked{};
    static inline int edges = -1;  // where they are written
    static inline std::uint32_t number = 0;

    static void begin() {
        there = true;
        refusal = 0;
        inputs = outputs = 0;
        number = 0;
    }
    static int open(const char*) {
        if (!there) {
            errno = ENOENT;
            return -1;
        }
        return eventfd(0, EFD_CLOEXEC);
    }
    static int control(int, unsigned long request, void* argument) {
        if (!there) {
            errno = ENODEV;
            return -1;
        }
        switch (request) {
            case GPIO_GET_CHIPINFO_IOCTL:
                static_cast<gpiochip_info*>(argument)->lines = 32;
                return 0;
            case GPIO_V2_GET_LINE_IOCTL: {
                if (refusal != 0) {
                    errno = refusal;
                    return -1;
                }
                auto& r = *static_cast<gpio_v2_line_request*>(argument);
                int both[2] = {};
                if (pipe2(both, O_CLOEXEC | O_NONBLOCK) != 0) return -1;
                r.fd = both[0];
                const std::lock_guard lock(mutex);
                if (edges >= 0) close(edges);
                edges = both[1];
                asked = r;
                number = 0;
                return 0;
            }
            case GPIO_V2_LINE_GET_VALUES_IOCTL:
                static_cast<gpio_v2_line_values*>(argument)->bits =
                    inputs & static_cast<gpio_v2_line_values*>(argument)->mask;
                return 0;
            case GPIO_V2_LINE_SET_VALUES_IOCTL: {
                const auto& v = *static_cast<gpio_v2_line_values*>(argument);
                outputs = (outputs & ~v.mask) | (v.bits & v.mask);
                return 0;
            }
            default:
                errno = ENOTTY;
                return -1;
        }
    }
    static void edge(unsigned offset, bool rising, unsigned skip = 0) {
        timespec t{};
        clock_gettime(CLOCK_MONOTONIC, &t);
        gpio_v2_line_event e{};
        e.timestamp_ns = static_cast<std::uint64_t>(t.tv_sec) * 1'000'000'000 + static_cast<std::uint64_t>(t.tv_nsec);
        e.id = rising ? GPIO_V2_LINE_EVENT_RISING_EDGE : GPIO_V2_LINE_EVENT_FALLING_EDGE;
        e.offset = offset;
        const std::lock_guard lock(mutex);
        number += 1 + skip;
        e.seqno = e.line_seqno = number;
        ASSERT_EQ(write(edges, &e, sizeof e), static_cast<ssize_t>(sizeof e));
    }
    static void pull() {
        there = false;
        const std::lock_guard lock(mutex);
        close(edges);
        edges = -1;
    }
};

JsonText settings() {
    return jsonText(
        json{{"chip", "/dev/gpiochip0"},
             {"lines", {{"door", "17 in pull-up active-low debounce 0.005"}, {"float", "4"}, {"lamp", "27 out"}}}});
}
std::unique_ptr<test::DeviceListener> listen() {
    Kernel::begin();
    return std::make_unique<test::DeviceListener>(makeGpio({"device", Pace::realTime, {}, std::make_shared<WireTap>()},
                                                           gpioSettings(settings()).value(),
                                                           {Kernel::open, Kernel::control}));
}

TEST(GpioLine, WordsAreReadOrRefused) {
    const auto line = gpioLine("door", "17 in pull-up active-low debounce 0.005");
    ASSERT_TRUE(line.ok());
    EXPECT_EQ(line.value(), (GpioLine{"door", 17, false, true, GpioLine::Bias::pullUp, false, 0.005}));
    EXPECT_TRUE(gpioLine("lamp", "27 out open-drain").value().openDrain);
    for (const char* wrong :
         {"", "x", "-1", "3 sideways", "3 open-drain", "3 out debounce 1", "3 debounce", "3 debounce 100"})
        EXPECT_FALSE(gpioLine("a", wrong).ok()) << wrong;
    EXPECT_FALSE(gpioSettings(jsonText(json{{"lines", {{"a", "3"}, {"b", "3 out"}}}})).ok()) << "one line, two names";
}

TEST(GpioLine, IsSetUpAsTheBenchSaysElseAsItsWordsSay) {
    const GpioLine door = gpioLine("door", "17 in pull-up active-low debounce 0.005").value();
    EXPECT_EQ(setUp(door, {}), door);
    const GpioLine other = setUp(door, {{"pull", "down"}, {"on-is", "high"}, {"debounce", 20.0}});
    EXPECT_EQ(other, (GpioLine{"door", 17, false, false, GpioLine::Bias::pullDown, false, 0.02}));
    EXPECT_EQ(setUp(door, {{"pull", "none"}}).bias, GpioLine::Bias::none);
    EXPECT_EQ(gpioLineSentence(other).english(),
              "Line 17 as an input that is pulled down; on is high, once it has stood still for 20 ms.");
    const GpioLine lamp = gpioLine("lamp", "27 out").value();
    EXPECT_TRUE(setUp(lamp, {{"drive", "open-drain"}}).openDrain);

    const DeviceKind& kind = *deviceKind("gpio-lines");
    const TerminalRequest request{"door", {}, {{"pull", "sideways"}, {"debounce", 1e9}, {"drive", "both"}}};
    const auto problems = problemsOf(request, kind.setup(settings(), "door", {request}));
    ASSERT_EQ(problems.size(), 3U) << "a choice, a number, and what an input has not";
    EXPECT_EQ(kind.setupSentence(settings(), "lamp", {}).english(), "Line 27 as an output; on is high.");
}

TEST(Gpio, LinesAreAskedForAsTheyAreDescribed) {
    const auto listener = listen();
    ASSERT_TRUE(listener->reaches(LinkState::live)) << listener->status().sentence.english();
    const std::lock_guard lock(Kernel::mutex);
    const gpio_v2_line_request& r = Kernel::asked;
    ASSERT_EQ(r.num_lines, 3U);
    EXPECT_EQ(r.offsets[0], 17U);
    std::uint64_t flags[3] = {r.config.flags, r.config.flags, r.config.flags};
    std::uint32_t debounce[3] = {};
    for (std::uint32_t k = 0; k < r.config.num_attrs; ++k)
        for (unsigned i = 0; i < 3; ++i)
            if (r.config.attrs[k].mask >> i & 1) {
                if (r.config.attrs[k].attr.id == GPIO_V2_LINE_ATTR_ID_FLAGS) flags[i] = r.config.attrs[k].attr.flags;
                if (r.config.attrs[k].attr.id == GPIO_V2_LINE_ATTR_ID_DEBOUNCE)
                    debounce[i] = r.config.attrs[k].attr.debounce_period_us;
            }
    const std::uint64_t both = GPIO_V2_LINE_FLAG_INPUT | GPIO_V2_LINE_FLAG_EDGE_RISING | GPIO_V2_LINE_FLAG_EDGE_FALLING;
    EXPECT_EQ(flags[0], both | GPIO_V2_LINE_FLAG_ACTIVE_LOW | GPIO_V2_LINE_FLAG_BIAS_PULL_UP);
    EXPECT_EQ(flags[1], both);
    EXPECT_EQ(flags[2], static_cast<std::uint64_t>(GPIO_V2_LINE_FLAG_OUTPUT));
    EXPECT_EQ(debounce[0], 5000U);
    EXPECT_EQ(debounce[1] + debounce[2], 0U);
}

TEST(Gpio, EdgesHaveTheKernelsTimeAndLostOnesAreAGap) {
    const auto listener = listen();
    ASSERT_TRUE(eventually([&] { return listener->count("door") > 0; }));
    EXPECT_EQ(listener->latest("door"), 0) << "where it stands is known at once";
    const Instant before = listener->now();
    Kernel::edge(17, true);
    ASSERT_TRUE(eventually([&] { return listener->latest("door") == 1; }));
    const auto samples = listener->samples("door");
    const auto edge = std::ranges::find(samples, 1., &test::DeviceListener::Sample::v);
    EXPECT_NEAR((edge->t - before).seconds(), 0, 0.05);
    Kernel::edge(17, false, 3);
    ASSERT_TRUE(eventually([&] { return listener->gapsOf("door").size() == 1; }));
    EXPECT_TRUE(eventually([&] { return listener->status().rejected == 3; }));
    EXPECT_EQ(listener->gapsOf("door")[0].cause, "3 edges came faster than they were fetched.");
    EXPECT_TRUE(listener->gapsOf("float").empty());
}

TEST(Gpio, OutputsAreSetAndSafeAtTheEnd) {
    const auto listener = listen();
    ASSERT_TRUE(listener->reaches(LinkState::live));
    listener->device().setOutput("lamp", 1);
    EXPECT_TRUE(eventually([&] { return Kernel::outputs == 4U; })) << "the third line of the request";
    listener->device().setOutput("lamp", 0);
    listener->stop();
    EXPECT_EQ(Kernel::outputs, 0U);
}

TEST(Gpio, EveryRefusalHasItsSentence) {
    const auto listener = listen();
    ASSERT_TRUE(listener->reaches(LinkState::live));
    for (const auto& [error, state, words] :
         {std::tuple{EBUSY, LinkState::busy, "in use"}, std::tuple{ENOTTY, LinkState::failed, "5.10"},
          std::tuple{EINVAL, LinkState::failed, "not given"}}) {
        Kernel::refusal = error;
        Kernel::pull();
        Kernel::there = true;
        ASSERT_TRUE(listener->reaches(state));
        EXPECT_NE(listener->status().sentence.english().find(words), std::string::npos)
            << listener->status().sentence.english();
        Kernel::refusal = 0;
        ASSERT_TRUE(listener->reaches(LinkState::live));
    }
    Kernel::pull();
    ASSERT_TRUE(listener->reaches(LinkState::absent));
    EXPECT_NE(listener->status().sentence.english().find("There is no /dev/gpiochip0"), std::string::npos);
}

TEST(Gpio, UnpluggedAgainAndAgainItKeepsEveryGapAndNothingElse) {
    const auto listener = listen();
    test::unplugAgainAndAgain(
        *listener, "float", SANITIZED ? 100 : 1000, [] { Kernel::pull(); }, [] { Kernel::there = true; });
}

}  // namespace
}  // namespace cruscotto::gpio_test
