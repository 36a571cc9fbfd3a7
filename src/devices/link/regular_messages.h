#pragma once

#include "devices/link/byte_template.h"
#include "devices/link/periodic_timer.h"

namespace cruscotto {

/// What a driver sends to its board periodically: the question of a board that must be asked, and the sign of life.
/// Confined to one thread.
class RegularMessages {
public:
    /// Byte templates that have been checked; empty: nothing is sent.
    RegularMessages(const std::string& ask, double askSeconds, Heartbeat heartbeat)
        : question_(bytesFor(ask, 0)),
          heartbeat_(std::move(heartbeat)),
          askTimer_(askSeconds),
          beatTimer_(heartbeat_.everySeconds) {}
    /// The link has been opened.
    void begin() {
        askTimer_.begin();
        beatTimer_.begin();
    }
    /// The messages that are due, in order. `wait` is shortened to the time until the next one, 1 ms at least.
    /// `alive`: the sign of life may be sent.
    [[nodiscard]] std::vector<std::string> due(Instant now, bool alive, Duration& wait) {
        std::vector<std::string> out;
        const auto shorten = [&](const PeriodicTimer& timer) {
            wait = std::clamp(timer.left(now), milliseconds(1), std::max(wait, milliseconds(1)));
        };
        if (!question_.empty()) {
            if (askTimer_.due(now)) out.push_back(question_);
            shorten(askTimer_);
        }
        if (!heartbeat_.bytes.empty() && alive) {
            if (beatTimer_.due(now)) out.push_back(bytesFor(heartbeat_.bytes, beats_++));
            shorten(beatTimer_);
        }
        return out;
    }

private:
    const std::string question_;
    const Heartbeat heartbeat_;
    PeriodicTimer askTimer_, beatTimer_;
    std::uint8_t beats_ = 0;
};

}  // namespace cruscotto
