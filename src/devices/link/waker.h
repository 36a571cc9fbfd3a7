#pragma once

#include <poll.h>

#include <functional>
#include <optional>
#include <span>

#include "core/base/time.h"

namespace cruscotto {

/// Waits for files of the kernel's to have something, until somebody wakes it.
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
    /// Fills in what poll() says of each; nothing where somebody woke it, time was up, or a signal came. Precondition:
    /// 8 files at most.
    void wait(std::span<pollfd> files, Duration most);

private:
    const int wake_;  // an eventfd
};

/// Puts the kernel's stamps of events (CLOCK_MONOTONIC, which stands still while the computer sleeps) on the bench's
/// axis.
class KernelTime {
public:
    /// Where both clocks stand now; a difference that has not changed but for how long looking takes is kept.
    void look(const std::function<Instant()>& now);
    /// Precondition: look() was called.
    [[nodiscard]] Instant at(std::int64_t stampNs) const { return {stampNs + *offsetNs_}; }

private:
    std::optional<std::int64_t> offsetNs_;
};

}  // namespace cruscotto
