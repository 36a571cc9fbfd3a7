// A board's messages, in pieces, what it says of its pins, and terminals' names.
#include "devices/firmata/firmata_text.h"

#include <cstdlib>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    if (size < 1) return 0;
    const std::string_view all(reinterpret_cast<const char*>(data) + 1, size - 1);
    (void)firmata::terminal(std::string(all.substr(0, 100)));
    firmata::Reader reader;
    std::vector<firmata::Message> messages;
    for (std::size_t at = 0, step = 1 + data[0] % 7; at < all.size(); at += step)
        reader.feed(all.substr(at, step), messages);
    std::size_t bytes = 0;
    for (const auto& m : messages) {
        bytes += m.bytes.size();
        if (m.value < 0 || m.value > 16383 || m.bytes.size() > 4096) std::abort();
        if (m.what == firmata::Message::What::sysex && firmata::capabilities(m.data).size() > 128) std::abort();
        (void)firmata::fromPairs(m.data);
    }
    if (bytes > all.size()) std::abort();
    return 0;
}
