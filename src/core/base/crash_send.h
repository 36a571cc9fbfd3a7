#pragma once

#include <array>
#include <atomic>
#include <chrono>
#include <memory>
#include <string>
#include <vector>

namespace cruscotto {

/// Bytes that put a device's outputs to their safe values, kept ready beside its descriptor, and
/// sent when the program crashes. Confined to one thread, but for sendAll().
class CrashSend {
public:
    CrashSend();
    ~CrashSend();
    CrashSend(const CrashSend&) = delete;
    CrashSend& operator=(const CrashSend&) = delete;

    /// From now on these messages would go to the descriptor, in order, with a pause between two. What does not fit
    /// (more than 16 messages, more than 4096 bytes in all, or more than 64 devices) is left out.
    void arm(int descriptor, const std::vector<std::string>& messages,
             std::chrono::milliseconds pauseBetween = std::chrono::milliseconds(0));
    /// The same for a request to the kernel, as ioctl(2) takes it; `argument` holds its bytes.
    void armRequest(int descriptor, unsigned long request, const std::string& argument);
    /// To be called before the descriptor is closed.
    void disarm();
    /// Sends what this one holds, now. Does nothing where it is not armed.
    void send() const;

    /// Sends what all hold that are armed: each once, waiting at most a second for each. Async-signal-safe; uses no
    /// heap.
    static void sendAll() noexcept;

private:
    struct Prepared {
        int descriptor = -1;
        unsigned long request = 0;  // 0: bytes are written
        int pauseMs = 0;
        std::size_t messages = 0;
        std::array<std::size_t, 16> ends{};  // of each message
        std::array<char, 4096> bytes{};
    };
    static void send(const Prepared& what) noexcept;
    void swapIn(std::unique_ptr<Prepared> next);

    // A crash of another thread may read what is being replaced: that one is kept until the next is replaced.
    std::atomic<const Prepared*> ready_{nullptr};
    std::unique_ptr<Prepared> current_, last_;
};

/// From now on a crash (SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGSYS, SIGTRAP, SIGABRT and with that an uncaught exception)
/// calls CrashSend::sendAll() before it ends the program as it would have. To be called once, early.
void guardCrashes();

/// Room for the handlers of the thread that makes it, where its stack has run out. To stand first in a thread's
/// function.
class CrashStack {
public:
    CrashStack();
    ~CrashStack();
    CrashStack(const CrashStack&) = delete;
    CrashStack& operator=(const CrashStack&) = delete;

private:
    std::unique_ptr<std::array<char, 65536>> room_;
};

}  // namespace cruscotto
