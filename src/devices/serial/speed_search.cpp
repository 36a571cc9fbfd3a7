#include "devices/serial/speed_search.h"

#include <algorithm>
#include <array>
#include <chrono>

namespace cruscotto {

namespace {

/// The most usual first; every usual speed is among them.
constexpr std::array<unsigned, 14> order{115200, 9600,   57600,  38400,  19200, 230400, 1'000'000,
                                         250000, 460800, 500000, 921600, 4800,  2400,   1200};
constexpr double sure = 0.9, likely = 0.6;
/// Many boards start anew when their port is opened, and say nothing for that long. It is opened anew for each speed,
/// but only the first time is a change for them: the port's ready line stays as it is in between.
constexpr std::chrono::milliseconds toStart{2500};

}  // namespace

double textLikeness(const LineFormat& format, std::string_view bytes) {
    if (bytes.size() < 8) return 0;
    std::size_t printable = 0;
    for (const char c : bytes) printable += (c >= 32 && c < 127) || c == '\r' || c == '\n' || c == '\t';
    const double plain = static_cast<double>(printable) / static_cast<double>(bytes.size());
    LineSplitter splitter;
    std::vector<LineSplitter::Line> lines;
    splitter.feed(bytes, lines);
    std::vector<FieldValue> fields;
    // A line of another usual kind is no accident either.
    static const LineFormat numbers;
    static const LineFormat labels = [] {
        LineFormat f;
        f.kind = LineFormat::Kind::labelled;
        return f;
    }();
    const auto fit = std::ranges::count_if(lines, [&](const LineSplitter::Line& line) {
        return parseLine(format, line.text, fields).ok() || parseLine(numbers, line.text, fields).ok() ||
               parseLine(labels, line.text, fields).ok();
    });
    const double fitting = lines.empty() ? 0 : static_cast<double>(fit) / static_cast<double>(lines.size());
    return 0.5 * plain * plain + (lines.empty() ? 0 : 0.2 * plain) + 0.3 * fitting;
}

SpeedFound findSpeed(SerialSettings line, const LineFormat& format, Duration listen, const std::stop_token& stop,
                     const std::function<void(unsigned, std::size_t, std::size_t)>& trying) {
    using Clock = std::chrono::steady_clock;
    SpeedFound out;
    double best = 0;
    for (std::size_t i = 0; i < order.size(); ++i) {
        line.baud = order[i];
        SerialPort port;
        if (auto refused = port.open(line)) {
            if (refused->state == LinkState::failed) continue;  // a port may not have every speed
            out.refused = std::move(refused);
            return out;
        }
        trying(line.baud, i, order.size());
        std::string bytes;
        auto end = Clock::now() + std::chrono::nanoseconds(listen.ns);
        if (i == 0) end += toStart;
        double likeness = 0;
        while (Clock::now() < end && bytes.size() < 4096) {
            if (stop.stop_requested()) {
                out.stopped = true;
                return out;
            }
            const auto got = port.read(milliseconds(50), bytes);
            if (got == SerialPort::Got::lost) {
                out.refused = SerialPort::Failure{
                    LinkState::lost, text(CRUSCOTTO_TEXT("{0} went away while its speed was looked for."), line.port)};
                return out;
            }
            if (got != SerialPort::Got::bytes) continue;
            end = std::min(end, Clock::now() + std::chrono::nanoseconds(listen.ns));
            likeness = textLikeness(format, bytes);
            if (bytes.size() >= 64 && (likeness > sure || likeness < 0.3)) break;
        }
        out.anything |= !bytes.empty();
        if (likeness > std::max(best, likely)) {
            best = likeness;
            out.baud = line.baud;
            out.sample = bytes.substr(0, 400);
            if (likeness > sure) return out;
        }
    }
    return out;
}

}  // namespace cruscotto
