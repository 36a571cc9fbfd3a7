#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "core/base/text.h"

namespace cruscotto {

/// How requests and replies are packed on the link.
enum class ModbusFraming {
    tcp,  ///< MBAP header (Modbus Messaging on TCP/IP Implementation Guide V1.0b, 3.1.3)
    rtu   ///< unit, PDU, CRC-16 (Modbus over Serial Line V1.02, 2.5.1)
};

/// The CRC of the serial line specification, 6.2.2: polynomial 0xA001 reflected, preset 0xFFFF; sent low byte first.
std::uint16_t modbusCrc(std::string_view bytes);

/// A function code and its data; the transaction counts only on TCP.
struct ModbusMessage {
    std::uint16_t transaction = 0;
    std::uint8_t unit = 0;
    std::string pdu;
};
std::string modbusBytes(ModbusFraming framing, const ModbusMessage& message);

/// Cuts replies out of what arrives, in pieces of any size. Holds at most one longest frame. Confined to one thread.
class ModbusReplies {
public:
    explicit ModbusReplies(ModbusFraming framing) : framing_(framing) {}
    struct Piece {
        std::string bytes;
        ModbusMessage message;
        Text problem;  ///< empty: a whole reply
    };
    /// What cannot be a reply to any request is a piece with a problem; on a serial line a reply begins after silence.
    void feed(std::string_view bytes, std::vector<Piece>& out);
    /// Nothing has come for longer than a frame may pause: what is there is no reply.
    void pause(std::vector<Piece>& out);
    void reset() { held_.clear(); }
    /// Something of a reply is there already.
    [[nodiscard]] bool inMiddle() const { return !held_.empty(); }

private:
    void refuse(Text problem, std::vector<Piece>& out);
    const ModbusFraming framing_;
    std::string held_;
};

/// What an exception code means (V1.1b3, 7), and what to do.
Text modbusException(std::uint8_t code);

}  // namespace cruscotto
