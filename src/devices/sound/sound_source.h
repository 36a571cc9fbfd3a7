#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "devices/link/byte_link.h"

namespace cruscotto {

/// Where a sound input's samples come from: this computer (ALSA), or a stream of 16-bit samples over TCP. Confined to
/// one thread, but for wake().
class SoundSource {
public:
    struct Format {
        double rate = 48000;  ///< frames a second, nominal
        std::size_t channels = 2;
        int bits = 16;  ///< 16 or 32
    };
    enum class Got { frames, nothing, overrun, lost };
    virtual ~SoundSource() = default;
    SoundSource() = default;
    SoundSource(const SoundSource&) = delete;
    SoundSource& operator=(const SoundSource&) = delete;
    /// Takes what was asked for as near as it can, and says in `format` what that is. Nothing on success.
    virtual std::optional<ByteLink::Failure> open(Format& format) = 0;
    virtual void close() = 0;
    /// Waits for frames, at most `wait` or until wake(); appends what is there, a value a channel, frame after frame.
    /// After `overrun` frames are missing before the next ones.
    virtual Got read(Duration wait, std::vector<std::int32_t>& out) = 0;
    virtual void wake() = 0;
};

/// A capture device of ALSA, as "default" or "hw:1,0".
std::unique_ptr<SoundSource> makeAlsaSource(const std::string& name);
/// Signed 16-bit samples, the lower byte first, frame after frame.
std::unique_ptr<SoundSource> makeStreamSource(const LinkAddress& address);

}  // namespace cruscotto
