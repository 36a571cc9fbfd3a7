#include "devices/link/waker.h"

#include <sys/eventfd.h>
#include <time.h>
#include <unistd.h>

#include <algorithm>
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
    pollfd file{fd, POLLIN, 0};
    wait({&file, 1}, most);
    return file.revents != 0;
}

void Waker::wait(std::span<pollfd> files, Duration most) {
    std::array<pollfd, 9> watched{};
    watched[0] = {wake_, POLLIN, 0};
    std::ranges::copy(files, watched.begin() + 1);
    const bool some = ::poll(watched.data(), static_cast<nfds_t>(files.size()) + 1, pollTime(most)) > 0;
    for (std::size_t i = 0; i < files.size(); ++i) files[i].revents = some ? watched[i + 1].revents : short{0};
    eventfd_t value = 0;
    if (some && watched[0].revents != 0) eventfd_read(wake_, &value);
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
