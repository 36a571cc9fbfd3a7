#include "core/base/crash_send.h"

#include <poll.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <csignal>
#include <cstring>

namespace cruscotto {

namespace {

constexpr int mostWaitMs = 1000;

/// Who could send something. A place is taken by exchanging its null pointer.
std::array<std::atomic<const CrashSend*>, 64> everyone{};
std::atomic<bool> begun{false};

constexpr std::array crashSignals{SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGSYS, SIGTRAP, SIGABRT};
/// What was done about them before, by whom there is one: a sanitizer, which has more to say.
std::array<struct sigaction, crashSignals.size()> earlierActions{};

extern "C" void crashed(int number) {
    // A crash in here, or of a second thread meanwhile, must not begin anew.
    if (!begun.exchange(true)) CrashSend::sendAll();
    for (std::size_t i = 0; i < crashSignals.size(); ++i) sigaction(crashSignals[i], &earlierActions[i], nullptr);
    // What made the signal is done again behind this handler; a signal that was sent is sent again.
    raise(number);
}

}  // namespace

CrashSend::CrashSend() {
    for (auto& place : everyone) {
        const CrashSend* nobody = nullptr;
        if (place.compare_exchange_strong(nobody, this)) return;
    }
}

CrashSend::~CrashSend() {
    disarm();
    for (auto& place : everyone) {
        const CrashSend* self = this;
        if (place.compare_exchange_strong(self, nullptr)) return;
    }
}

void CrashSend::swapIn(std::unique_ptr<Prepared> next) {
    ready_.store(next.get(), std::memory_order_release);
    last_ = std::move(current_);
    current_ = std::move(next);
}

void CrashSend::arm(int descriptor, const std::vector<std::string>& messages, std::chrono::milliseconds pauseBetween) {
    auto next = std::make_unique<Prepared>();
    next->descriptor = descriptor;
    next->pauseMs = static_cast<int>(pauseBetween.count());
    std::size_t at = 0;
    for (const std::string& m : messages) {
        if (next->messages == next->ends.size() || at + m.size() > next->bytes.size()) break;
        std::ranges::copy(m, next->bytes.begin() + static_cast<std::ptrdiff_t>(at));
        at += m.size();
        next->ends[next->messages++] = at;
    }
    if (descriptor < 0 || next->messages == 0) return disarm();
    swapIn(std::move(next));
}

void CrashSend::armRequest(int descriptor, unsigned long request, const std::string& argument) {
    auto next = std::make_unique<Prepared>();
    if (descriptor < 0 || argument.size() > next->bytes.size()) return disarm();
    next->descriptor = descriptor;
    next->request = request;
    std::ranges::copy(argument, next->bytes.begin());
    swapIn(std::move(next));
}

void CrashSend::disarm() {
    swapIn(nullptr);
}

void CrashSend::send() const {
    if (const Prepared* what = ready_.load(std::memory_order_acquire)) send(*what);
}

void CrashSend::send(const Prepared& what) noexcept {
    if (what.request != 0) {
        std::array<char, 4096> argument = what.bytes;  // the kernel may write into it
        (void)ioctl(what.descriptor, what.request, argument.data());
        return;
    }
    int waited = 0;
    std::size_t at = 0;
    for (std::size_t m = 0; m < what.messages; ++m) {
        if (m > 0 && what.pauseMs > 0) (void)poll(nullptr, 0, what.pauseMs);
        while (at < what.ends[m]) {
            const ssize_t n = ::write(what.descriptor, what.bytes.data() + at, what.ends[m] - at);
            if (n > 0) {
                at += static_cast<std::size_t>(n);
            } else if (n < 0 && errno == EINTR) {
                continue;
            } else if (n < 0 && errno == EAGAIN && waited < mostWaitMs) {
                constexpr int step = 20;
                pollfd room{what.descriptor, POLLOUT, 0};
                (void)poll(&room, 1, step);
                waited += step;
            } else {
                return;
            }
        }
    }
}

void CrashSend::sendAll() noexcept {
    for (const auto& place : everyone)
        if (const CrashSend* one = place.load(std::memory_order_acquire)) one->send();
}

void guardCrashes() {
    static CrashStack ofTheMainThread;
    struct sigaction action {};
    action.sa_handler = crashed;
    action.sa_flags = SA_ONSTACK;
    sigfillset(&action.sa_mask);
    for (const int number : crashSignals) sigdelset(&action.sa_mask, number);
    for (std::size_t i = 0; i < crashSignals.size(); ++i) sigaction(crashSignals[i], &action, &earlierActions[i]);
}

CrashStack::CrashStack() : room_(std::make_unique<std::array<char, 65536>>()) {
    stack_t stack{};
    stack.ss_sp = room_->data();
    stack.ss_size = room_->size();
    sigaltstack(&stack, nullptr);
}

CrashStack::~CrashStack() {
    stack_t none{};
    none.ss_flags = SS_DISABLE;
    sigaltstack(&none, nullptr);
}

}  // namespace cruscotto
