#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>

#include "devices/device_kind.h"
#include "devices/link/serial_port.h"
#include "devices/settings_reader.h"

namespace cruscotto {

/// A two-way stream of bytes to a device: a serial port or a TCP connection. Confined to one thread, but for wake().
class ByteLink {
public:
    using Failure = SerialPort::Failure;
    using Got = SerialPort::Got;
    virtual ~ByteLink() = default;
    ByteLink() = default;
    ByteLink(const ByteLink&) = delete;
    ByteLink& operator=(const ByteLink&) = delete;
    /// Nothing on success.
    virtual std::optional<Failure> open() = 0;
    virtual void close() = 0;
    /// Waits for bytes, at most `wait` or until wake(); appends what is there to `out`.
    virtual Got read(Duration wait, std::string& out) = 0;
    /// False if the link is lost or has taken nothing for a second.
    virtual bool write(std::string_view bytes) = 0;
    /// Any thread: ends the read() or open() that is going on, or the next read(), at once.
    virtual void wake() = 0;
    /// Behind a loss: for how long the other side had not been heard when it was given up. Zero where the loss was seen
    /// as it happened.
    [[nodiscard]] virtual Duration unheard() const { return {}; }
    /// The file that bytes are written to, for CrashSend; -1 where there is none.
    [[nodiscard]] virtual int descriptor() const = 0;
    /// As a person calls it: "/dev/ttyACM0", "192.0.2.7, port 5025".
    [[nodiscard]] virtual std::string name() const = 0;
};

/// Where a device is: a serial port, or a host and a port.
struct LinkAddress {
    SerialSettings line;  ///< port empty: it is a host
    std::string host;
    std::uint16_t port = 0;
    /// What was saved from a wire: whoever answers knows only what was asked then.
    [[nodiscard]] bool isCapture() const { return line.port.ends_with(".wire"); }
};
/// "/dev/ttyUSB0" (anything with a slash or ending in .wire) is a serial port; "host", "host:502", "[::1]:502" are
/// hosts. `otherwisePort` where none is given; 0: it must be.
Result<LinkAddress> linkAddress(const std::string& text, std::uint16_t otherwisePort);

std::unique_ptr<ByteLink> makeByteLink(const LinkAddress& address);

/// A TCP connection that is given up after so long without an answer.
inline constexpr Duration connectLimit = milliseconds(2000);
/// After so long without an answer the state says that a name is being looked up.
inline constexpr Duration lookUpLimit = milliseconds(2000);

/// What a host that cannot be reached has to be called, by errno.
ByteLink::Failure hostRefused(const std::string& name, int error);

/// The speed and framing of a serial link as the settings "baud", "data-bits", "parity" and "stop-bits" have them;
/// speed and parity stay as they are in `out` where nothing is said.
void readLineSettings(SettingsReader& settings, SerialSettings& out, int leastBaud = 1);
/// Those settings, for a kind's editor.
std::vector<SettingInfo> lineSettingInfos();

}  // namespace cruscotto
