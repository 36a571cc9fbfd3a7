// Replies on a Modbus link, in pieces; registers as words; and a module's description.
#include "devices/modbus/modbus_frame.h"
#include "devices/modbus/modbus_identity.h"
#include "devices/modbus/rack_module.h"

#include <cstdlib>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    if (size < 1) return 0;
    const std::string_view all(reinterpret_cast<const char*>(data) + 1, size - 1);
    const std::string text(all);
    if (const auto module = readRackModule(text); !module && module.error().english().empty()) std::abort();
    if (const auto point = modbusPoint("p", all); point) {
        const auto registers = modbusRegisters(point.value(), 1e6);
        if (registers.size() != point.value().words()) std::abort();
        (void)modbusValue(point.value(), registers.data());
    }
    ModbusIdentity identity;
    for (std::size_t at = 0, n = 0; at < all.size() && !identity.request().empty(); at += 40) {
        if (++n > 64) std::abort();  // a unit that always has more to say
        identity.take("\x2B\x0E" + text.substr(at, 40));
    }
    (void)identity.name();
    if (identity.parts().size() < identity.slots().size()) std::abort();
    for (const ModbusFraming framing : {ModbusFraming::tcp, ModbusFraming::rtu}) {
        ModbusReplies replies(framing);
        std::vector<ModbusReplies::Piece> pieces;
        for (std::size_t at = 0, step = 1 + data[0] % 7; at < all.size(); at += step)
            replies.feed(all.substr(at, step), pieces);
        replies.pause(pieces);
        std::size_t bytes = 0;
        for (const auto& piece : pieces) {
            bytes += piece.bytes.size();
            if (piece.bytes.size() > 260) std::abort();
        }
        if (bytes != all.size()) std::abort();  // no byte is left out, none is there twice
    }
    return 0;
}
