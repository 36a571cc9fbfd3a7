// An instrument's answers, in pieces, and queries as they are typed.
#include "devices/scpi/scpi_text.h"

#include <cmath>
#include <cstdlib>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    if (size < 1) return 0;
    const std::string_view all(reinterpret_cast<const char*>(data) + 1, size - 1);
    if (const auto query = scpiQuery("q", all); query && query.value().terminals().empty()) std::abort();
    ScpiAnswers answers;
    std::vector<ScpiAnswers::Piece> pieces;
    for (std::size_t at = 0, step = 1 + data[0] % 7; at < all.size(); at += step)
        answers.feed(all.substr(at, step), pieces);
    for (const auto& piece : pieces) {
        if (piece.bytes.size() > all.size()) std::abort();
        if (const auto numbers = scpiNumbers(piece.text); numbers)
            for (const ScpiNumber& n : numbers.value())
                if (!std::isfinite(n.value) && n.quality == Quality::good) std::abort();
    }
    return 0;
}
