// What is saved from a wire, cut from it, and sent to it.
#include <string>

#include "devices/can/can_link.h"
#include "devices/link/byte_template.h"
#include "devices/serial/speed_search.h"
#include "devices/wire.h"

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    const std::string_view bytes(reinterpret_cast<const char*>(data), size);
    if (const auto capture = readCapture(bytes)) {
        std::vector<WireMessagePtr> messages;
        for (const WireMessage& m : capture.value()) messages.push_back(std::make_shared<const WireMessage>(m));
        const auto again = readCapture(captureText(messages));
        if (!again || again.value().size() != messages.size()) __builtin_trap();
        for (std::size_t i = 0; i < messages.size(); ++i)
            if (again.value()[i].bytes != messages[i]->bytes) __builtin_trap();
    }
    if (captureOrigin(bytes).kind.size() > size) __builtin_trap();
    if (const auto frame = frameOfWire(bytes); frame && wireBytes(*frame).size() > size) __builtin_trap();
    WireLines lines;
    std::vector<WireLines::Piece> pieces;
    lines.feed(bytes.substr(0, size / 2), {}, 1, pieces);
    lines.feed(bytes.substr(size / 2), {}, 1, pieces);
    lines.pause(pieces);
    std::size_t sum = 0;
    for (const auto& p : pieces) sum += p.bytes.size();
    if (sum != size) __builtin_trap();
    const std::string written(bytes);
    if (checkByteTemplate(written).ok() && bytesFor(written, 12.5).size() > 4096) __builtin_trap();
    const double likeness = textLikeness({}, bytes);
    if (!(likeness >= 0 && likeness <= 1)) __builtin_trap();
    return 0;
}
