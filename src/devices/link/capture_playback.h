#pragma once

#include <chrono>
#include <deque>
#include <map>
#include <memory>

#include "devices/wire.h"

namespace cruscotto {

/// What was saved from a wire, received again: with its own timing, over and over with a second between; or, where a
/// device speaks only when it is asked, whenever it is asked the same again. Confined to one thread.
class CapturePlayback {
public:
    /// Refuses what is no capture, is larger than 64 MB, or in which nothing was received.
    static Result<std::unique_ptr<CapturePlayback>> open(const std::string& path, bool answers = false);
    /// Waits until something is due, at most `wait`; appends what is, a message each. False if nothing was.
    bool read(Duration wait, std::vector<std::string>& out);
    /// The same, one behind the other.
    bool read(Duration wait, std::string& out);
    /// A question: what was received behind the next one like it is due as long behind this one as it was then,
    /// whatever else is asked in between. The number of a Modbus TCP transaction, which counts on, is not compared, and
    /// answered with the one that is asked. False if nothing was.
    bool sent(std::string_view bytes);

private:
    using Clock = std::chrono::steady_clock;
    struct Due {
        Clock::time_point at;
        std::string bytes;
    };
    CapturePlayback(std::vector<WireMessage> messages, bool answers);
    void schedule();
    const std::vector<WireMessage> messages_;  // in the order of time
    const bool answers_;
    struct Asked {
        std::vector<std::size_t> at;  // among the messages
        std::size_t next = 0;
    };
    std::map<std::string, Asked, std::less<>> asked_;  // by question
    std::size_t next_ = 0;                             // message to schedule, where nobody asks
    Clock::time_point began_ = Clock::now();
    std::deque<Due> due_;
};

}  // namespace cruscotto
