// What puts outputs safe when the program crashes, kept ready for each device.
#include "core/base/crash_send.h"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <pty.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <array>
#include <string>
#include <vector>

namespace cruscotto {
namespace {

/// Two ends of a line; what was written to `far` is read at `near`.
struct Line {
    int near = -1, far = -1;
    Line() {
        std::array<int, 2> ends{};
        EXPECT_EQ(pipe2(ends.data(), O_NONBLOCK | O_CLOEXEC), 0);
        near = ends[0];
        far = ends[1];
    }
    ~Line() {
        ::close(near);
        ::close(far);
    }
    Line(const Line&) = delete;
    Line& operator=(const Line&) = delete;
    [[nodiscard]] std::string heard() const {
        std::string all(1 << 16, '\0');
        const ssize_t n = ::read(near, all.data(), all.size());
        all.resize(n < 0 ? 0 : static_cast<std::size_t>(n));
        return all;
    }
};

TEST(CrashSend, SendsWhatWasArmedLastForEachInOrder) {
    const Line pump, oven;
    CrashSend first, second;
    first.arm(pump.far, {"older"});
    first.arm(pump.far, {"stop", "shut"});
    second.arm(oven.far, {"off"});
    CrashSend::sendAll();
    EXPECT_EQ(pump.heard(), "stopshut");
    EXPECT_EQ(oven.heard(), "off");
    first.disarm();
    CrashSend::sendAll();
    EXPECT_EQ(pump.heard(), "");
    EXPECT_EQ(oven.heard(), "off");
}

TEST(CrashSend, OfOneThatIsGoneNothingIsSent) {
    const Line line;
    {
        CrashSend gone;
        gone.arm(line.far, {"stop"});
    }
    CrashSend::sendAll();
    EXPECT_EQ(line.heard(), "");
}

TEST(CrashSend, WhatDoesNotFitIsLeftOutWhole) {
    const Line line;
    CrashSend send;
    send.arm(line.far, {std::string(4000, 'a'), std::string(90, 'b'), std::string(90, 'c')});
    send.send();
    EXPECT_EQ(line.heard(), std::string(4000, 'a') + std::string(90, 'b'));
    send.arm(line.far, std::vector<std::string>(20, "x"));
    send.send();
    EXPECT_EQ(line.heard(), std::string(16, 'x'));
    send.arm(line.far, {});
    send.send();
    EXPECT_EQ(line.heard(), "");
}

TEST(CrashSend, ALineThatTakesNothingDoesNotHoldTheOthersUp) {
    const Line full, free;
    while (::write(full.far, "x", 1) == 1) {
    }
    CrashSend first, second;
    first.arm(full.far, {"stop"});
    second.arm(free.far, {"off"});
    CrashSend::sendAll();
    EXPECT_EQ(free.heard(), "off");
    EXPECT_EQ(full.heard().find("stop"), std::string::npos);
}

TEST(CrashSend, ARequestToTheKernelIsMadeWithItsBytes) {
    int near = -1, far = -1;
    ASSERT_EQ(openpty(&near, &far, nullptr, nullptr, nullptr), 0);
    const winsize asked{.ws_row = 21, .ws_col = 34, .ws_xpixel = 5, .ws_ypixel = 8};
    CrashSend send;
    send.armRequest(far, TIOCSWINSZ, std::string(reinterpret_cast<const char*>(&asked), sizeof asked));
    winsize is{};
    ASSERT_EQ(ioctl(near, TIOCGWINSZ, &is), 0);
    EXPECT_NE(is.ws_row, 21);
    CrashSend::sendAll();
    ASSERT_EQ(ioctl(near, TIOCGWINSZ, &is), 0);
    EXPECT_EQ(is.ws_row, 21);
    EXPECT_EQ(is.ws_col, 34);
    EXPECT_EQ(is.ws_ypixel, 8);
    ::close(near);
    ::close(far);
}

}  // namespace
}  // namespace cruscotto
