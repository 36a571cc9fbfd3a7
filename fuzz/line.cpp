// A serial board's lines: settings, a line break, then whatever comes down the wire, in pieces.
#include "devices/serial/line_format.h"
#include "devices/serial/serial_settings.h"

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    const std::string_view all(reinterpret_cast<const char*>(data), size);
    const std::size_t end = std::min(all.find('\n'), all.size());
    const auto settings = serialLineSettings(std::string(all.substr(0, end)));
    if (!settings) return 0;
    LineSplitter splitter;
    std::vector<LineSplitter::Line> lines;
    for (std::size_t at = end, step = 1; at < all.size(); at += step, step = step * 3 % 61) {
        splitter.feed(all.substr(at, step), lines);
        step = std::max<std::size_t>(step, 1);
    }
    std::vector<FieldValue> fields;
    for (const auto& line : lines) {
        if (line.text.size() > LineSplitter::longestLine) std::abort();
        if (const auto fits = parseLine(settings.value().format, line.text, fields); !fits) {
            if (fits.error().english().empty()) std::abort();
            continue;
        }
        for (const FieldValue& f : fields)
            if (f.terminal.empty()) std::abort();
    }
    return 0;
}
