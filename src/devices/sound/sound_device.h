#pragma once

#include "devices/device_kind.h"
#include "devices/link/byte_link.h"

namespace cruscotto {

/// The kind "sound-input": a microphone or line input as one or two fast channels. They are coupled by a capacitor:
/// alternating voltages only. The nominal rate is checked against the computer's clock.
DeviceKind soundKind();

struct SoundSettings {
    std::string input = "default";      ///< ALSA's name
    std::optional<LinkAddress> stream;  ///< instead of it
    double rate = 48000;
    std::size_t channels = 2;
    int bits = 16;
};
Result<SoundSettings> soundSettings(const JsonText& json);

}  // namespace cruscotto
