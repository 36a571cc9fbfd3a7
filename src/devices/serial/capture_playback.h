#pragma once

#include <chrono>
#include <memory>

#include "devices/wire.h"

namespace cruscotto {

/// What was saved from a wire, received again with its own timing, over and over with a second between. Confined to
/// one thread.
class CapturePlayback {
public:
    /// Refuses what is no capture, is larger than 64 MB, or in which nothing was received.
    static Result<std::unique_ptr<CapturePlayback>> open(const std::string& path);
    /// Waits until something is due, at most `wait`; appends what is.
    bool read(Duration wait, std::string& out);

private:
    using Clock = std::chrono::steady_clock;
    explicit CapturePlayback(std::vector<WireMessage> received);
    [[nodiscard]] Clock::time_point due() const;
    const std::vector<WireMessage> received_;  // in the order of time
    Clock::time_point began_ = Clock::now();
    std::size_t next_ = 0;
};

}  // namespace cruscotto
