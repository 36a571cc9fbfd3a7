#pragma once

#include "devices/can/can_frame.h"
#include "devices/link/byte_link.h"

namespace cruscotto {

struct CanLinkSettings {
    /// An interface of the kernel ("can0"), or where an adapter is that speaks the text protocol: a serial port, a
    /// host.
    std::string address;
    unsigned bitRate = 500'000;
    bool listenOnly = false;  ///< an adapter then does not even acknowledge
};
Result<void> checkCanLink(const CanLinkSettings& settings);

/// A way onto a CAN bus. Confined to one thread, but for wake().
class CanLink {
public:
    virtual ~CanLink() = default;
    CanLink() = default;
    CanLink(const CanLink&) = delete;
    CanLink& operator=(const CanLink&) = delete;
    virtual std::optional<ByteLink::Failure> open() = 0;
    virtual void close() = 0;
    struct Heard {
        std::vector<CanFrame> frames;
        /// What was no frame, with the reason.
        std::vector<std::pair<std::string, Text>> strange;
        /// What the bus itself reports, as the controller says it; empty: nothing new.
        Text trouble;
        std::size_t bytes = 0;
    };
    /// False if the link is lost.
    virtual bool read(Duration wait, Heard& out) = 0;
    enum class Wrote {
        all,
        nothing,  ///< the bus is too busy to take it now
        lost
    };
    virtual Wrote write(const CanFrame& frame) = 0;
    /// The file that frames are written to, and the bytes of one, for CrashSend; -1 where there is none.
    [[nodiscard]] virtual int descriptor() const = 0;
    [[nodiscard]] virtual std::string bytesOf(const CanFrame& frame) const = 0;
    virtual void wake() = 0;
    /// As ByteLink's.
    [[nodiscard]] virtual Duration unheard() const { return {}; }
    [[nodiscard]] virtual std::string name() const = 0;
};
/// A frame as the wire view and its captures have it: the identifier, most significant byte first, in 2 bytes, or in 4
/// with the top bit set where it has 29 bits (as in SocketCAN's can_id); the bit below is set in a remote frame; then
/// the data.
std::string wireBytes(const CanFrame& frame);
/// Empty where they are no frame.
std::optional<CanFrame> frameOfWire(std::string_view bytes);

std::unique_ptr<CanLink> makeCanLink(const CanLinkSettings& settings);

}  // namespace cruscotto
