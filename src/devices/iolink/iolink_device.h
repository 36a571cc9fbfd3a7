#pragma once

#include <map>

#include "devices/device.h"
#include "devices/iolink/iodd.h"

namespace cruscotto {

/// The kind "io-link-master": smart sensors behind a master that is spoken to by JSON over HTTP (IO-Link Community,
/// JSON Integration for IO-Link, V1.0.0), with their descriptions (IODD).
DeviceKind ioLinkKind();

struct IoLinkSettings {
    enum class Units { asDescribed, metric, unitedStates };
    struct Sensor {
        std::string alias;  ///< as the master calls it
        std::string path;   ///< of its description; empty: its process data stays bytes
        Iodd iodd;
    };
    std::string host;
    std::uint16_t port = 80;
    std::string capture;  ///< what is replayed instead; empty: nothing
    std::vector<Sensor> sensors;
    double everySeconds = 0.5;
    double timeoutSeconds = 2;
    Units units = Units::asDescribed;
    std::map<std::string, std::string> wanted;  ///< parameters, "alias/name"
};
Result<IoLinkSettings> ioLinkSettings(const JsonText& json);

/// The same quantity in the other system's unit, as "Cel" in "[degF]"; the unit itself where it has none there.
std::string unitIn(IoLinkSettings::Units system, const std::string& ucum);

}  // namespace cruscotto
