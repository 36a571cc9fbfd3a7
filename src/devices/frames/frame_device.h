#pragma once

#include <map>

#include "devices/device_kind.h"
#include "devices/frames/frame_format.h"
#include "devices/link/byte_link.h"
#include "devices/link/byte_template.h"

namespace cruscotto {

/// The kind "frame-board": a board whose program sends frames of bytes instead of lines of text, over a serial line or
/// TCP. What its frames are is said in words, or found by looking at the wire.
DeviceKind frameBoardKind();

struct FrameBoardSettings {
    LinkAddress address;
    FrameLayout layout;
    std::vector<FrameField> fields;
    std::optional<std::size_t> stamp;  ///< the field that is the board's own time
    double stampSeconds = 0.001;       ///< what it counts
    double silenceSeconds = 3;
    bool silenceIsFault = false;  ///< also of a board that is not asked
    std::string ask;              ///< a byte template that is sent every so often; empty: the board speaks by itself
    double askSeconds = 1;
    Heartbeat heartbeat;
    std::map<std::string, std::string> outputs;  ///< byte templates by terminal
};
Result<FrameBoardSettings> frameBoardSettings(const JsonText& json);

}  // namespace cruscotto
