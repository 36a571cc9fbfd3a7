#pragma once

#include <optional>

#include "devices/can/can_link.h"
#include "devices/can/dbc.h"
#include "devices/device_kind.h"

namespace cruscotto {

/// The kind "can": signals on a CAN bus, as a DBC file describes them; messages sent; and the bench's own readings
/// published.
DeviceKind canKind();

struct CanSettings {
    CanLinkSettings link;
    Dbc dbc;
    struct Send {
        std::size_t message = 0;  ///< of the DBC
        double everySeconds = 0;  ///< 0: when a value changes
    };
    std::vector<Send> sends;
    std::vector<std::string> publish;  ///< ids of the bench's signals
    std::uint32_t publishId = 0x6A0;   ///< of the first message; the others follow
    double publishSeconds = 0.1;
    std::optional<CanFrame> heartbeat;  ///< sent again and again as a sign of life
    double heartbeatSeconds = 0.5;
    bool silenceIsFault = false;  ///< outputs are put to their safe values when no frame comes any more
};
Result<CanSettings> canSettings(const JsonText& json);

/// How the bench's readings lie in the messages that are published: two of 32 bits a message, in the order of the list.
Dbc publishedDbc(const Bench& bench, const DeviceSpec& device);

/// The messages of such a list, their units in the same order where they are known.
Dbc laidOut(const std::vector<std::string>& names, const std::vector<std::string>& units, std::uint32_t firstId,
            double everySeconds);
/// What a terminal is called: "Motor.speed"; and what it is of a reading that is published.
std::string terminalOf(const DbcMessage& m, const DbcSignal& s);
inline constexpr const char* publishPrefix = "publish ";

}  // namespace cruscotto
