#include "devices/serial/line_format.h"
#include "core/parsed.h"

#include <cmath>
#include <cstdint>

namespace cruscotto {

namespace {

bool number(std::string_view s, double& out) {
    if (!s.empty() && s.front() == '+') s.remove_prefix(1);
    return parsed(s, out) && std::isfinite(out);
}

std::string shownPiece(std::string_view s) {
    std::string out;
    for (const char c : s.substr(0, 24)) out += c >= 32 && c < 127 ? c : '?';
    return out;
}

std::vector<std::string_view> pieces(std::string_view line, std::string_view separators) {
    std::vector<std::string_view> out;
    std::size_t i = 0;
    while ((i = line.find_first_not_of(separators, i)) != std::string_view::npos) {
        const std::size_t end = std::min(line.find_first_of(separators, i), line.size());
        out.push_back(line.substr(i, end - i));
        i = end;
    }
    return out;
}

std::size_t offset(std::string_view line, std::string_view piece) {
    return static_cast<std::size_t>(piece.data() - line.data());
}

Result<void> delimited(const LineFormat& format, std::string_view line, std::vector<FieldValue>& out) {
    const auto found = pieces(line, format.separators);
    if (format.fieldCount && found.size() != format.fieldCount)
        return failure(CRUSCOTTO_TEXT("{0} fields instead of {1}"), found.size(), format.fieldCount);
    for (std::size_t i = 0; i < found.size(); ++i) {
        double v = 0;
        if (!number(found[i], v)) return failure(CRUSCOTTO_TEXT("\"{0}\" is not a number"), shownPiece(found[i]));
        out.push_back({std::to_string(i + 1), v, offset(line, found[i]), found[i].size()});
    }
    if (out.empty()) return failure(CRUSCOTTO_TEXT("no number in it"));
    return {};
}

bool isLabel(std::string_view s) {
    if (s.empty() || !((s[0] >= 'a' && s[0] <= 'z') || (s[0] >= 'A' && s[0] <= 'Z') || s[0] == '_')) return false;
    return s.find_first_not_of("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.-") ==
           std::string_view::npos;
}

Result<void> labelled(const LineFormat& format, std::string_view line, std::vector<FieldValue>& out) {
    const auto found = pieces(line, format.separators + "=:");
    if (found.empty() || found.size() % 2 != 0) return failure(CRUSCOTTO_TEXT("labels and numbers do not pair up"));
    for (std::size_t i = 0; i < found.size(); i += 2) {
        double v = 0;
        if (!isLabel(found[i])) return failure(CRUSCOTTO_TEXT("\"{0}\" is not a label"), shownPiece(found[i]));
        if (!number(found[i + 1], v))
            return failure(CRUSCOTTO_TEXT("\"{0}\" is not a number"), shownPiece(found[i + 1]));
        for (const FieldValue& seen : out)
            if (seen.terminal == found[i])
                return failure(CRUSCOTTO_TEXT("the label \"{0}\" comes twice"), shownPiece(found[i]));
        out.push_back({std::string(found[i]), v, offset(line, found[i + 1]), found[i + 1].size()});
    }
    return {};
}

Result<void> fixed(const LineFormat& format, std::string_view line, std::vector<FieldValue>& out) {
    std::size_t needed = 0;
    for (const auto& f : format.fields) needed = std::max(needed, f.start + f.width);
    if (line.size() < needed) return failure(CRUSCOTTO_TEXT("{0} characters instead of {1}"), line.size(), needed);
    if (line.find_first_not_of(" \t", needed) != std::string_view::npos)
        return failure(CRUSCOTTO_TEXT("{0} characters instead of {1}"), line.size(), needed);
    for (const auto& f : format.fields) {
        std::string_view piece = line.substr(f.start, f.width);
        double v = 0;
        if (f.base == 16) {
            std::uint64_t bits = 0;
            if (!parsed(piece, bits, 16))
                return failure(CRUSCOTTO_TEXT("\"{0}\" is not hexadecimal"), shownPiece(piece));
            v = static_cast<double>(bits);
            if (f.isSigned && f.width <= 15 && bits >> (4 * f.width - 1))
                v -= std::ldexp(1.0, static_cast<int>(4 * f.width));
            if (f.isSigned && f.width == 16) v = static_cast<double>(static_cast<std::int64_t>(bits));
        } else {
            const auto first = piece.find_first_not_of(' ');
            piece = first == std::string_view::npos ? std::string_view{}
                                                    : piece.substr(first, piece.find_last_not_of(' ') - first + 1);
            if (!number(piece, v)) return failure(CRUSCOTTO_TEXT("\"{0}\" is not a number"), shownPiece(piece));
        }
        out.push_back({f.name, v, f.start, f.width});
    }
    return {};
}

}  // namespace

Result<void> parseLine(const LineFormat& format, std::string_view line, std::vector<FieldValue>& out) {
    out.clear();
    if (!format.header.empty()) {
        if (!line.starts_with(format.header))
            return failure(CRUSCOTTO_TEXT("it does not begin with \"{0}\""), format.header);
        line.remove_prefix(format.header.size());
    }
    Result<void> done;
    switch (format.kind) {
        case LineFormat::Kind::delimited:
            done = delimited(format, line, out);
            break;
        case LineFormat::Kind::labelled:
            done = labelled(format, line, out);
            break;
        case LineFormat::Kind::fixed:
            done = fixed(format, line, out);
            break;
    }
    if (!done) out.clear();
    for (FieldValue& field : out) field.start += format.header.size();
    return done;
}

std::optional<LineFormat::Kind> likelyKind(const std::vector<std::string>& lines) {
    std::vector<FieldValue> fields;
    for (const auto kind : {LineFormat::Kind::delimited, LineFormat::Kind::labelled}) {
        LineFormat format;
        format.kind = kind;
        const auto fit =
            std::ranges::count_if(lines, [&](const std::string& line) { return parseLine(format, line, fields).ok(); });
        if (fit > 0 && static_cast<std::size_t>(fit) * 2 >= lines.size()) return kind;
    }
    return std::nullopt;
}

void LineSplitter::feed(std::string_view bytes, std::vector<Line>& out) {
    std::size_t i = 0;
    while (i < bytes.size()) {
        const std::size_t end = bytes.find_first_of("\r\n", i);
        const std::string_view piece = bytes.substr(i, end == std::string_view::npos ? end : end - i);
        const std::size_t room = longestLine - partial_.size();
        if (piece.size() > room) tooLong_ = true;
        partial_.append(piece.substr(0, room));
        if (end == std::string_view::npos) return;
        if (synchronised_ && !partial_.empty()) out.push_back({std::move(partial_), bytes.size() - end - 1, tooLong_});
        partial_.clear();
        tooLong_ = false;
        synchronised_ = true;
        i = end + 1;
    }
}

void LineSplitter::reset() {
    partial_.clear();
    synchronised_ = tooLong_ = false;
}

}  // namespace cruscotto
