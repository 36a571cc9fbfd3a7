#pragma once

#include <functional>
#include <stop_token>

#include "core/base/time.h"
#include "devices/link/serial_port.h"
#include "devices/serial/line_format.h"

namespace cruscotto {

/// How much like text that somebody sent on purpose these bytes look, 0 to 1; 0 for fewer than eight. A line that fits
/// the format, or is one of numbers or of labels and numbers, counts most, then whole lines, then printable characters.
double textLikeness(const LineFormat& format, std::string_view bytes);

struct SpeedFound {
    std::optional<unsigned> baud;                  ///< empty: none makes sense of what comes, or nothing comes
    bool anything = false;                         ///< bytes came at some speed
    std::string sample;                            ///< some of what came at the speed that was found
    std::optional<SerialPort::Failure> refused{};  ///< the port did not open, or went away
    bool stopped = false;
};

/// Listens at one usual speed after the other, the most usual first, and takes the one at which what arrives makes
/// sense. Reads only: nothing is sent. At most `listen` for a speed, less once it is clear; at the first one longer,
/// until a board that starts anew when its port is opened says something. `trying` is told each speed, how many have
/// been tried, and of how many.
SpeedFound findSpeed(SerialSettings line, const LineFormat& format, Duration listen, const std::stop_token& stop,
                     const std::function<void(unsigned baud, std::size_t tried, std::size_t all)>& trying);

}  // namespace cruscotto
