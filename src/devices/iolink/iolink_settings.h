#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "devices/device_kind.h"
#include "devices/iolink/iodd.h"

namespace cruscotto {

/// The kind "io-link-master": smart sensors behind a master that is spoken to by JSON over HTTP (IO-Link Community,
/// JSON Integration for IO-Link, V1.0.0), with their descriptions (IODD).
DeviceKind ioLinkKind();

inline constexpr std::size_t mostIoLinkSensors = 128;

/// What the kind "io-link-master" is set to in a bench.
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
struct ShownAs {
    double slope = 1, offset = 0;
    std::string unit = "1";  ///< UCUM
};
/// How a raw value is shown in the chosen system of units.
ShownAs shownAs(const IoddValue& v, IoLinkSettings::Units units);
/// What a value of a sensor is called as a terminal: "level.Temperature".
std::string terminalOf(const IoLinkSettings::Sensor& s, const std::string& name);
/// The terminals that these settings make; none where they do not read.
std::vector<TerminalInfo> ioLinkTerminals(const JsonText& text);

}  // namespace cruscotto
