#pragma once

#include "devices/device_kind.h"
#include "devices/link/byte_link.h"

namespace cruscotto {

/// The kind "firmata": a board with the generic firmware of that protocol (2.3 or later): its pins are the terminals.
DeviceKind firmataKind();

struct FirmataSettings {
    LinkAddress address;
    int samplingMs = 20;
    double registersEvery = 0.1;
    bool resetAtEnd = false;
};
Result<FirmataSettings> firmataSettings(const JsonText& json);
/// Of a digital input.
TerminalSetting pullUpSetting();

}  // namespace cruscotto
