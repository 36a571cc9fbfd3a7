#include "devices/link/poll_time.h"

#include <fcntl.h>
#include <unistd.h>

#include <array>

#include "devices/link/byte_link.h"
#include "devices/link/waker.h"
#include "support.h"

namespace cruscotto {
namespace {

TEST(PollTime, IsRoundedUp) {
    EXPECT_EQ(pollTime(milliseconds(5)), 5);
    EXPECT_EQ(pollTime(nanoseconds(1)), 1);
    EXPECT_EQ(pollTime(nanoseconds(1'000'001)), 2);
}

TEST(PollTime, OfWhatIsPastIsNoneAndNotForEver) {
    EXPECT_EQ(pollTime(Duration{}), 0);
    EXPECT_EQ(pollTime(nanoseconds(-1)), 0);
    EXPECT_EQ(pollTime(milliseconds(-5)), 0);
    EXPECT_EQ(pollTime(Duration{std::numeric_limits<std::int64_t>::min()}), 0);
}

TEST(PollTime, EndsSometime) {
    EXPECT_EQ(pollTime(Duration{std::numeric_limits<std::int64_t>::max()}), 3'600'000);
}

/// A driver that was held up asks for a wait until a moment that is past. True if it was not let go.
bool hangs(const std::function<void()>& wait, const std::function<void()>& wake) {
    std::atomic<bool> over = false;
    std::jthread waiting([&] {
        wait();
        over = true;
    });
    const bool hung = !test::eventually([&] { return over.load(); }, std::chrono::seconds(5));
    wake();
    return hung;
}

TEST(PollTime, AWaitUntilAMomentThatIsPastEndsAtOnce) {
    Waker waker;
    EXPECT_FALSE(hangs([&] { (void)waker.waitFor(-1, milliseconds(-5)); }, [&] { waker.wake(); }));

    test::TempFolder folder;
    const int port = posix_openpt(O_RDWR | O_NOCTTY);
    ASSERT_GE(port, 0);
    grantpt(port);
    unlockpt(port);
    LinkAddress address;
    address.line.port = ptsname(port);
    const auto link = makeByteLink(address);
    ASSERT_FALSE(link->open());
    std::string bytes;
    EXPECT_FALSE(hangs([&] { (void)link->read(milliseconds(-5), bytes); }, [&] { link->wake(); }));
    link->close();
    close(port);
}

TEST(Waker, TellsOfEachFileWhatItHasAndOfNoneWhenItIsWoken) {
    std::array<int, 2> empty{}, full{};
    ASSERT_EQ(pipe(empty.data()), 0);
    ASSERT_EQ(pipe(full.data()), 0);
    ASSERT_EQ(write(full[1], "x", 1), 1);
    Waker waker;
    std::array<pollfd, 2> files{pollfd{empty[0], POLLIN, 0}, pollfd{full[0], POLLIN, 0}};
    waker.wait(files, seconds(60));
    EXPECT_EQ(files[0].revents, 0);
    EXPECT_EQ(files[1].revents, POLLIN);
    // Woken before it waits, as while it does; once.
    waker.wake();
    waker.wait({files.data(), 1}, seconds(60));
    EXPECT_EQ(files[0].revents, 0);
    std::jthread other([&] { waker.wake(); });
    EXPECT_FALSE(waker.waitFor(empty[0], seconds(60)));
    EXPECT_FALSE(waker.waitFor(empty[0], milliseconds(1))) << "nothing is left of it";
    for (const int fd : {empty[0], empty[1], full[0], full[1]}) close(fd);
}

}  // namespace
}  // namespace cruscotto
