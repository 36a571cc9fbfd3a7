#include "devices/wire.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <fstream>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "core/base/parsed.h"

namespace cruscotto {

namespace {

constexpr std::string_view captureHead = "# wire capture 1", originMark = "# from ";

std::optional<std::string> bytesFromHex(std::string_view hex) {
    std::string out;
    for (std::size_t i = 0; i < hex.size();) {
        if (hex[i] == ' ') {
            ++i;
            continue;
        }
        if (i + 2 > hex.size()) return std::nullopt;
        unsigned value = 0;
        if (!parsed(hex.substr(i, 2), value, 16)) return std::nullopt;
        out += static_cast<char>(value);
        i += 2;
    }
    return out;
}

}  // namespace

void WireTap::close() {
    if (--viewers_ > 0) return;
    const Lock lock(mutex_);
    held_.clear();
    heldBytes_ = 0;
}

void WireTap::add(WireMessage message) {
    if (!isOpen()) return;
    const Lock lock(mutex_);
    if (!isOpen()) return;  // closed since: what was held is gone, and stays so
    message.number = next_++;
    heldBytes_ += message.bytes.size();
    held_.push_back(std::make_shared<const WireMessage>(std::move(message)));
    while (held_.size() > mostMessages || (heldBytes_ > mostBytes && held_.size() > 1)) {
        heldBytes_ -= held_.front()->bytes.size();
        held_.pop_front();
    }
}

std::vector<WireMessagePtr> WireTap::since(std::uint64_t number, std::size_t most) const {
    const Lock lock(mutex_);
    if (held_.empty()) return {};
    const std::uint64_t first = held_.front()->number;
    std::size_t skip =
        number > first ? static_cast<std::size_t>(std::min<std::uint64_t>(number - first, held_.size())) : 0;
    if (held_.size() - skip > most) skip = held_.size() - most;
    return {held_.begin() + static_cast<std::ptrdiff_t>(skip), held_.end()};
}

void WireLines::cut(bool whole, std::vector<Piece>& out) {
    if (!partial_.empty()) out.push_back({began_, std::exchange(partial_, {}), whole && behindEnd_});
    behindEnd_ = whole;
}

void WireLines::feed(std::string_view bytes, Instant now, double byteNs, std::vector<Piece>& out) {
    for (std::size_t i = 0; i < bytes.size(); ++i) {
        const char c = bytes[i];
        const bool secondHalf = ended_ && c == '\n';
        if (ended_ && !secondHalf) cut(true, out);
        if (partial_.empty())
            began_ = {now.ns - static_cast<std::int64_t>(byteNs * static_cast<double>(bytes.size() - i))};
        partial_ += c;
        ended_ = c == '\r';
        if (c == '\n')
            cut(true, out);
        else if (partial_.size() >= longest && !ended_)
            cut(false, out);
    }
}

void WireLines::pause(std::vector<Piece>& out) {
    if (!partial_.empty()) cut(std::exchange(ended_, false), out);
}

void WireLines::reset() {
    partial_.clear();
    behindEnd_ = ended_ = false;
}

std::string hexBytes(std::string_view bytes) {
    std::string out;
    out.reserve(bytes.size() * 3);
    for (const char c : bytes) {
        constexpr std::string_view figures = "0123456789abcdef";
        if (!out.empty()) out += ' ';
        out += figures[static_cast<unsigned char>(c) >> 4];
        out += figures[static_cast<unsigned char>(c) & 15];
    }
    return out;
}

std::string printableBytes(std::string_view bytes) {
    std::string out;
    for (const char c : bytes) {
        if (c >= 32 && c < 127)
            out += c;
        else
            out += "\u00b7";
    }
    return out;
}

std::string captureText(const std::vector<WireMessagePtr>& messages, const CaptureOrigin& origin) {
    std::string out(captureHead);
    out += '\n';
    // A comment to whoever only reads the bytes.
    if (!origin.kind.empty())
        out += std::string(originMark) + origin.kind + " " +
               jsonText(parseJson(origin.settings.empty() ? "{}" : origin.settings)) + "\n";
    for (const WireMessagePtr& m : messages) out += captureLine(*m);
    return out;
}

std::string captureLine(const WireMessage& message) {
    return fmt::format("{:.6f} {} {}\n", message.at.seconds(), message.way == WireMessage::Way::sent ? '>' : '<',
                       hexBytes(message.bytes));
}

CaptureOrigin captureOrigin(std::string_view text) {
    const std::size_t first = text.find('\n');
    if (first == std::string_view::npos) return {};
    std::string_view line = text.substr(first + 1, text.find('\n', first + 1) - first - 1);
    if (line.ends_with('\r')) line.remove_suffix(1);
    if (!line.starts_with(originMark)) return {};
    line.remove_prefix(originMark.size());
    const std::size_t blank = std::min(line.find(' '), line.size());
    return {std::string(line.substr(0, blank)), std::string(line.substr(std::min(blank + 1, line.size())))};
}

namespace {
std::string headOf(const std::string& path) {
    std::ifstream file(path, std::ios::binary);
    std::string head(65536, '\0');
    file.read(head.data(), static_cast<std::streamsize>(head.size()));
    head.resize(static_cast<std::size_t>(std::max<std::streamsize>(file.gcount(), 0)));
    return head;
}
}  // namespace

CaptureOrigin originOfCapture(const std::string& path) {
    return captureOrigin(headOf(path));
}

Result<CaptureOrigin> captureReplay(const std::string& path) {
    const std::string head = headOf(path);
    if (head.empty()) return failure("There is nothing to read in {0}.", path);
    CaptureOrigin out = captureOrigin(head);
    if (out.kind.empty()) out.kind = "serial-line-board";
    // A file does not choose what is opened: only what receives from the file itself is made of it.
    static constexpr std::array kinds{"serial-line-board", "frame-board", "firmata", "modbus", "scpi", "can",
                                      "io-link-master"};
    if (std::ranges::find(kinds, out.kind) == kinds.end())
        return failure("{0} says that it is of a device of the kind \"{1}\", which receives no captures.", path,
                       out.kind.substr(0, 100));
    auto settings = parseOrderedJson(out.settings);
    if (!settings.is_object()) settings = nlohmann::ordered_json::object();
    settings[out.kind == "serial-line-board" ? "port" : "address"] = path;
    out.settings = jsonText(settings);
    return out;
}

Result<std::vector<WireMessage>> readCapture(std::string_view text) {
    std::vector<WireMessage> out;
    std::size_t number = 0;
    while (!text.empty()) {
        const std::size_t end = std::min(text.find('\n'), text.size());
        std::string_view line = text.substr(0, end);
        text.remove_prefix(std::min(end + 1, text.size()));
        if (line.ends_with('\r')) line.remove_suffix(1);
        if (++number == 1) {
            if (line != captureHead)
                return failure("This is no wire capture: its first line is not \"{0}\".", captureHead);
            continue;
        }
        if (line.empty() || line.front() == '#') continue;
        double at = 0;
        const auto [p, error] = std::from_chars(line.data(), line.data() + line.size(), at);
        std::string_view rest = line.substr(static_cast<std::size_t>(p - line.data()));
        std::optional<std::string> bytes;
        if (rest.size() >= 3 && rest[0] == ' ' && (rest[1] == '<' || rest[1] == '>') && rest[2] == ' ')
            bytes = bytesFromHex(rest.substr(3));
        if (error != std::errc() || !(std::abs(at) < 1e9) || !bytes)
            return failure(
                "Line {0} of the capture does not fit: expected are seconds, < or >, and bytes in hexadecimal.",
                number);
        WireMessage m;
        m.number = out.size();
        m.at = Instant{std::llround(at * 1e9)};
        m.way = rest[1] == '>' ? WireMessage::Way::sent : WireMessage::Way::received;
        m.bytes = std::move(*bytes);
        out.push_back(std::move(m));
    }
    if (number == 0) return failure("The capture is empty.");
    return out;
}

}  // namespace cruscotto
