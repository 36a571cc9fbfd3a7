#pragma once

#include "core/time.h"

namespace cruscotto {

/// Waits for a file of the kernel's to have something, until somebody wakes it.
class Waker {
public:
    Waker();
    ~Waker();
    Waker(const Waker&) = delete;
    Waker& operator=(const Waker&) = delete;
    /// Any thread: ends the wait that is going on, or the next one, at once.
    void wake();
    /// True if there is something to read, or the file is no longer of use (which reading tells).
    [[nodiscard]] bool waitFor(int fd, Duration most);

private:
    const int wake_;  // an eventfd
};

/// The clock with which the kernel stamps events, now (CLOCK_MONOTONIC, in nanoseconds).
[[nodiscard]] std::int64_t kernelClockNs();

}  // namespace cruscotto
