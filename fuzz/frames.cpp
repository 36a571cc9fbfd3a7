// Frames of bytes: how they are described, cut out of what comes in pieces, read, and guessed.
#include <cstdlib>
#include <string>

#include "devices/frames/frame_format.h"
#include "devices/frames/frame_guess.h"

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    if (size < 2) return 0;
    const std::string all(reinterpret_cast<const char*>(data) + 2, size - 2);
    const std::size_t line = std::min(all.find('\n'), all.size());
    const auto layout = frameLayout(all.substr(0, line));
    if (!layout) return 0;
    if (!(frameLayout(frameLayoutText(layout.value())).value() == layout.value())) std::abort();
    const std::string_view rest = std::string_view(all).substr(std::min(line + 1, all.size()));
    const std::size_t end = std::min(rest.find('\n'), rest.size());
    const auto field = frameField("x", rest.substr(0, end));
    const std::string_view bytes = rest.substr(std::min(end + 1, rest.size()));
    std::vector<FrameCutter::Piece> whole, pieces;
    FrameCutter one(layout.value()), many(layout.value());
    one.feed(bytes, whole);
    for (std::size_t at = 0, step = 1 + data[0] % 7; at < bytes.size(); at += step)
        many.feed(bytes.substr(at, step), pieces);
    std::vector<std::string> frames, inPieces;
    for (auto& p : whole)
        if (p.problem.empty()) frames.push_back(p.bytes);
    for (auto& p : pieces)
        if (p.problem.empty()) inPieces.push_back(p.bytes);
    // Without a description pieces are as they come.
    if (layout.value().described() && frames != inPieces) std::abort();
    for (const std::string& f : frames) {
        if (f.size() < layout.value().shortest() && layout.value().described()) std::abort();
        if (field && field.value().offset + field.value().bytes <= f.size()) (void)field.value().value(f);
    }
    (void)guessFields(layout.value(), frames);
    if (data[1] % 8 == 0) (void)guessLayouts(bytes);
    return 0;
}
