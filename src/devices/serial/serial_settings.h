#pragma once

#include <map>

#include "devices/device_kind.h"
#include "devices/link/byte_template.h"
#include "devices/link/serial_port.h"
#include "devices/serial/line_format.h"

namespace cruscotto {

/// The kind "serial-line-board": a board on a serial line that prints readings, a line at a time. Each field of its
/// lines is a terminal and an unclocked scan group of its own, so that a field that a line leaves out loses nothing.
DeviceKind serialLineKind();

struct SerialLineSettings {
    SerialSettings line;  ///< baud 0: to be found by listening
    LineFormat format;
    double silenceSeconds = 3;    ///< this long without a byte: silent
    bool silenceIsFault = false;  ///< also of a board that is not asked
    std::string ask;              ///< a byte template that is sent every so often; empty: the board speaks by itself
    double askSeconds = 1;
    Heartbeat heartbeat;
    std::map<std::string, std::string> outputs;  ///< byte templates by terminal
    std::string stamp;                           ///< the field that is the board's own time; empty: none
    int stampBits = 32;                          ///< it begins again from 0 behind so many
    double stampSeconds = 0.001;                 ///< what it counts
};
/// Reads the device's settings as the bench file has them.
Result<SerialLineSettings> serialLineSettings(const JsonText& json);

}  // namespace cruscotto
