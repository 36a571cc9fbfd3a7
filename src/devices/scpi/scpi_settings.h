#pragma once

#include <map>

#include "devices/device_kind.h"
#include "devices/link/byte_link.h"
#include "devices/scpi/scpi_text.h"

namespace cruscotto {

/// The kind "scpi": an instrument that is asked in words, on TCP or a serial line (IEEE 488.2, SCPI-99).
DeviceKind scpiKind();

struct ScpiSettings {
    LinkAddress address;
    std::vector<ScpiQuery> queries;              ///< with their rates
    std::map<std::string, std::string> outputs;  ///< byte templates by terminal
    std::vector<std::string> setup;              ///< sent once, each a message
    /// How an output is told a whole list, and what ends that: messages by terminal.
    std::map<std::string, std::vector<std::string>> lists, listEnds;
    double timeoutSeconds = 2;
    char end = '\n';
};
Result<ScpiSettings> scpiSettings(const JsonText& json);

/// The messages that tell an output a list: in them stand the values, and the seconds that each stays, as the SCPI-99
/// subsystem LIST has them.
std::vector<std::string> listMessages(std::vector<std::string> messages, const PlayedList& list);

}  // namespace cruscotto
