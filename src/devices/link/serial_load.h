#pragma once

#include <deque>
#include <optional>

#include "core/base/time.h"
#include "devices/link/serial_port.h"

namespace cruscotto {

/// How much of what a serial line can carry one way is used. Confined to one thread.
class SerialLoad {
public:
    explicit SerialLoad(const SerialSettings& line)
        : bytesPerSecond_(static_cast<double>(line.baud) / line.bitsPerByte()) {}
    void add(std::size_t bytes, Instant now);
    /// Over the last two seconds, 0 to about 1. Empty until one second has been seen.
    [[nodiscard]] std::optional<double> share(Instant now);

private:
    static constexpr Duration over = milliseconds(2000);
    struct Arrival {
        Instant at;
        std::size_t bytes;
    };
    double bytesPerSecond_;
    std::deque<Arrival> arrivals_;
    std::size_t sum_ = 0;
    std::optional<Instant> began_;
};

/// The usual speeds, slowest first.
const std::vector<unsigned>& usualSpeeds();

/// What a share means for the speed: too slow, nearly full, or which slower one would be enough (half used at most:
/// long cables like it slow). Empty where there is nothing to say.
Text speedAdvice(unsigned baud, double share);

}  // namespace cruscotto
