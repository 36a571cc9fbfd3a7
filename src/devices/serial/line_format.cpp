#include "devices/serial/line_format.h"

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <cstdint>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "core/base/parsed.h"
#include "core/base/units.h"

namespace cruscotto {

namespace {

constexpr std::size_t mostFields = 512, deepestObject = 8;

/// What boards say where they have no number; in lower case.
constexpr std::array noNumber{"nan", "-nan", "inf", "-inf", "+inf",  "infinity", "-",    "--",  "---", "ovf",
                              "ovl", "ol",   "-ol", "err",  "error", "null",     "none", "n/a", "na"};

bool isNoNumber(std::string_view s) {
    std::string lower;
    for (const char c : s.substr(0, 10)) lower += c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
    return std::ranges::any_of(noNumber, [&](const char* word) { return lower == word; });
}

bool isUnit(std::string_view s) {
    if (s.empty() || s.size() > 12) return false;
    constexpr std::array besides{"C",  "F",  "°",   "deg", "ppm", "ppb", "hPa", "lx", "lux", "dB", "pH", "uA",
                                 "µA", "Wh", "kWh", "VA",  "uS",  "mS",  "km",  "um", "µm",  "us", "µs", "t"};
    if (std::ranges::any_of(besides, [&](const char* u) { return s == u; })) return true;
    // What is not known comes back in braces.
    return unitFromTyped(std::string(s)) != "{" + std::string(s) + "}";
}

/// A number, or what stands for none; `length`: of the number itself, without its unit.
bool number(std::string_view s, bool commaIsPoint, double& out, std::size_t& length) {
    length = s.size();
    if (isNoNumber(s)) {
        out = std::nan("");
        return true;
    }
    std::string plain(s.substr(0, 64));
    if (commaIsPoint)
        if (const auto comma = plain.find(','); comma != std::string::npos && plain.find('.') == std::string::npos)
            plain[comma] = '.';
    const std::size_t plus = !plain.empty() && plain.front() == '+' && plain.size() > 1 && plain[1] != '-';
    const char* end = plain.data() + plain.size();
    const auto [rest, error] = std::from_chars(plain.data() + plus, end, out);
    if (error != std::errc{} || !std::isfinite(out)) return false;
    length = static_cast<std::size_t>(rest - plain.data());
    return rest == end || isUnit(s.substr(length));
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

/// The pieces of a line in their places: between separators that are no blanks a piece may be empty.
std::vector<std::string_view> places(std::string_view line, const std::string& separators, std::size_t wanted) {
    std::string hard;
    for (const char c : separators)
        if (c != ' ' && c != '\t') hard += c;
    if (line.find_first_of(hard) == std::string_view::npos || hard.empty()) return pieces(line, separators);
    std::string blanks = separators;
    std::erase_if(blanks, [](char c) { return c != ' ' && c != '\t'; });
    std::vector<std::string_view> out;
    for (std::size_t i = 0; i <= line.size() && out.size() < mostFields;) {
        const std::size_t end = std::min(line.find_first_of(hard, i), line.size());
        const std::string_view between = line.substr(i, end - i);
        const auto inner = pieces(between, blanks.empty() ? " \t" : blanks);
        if (inner.empty()) out.push_back(between.substr(0, 0));
        out.insert(out.end(), inner.begin(), inner.end());
        i = end + 1;
    }
    // Many boards put a separator behind the last field too.
    if (!out.empty() && out.back().empty() && out.size() != wanted) out.pop_back();
    return out;
}

Result<void> delimited(const LineFormat& format, std::string_view line, std::vector<FieldValue>& out) {
    const auto found = places(line, format.separators, format.fieldCount);
    if (format.fieldCount && found.size() != format.fieldCount)
        return failure(CRUSCOTTO_TEXT("{0} fields instead of {1}"), found.size(), format.fieldCount);
    const bool comma = format.separators.find(',') == std::string::npos;
    for (std::size_t i = 0; i < found.size(); ++i) {
        if (found[i].empty()) continue;
        double v = 0;
        std::size_t length = 0;
        if (!number(found[i], comma, v, length))
            return failure(CRUSCOTTO_TEXT("\"{0}\" is not a number"), shownPiece(found[i]));
        out.push_back({std::to_string(i + 1), v, offset(line, found[i]), length});
    }
    if (out.empty()) return failure(CRUSCOTTO_TEXT("no number in it"));
    return {};
}

bool isLabel(std::string_view s) {
    if (s.empty() || !((s[0] >= 'a' && s[0] <= 'z') || (s[0] >= 'A' && s[0] <= 'Z') || s[0] == '_')) return false;
    return s.find_first_not_of("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.-") ==
           std::string_view::npos;
}

/// The numbers of a JSON object, and of those within it. What is neither number, truth value nor null says nothing.
void fromObject(const nlohmann::json& object, const std::string& prefix, std::size_t depth,
                std::vector<FieldValue>& out) {
    for (const auto& [key, value] : object.items()) {
        if (key.empty() || prefix.size() + key.size() > 100 || out.size() >= mostFields) continue;
        if (value.is_number() && std::isfinite(value.get<double>()))
            out.push_back({prefix + key, value.get<double>(), 0, 0});
        else if (value.is_boolean())
            out.push_back({prefix + key, value.get<bool>() ? 1.0 : 0.0, 0, 0});
        else if (value.is_null() || value.is_number())
            out.push_back({prefix + key, std::nan(""), 0, 0});
        else if (value.is_structured() && depth < deepestObject)
            fromObject(value, prefix + key + ".", depth + 1, out);
    }
}

Result<void> jsonObject(std::string_view line, std::vector<FieldValue>& out) {
    const auto object = parseJson(std::string(line));
    if (!object.is_object()) return failure(CRUSCOTTO_TEXT("it begins like a JSON object and is none"));
    fromObject(object, {}, 0, out);
    if (out.empty()) return failure(CRUSCOTTO_TEXT("no number in it"));
    for (FieldValue& f : out) {  // where the wire shows it: behind its key
        const std::string key = "\"" + f.terminal.substr(f.terminal.rfind('.') + 1) + "\"";
        const std::size_t at = line.find(key);
        if (at == std::string_view::npos) continue;
        f.start = std::min(line.find_first_not_of(" :\t", at + key.size()), line.size());
        f.length = std::min(line.find_first_of(",} ]", f.start), line.size()) - f.start;
    }
    return {};
}

Result<void> labelled(const LineFormat& format, std::string_view line, std::vector<FieldValue>& out) {
    if (const auto first = line.find_first_not_of(" \t"); first != std::string_view::npos && line[first] == '{')
        return jsonObject(line, out);
    const auto found = pieces(line, format.separators + "=:");
    const bool comma = format.separators.find(',') == std::string::npos;
    // "T=, rh=61": between the label and what comes next something ends.
    const auto nothingBehind = [&](std::size_t i) {
        const std::size_t end = offset(line, found[i]) + found[i].size();
        const std::size_t next = i + 1 < found.size() ? offset(line, found[i + 1]) : line.size();
        const std::string_view between = line.substr(end, next - end);
        const auto sign = between.find_first_of("=:");
        return sign != std::string_view::npos &&
               (next == line.size() || between.find_first_of(",;", sign) != std::string_view::npos);
    };
    std::size_t values = 0;
    for (std::size_t i = 0; i < found.size(); ++values) {
        if (!isLabel(found[i])) return failure(CRUSCOTTO_TEXT("\"{0}\" is not a label"), shownPiece(found[i]));
        if (nothingBehind(i)) {
            ++i;
            continue;
        }
        if (i + 1 == found.size()) return failure(CRUSCOTTO_TEXT("labels and numbers do not pair up"));
        double v = 0;
        std::size_t length = 0;
        if (!number(found[i + 1], comma, v, length))
            return failure(CRUSCOTTO_TEXT("\"{0}\" is not a number"), shownPiece(found[i + 1]));
        for (const FieldValue& seen : out)
            if (seen.terminal == found[i])
                return failure(CRUSCOTTO_TEXT("the label \"{0}\" comes twice"), shownPiece(found[i]));
        out.push_back({std::string(found[i]), v, offset(line, found[i + 1]), length});
        i += 2;
        // A unit behind the number, unless it is the label of the number behind it.
        double next = 0;
        if (i < found.size() && isUnit(found[i]) &&
            (!isLabel(found[i]) || i + 1 == found.size() || !number(found[i + 1], comma, next, length)))
            ++i;
    }
    if (values == 0) return failure(CRUSCOTTO_TEXT("labels and numbers do not pair up"));
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
            std::size_t length = 0;
            if (!number(piece, true, v, length))
                return failure(CRUSCOTTO_TEXT("\"{0}\" is not a number"), shownPiece(piece));
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
