#pragma once

#include <stop_token>
#include <string>

#include "core/base/result.h"
#include "devices/device.h"
#include "devices/link/capture_playback.h"
#include "devices/link/waker.h"

namespace cruscotto {

struct SerialSettings {
    std::string port;
    unsigned baud = 115200;  ///< any number; the kernel and the hardware come as near as they can
    int dataBits = 8;        ///< 5 to 8
    enum class Parity { none, odd, even } parity = Parity::none;
    int stopBits = 1;  ///< 1 or 2
    /// Bits on the wire for one byte.
    [[nodiscard]] int bitsPerByte() const { return 1 + dataBits + (parity == Parity::none ? 0 : 1) + stopBits; }
    /// Of a saved capture that is replayed: what was received comes when it is asked for again, as it was then, instead
    /// of at its time.
    bool replayAnswers = false;
};

/// An open serial port or pty, raw; or, where the port is a file that ends in .wire, what was saved in it. Confined to
/// one thread.
class SerialPort {
public:
    struct Failure {
        LinkState state;
        Text sentence;
    };
    SerialPort();
    ~SerialPort();
    SerialPort(const SerialPort&) = delete;
    SerialPort& operator=(const SerialPort&) = delete;

    /// Nothing on success.
    std::optional<Failure> open(const SerialSettings& settings);
    void close();
    /// The file that bytes are written to; -1 while none is open.
    [[nodiscard]] int descriptor() const { return fd_; }

    enum class Got { bytes, nothing, lost };
    /// Waits for bytes, at most `wait` or until wake(); appends what is there (at most 64 KiB) to `out`.
    Got read(Duration wait, std::string& out);
    /// Any thread: ends the read() that is going on, or the next one, at once.
    void wake();
    /// Hands the bytes over to the system; false if the port is lost or has taken none of them for a second. What is
    /// replayed takes everything.
    bool write(std::string_view bytes);

private:
    int fd_ = -1;
    Waker waker_;
    std::unique_ptr<CapturePlayback> playback_;
};

}  // namespace cruscotto
