// A connection whose other side is there and does not answer any more: a cable pulled behind a switch, as nobody says
// goodbye then. In a network of the test's own, whose loopback is switched off.
#include <net/if.h>
#include <sched.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <unistd.h>

#include <functional>
#include <nlohmann/json.hpp>
#include <thread>

#include "core/base/json_text.h"
#include "devices/device_listener.h"
#include "standins/frameboard/weather_board.h"
#include "standins/rack/cold_store_rack.h"

namespace cruscotto::half_open_test {
namespace {

using nlohmann::json;
using test::eventually;

bool switchLoopback(bool on) {
    const int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    ifreq request{};
    std::string("lo").copy(request.ifr_name, IFNAMSIZ - 1);
    bool ok = fd >= 0 && ioctl(fd, SIOCGIFFLAGS, &request) == 0;
    request.ifr_flags = static_cast<short>(on ? request.ifr_flags | IFF_UP : request.ifr_flags & ~IFF_UP);
    ok = ok && ioctl(fd, SIOCSIFFLAGS, &request) == 0;
    if (fd >= 0) close(fd);
    return ok;
}

/// On a thread in a network of its own; threads that are begun there are in it too. False where the system lets nobody
/// make one.
bool inANetworkOfItsOwn(const std::function<void()>& inside) {
    bool made = false;
    std::thread([&] {
        made = unshare(CLONE_NEWNET) == 0 && switchLoopback(true);
        if (made) inside();
    }).join();
    return made;
}

void pulledAndBack(test::DeviceListener& listener, const std::string& terminal) {
    ASSERT_TRUE(eventually([&] { return listener.count(terminal) > 5; })) << listener.status().sentence.english();
    ASSERT_TRUE(switchLoopback(false));
    ASSERT_TRUE(eventually([&] { return listener.status().state != LinkState::live; }));
    const auto gone = listener.now();
    // First it is silent, as far as anybody can tell; what is sent meanwhile would still arrive. Then it is given up.
    EXPECT_TRUE(eventually([&] {
        const LinkState s = listener.status().state;
        return s == LinkState::lost || s == LinkState::absent;
    })) << listener.status().sentence.english();
    const std::size_t before = listener.count(terminal);
    const auto back = listener.now();
    ASSERT_TRUE(switchLoopback(true));
    ASSERT_TRUE(eventually([&] { return listener.count(terminal) > before + 5; }))
        << listener.status().sentence.english();
    ASSERT_TRUE(listener.reaches(LinkState::live));
    listener.stop();
    auto gaps = listener.gapsOf(terminal);
    // A computer that stands still for a while makes gaps of its own, before it was pulled or behind.
    std::erase_if(gaps, [&](const Gap& g) { return g.to <= gone || g.from >= back; });
    ASSERT_EQ(gaps.size(), 1U);
    EXPECT_LT(gaps[0].from, gone) << "it begins with the last sample, not when the silence was noticed";
    EXPECT_EQ(listener.outOfStep(), 0);
}

TEST(HalfOpen, ARackIsNoticedAndComesBackWithOneGap) {
    if (!inANetworkOfItsOwn([] {
            ColdStoreRack rack;
            const auto host = std::move(StandInHost::onLoopback(rack.onTcp()).value());
            test::DeviceListener listener(
                "modbus",
                jsonText(json{{"address", host->address()}, {"every-s", 0.02}, {"points", {{"a", "input 0 i16"}}}}));
            pulledAndBack(listener, "a");
        }))
        GTEST_SKIP() << "No network of its own can be made here.";
}

TEST(HalfOpen, ABoardThatOnlySendsIsNoticedAndComesBackWithOneGap) {
    if (!inANetworkOfItsOwn([] {
            WeatherBoard roof({});
            const auto host = std::move(StandInHost::onLoopback(roof.begin()).value());
            test::DeviceListener listener("frame-board",
                                          jsonText(json{{"address", host->address()},
                                                        {"frame", "begin a53c length 18 check crc16-modbus"},
                                                        {"fields", {{"byte", "4 u8"}}}}));
            pulledAndBack(listener, "byte");
        }))
        GTEST_SKIP() << "No network of its own can be made here.";
}

}  // namespace
}  // namespace cruscotto::half_open_test
