#include "devices/link/waker.h"

#include <poll.h>
#include <sys/eventfd.h>
#include <time.h>
#include <unistd.h>

#include <array>
#include <cstdlib>
#include <limits>

#include "devices/link/poll_time.h"

namespace cruscotto {

Waker::Waker() : wake_(eventfd(0, EFD_CLOEXEC | EFD_NONBLOCK)) {}

Waker::~Waker() {
    ::close(wake_);
}

void Waker::wake() {
    eventfd_write(wake_, 1);
}

bool Waker::waitFor(int fd, Duration most) {
    std::array<pollfd, 2> watched{pollfd{fd, POLLIN, 0}, pollfd{wake_, POLLIN, 0}};
    ::poll(watched.data(), watched.size(), pollTime(most));
    if (watched[1].revents != 0) {
        eventfd_t value = 0;
        eventfd_read(wake_, &value);
    }
    return watched[0].revents != 0;
}

void KernelTime::look(const std::function<Instant()>& now) {
    const auto kernel = [] {
        timespec t{};
        clock_gettime(CLOCK_MONOTONIC, &t);
        return static_cast<std::int64_t>(t.tv_sec) * 1'000'000'000 + t.tv_nsec;
    };
    // Who is held up between the two clocks sees a difference that is none: the quickest of a few looks counts.
    std::int64_t offset = 0, best = std::numeric_limits<std::int64_t>::max();
    for (int i = 0; i < 5 && best > 1'000'000; ++i) {
        const std::int64_t before = kernel();
        const Instant on = now();
        const std::int64_t took = kernel() - before;
        if (took >= best) continue;
        best = took;
        offset = on.ns - before - took / 2;
    }
    if (!offsetNs_ || std::llabs(offset - *offsetNs_) > 50'000'000 + best) offsetNs_ = offset;
}

}  // namespace cruscotto
