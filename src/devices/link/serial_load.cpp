#include "devices/link/serial_load.h"

#include <algorithm>

namespace cruscotto {

void SerialLoad::add(std::size_t bytes, Instant now) {
    if (!began_) began_ = now;
    // Single bytes that come at once count as one arrival, so that no line fills the memory.
    if (!arrivals_.empty() && now - arrivals_.back().at < milliseconds(10))
        arrivals_.back().bytes += bytes;
    else
        arrivals_.push_back({now, bytes});
    sum_ += bytes;
}

std::optional<double> SerialLoad::share(Instant now) {
    while (!arrivals_.empty() && now - arrivals_.front().at > over) {
        sum_ -= arrivals_.front().bytes;
        arrivals_.pop_front();
    }
    if (!began_ || now - *began_ < milliseconds(1000)) return std::nullopt;
    const Duration seen = std::min(now - *began_, over);
    return static_cast<double>(sum_) / seen.seconds() / bytesPerSecond_;
}

const std::vector<unsigned>& usualSpeeds() {
    static const std::vector<unsigned> speeds{1200,   2400,   4800,   9600,   19200,  38400,  57600,
                                              115200, 230400, 250000, 460800, 500000, 921600, 1'000'000};
    return speeds;
}

Text speedAdvice(unsigned baud, double share) {
    const double used = share * baud;
    const auto& speeds = usualSpeeds();
    const auto enough = std::find_if(speeds.begin(), speeds.end(), [&](unsigned s) { return used <= 0.5 * s; });
    if (share >= 0.7) {
        const bool full = share >= 0.95;
        if (enough == speeds.end())
            return full ? text(CRUSCOTTO_TEXT("The line is full: lines come late, or the board drops some. Let it send "
                                              "less often."))
                        : text(CRUSCOTTO_TEXT("The line is nearly full. Let the board send less often."));
        return full
                   ? text(CRUSCOTTO_TEXT("The line is full: lines come late, or the board drops some. Let it send less "
                                         "often, or set both sides to {0} baud."),
                          *enough)
                   : text(CRUSCOTTO_TEXT("The line is nearly full; {0} baud on both sides would leave room."), *enough);
    }
    if (share > 0 && enough != speeds.end() && *enough < baud)
        return text(CRUSCOTTO_TEXT("{0} baud would be enough for this."), *enough);
    return {};
}

}  // namespace cruscotto
