// A serial CAN adapter's lines, in pieces, and bus descriptions.
#include "devices/can/dbc.h"

#include <cstdlib>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    if (size < 1) return 0;
    const std::string_view all(reinterpret_cast<const char*>(data) + 1, size - 1);
    SlcanReader reader;
    std::vector<SlcanReader::Piece> pieces;
    for (std::size_t at = 0, step = 1 + data[0] % 7; at < all.size(); at += step)
        reader.feed(all.substr(at, step), pieces);
    CanFrame full;
    full.length = 64;
    if (const auto dbc = readDbc(all); dbc) {
        for (const DbcMessage& m : dbc.value().messages)
            for (const DbcSignal& s : m.signals) {
                CanFrame f;
                f.length = m.length;
                if (!rawValue(s, f)) std::abort();
                setRawValue(s, -1e9, f);
                if (const auto [first, end] = bytesOfSignal(s); first >= end || end > m.length) std::abort();
            }
        if (!readDbc(writeDbc(dbc.value()))) std::abort();
    }
    for (const auto& piece : pieces)
        if (piece.what == SlcanReader::Piece::What::frame) {
            if (piece.frame.length > 64 || bitsOnBus(piece.frame) < 40) std::abort();
            SlcanReader again;
            std::vector<SlcanReader::Piece> out;
            again.feed(slcanText(piece.frame), out);
            if (out.size() != 1 || out[0].frame != piece.frame) std::abort();
        }
    return 0;
}
