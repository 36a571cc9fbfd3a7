#include "devices/frames/frame_format.h"
#include "core/base/parsed.h"

#include <algorithm>
#include <bit>
#include <cmath>

namespace cruscotto {

namespace {

std::vector<std::string_view> wordsOf(std::string_view text) {
    std::vector<std::string_view> out;
    for (std::size_t i = 0; (i = text.find_first_not_of(" \t,", i)) != std::string_view::npos;) {
        const std::size_t end = std::min(text.find_first_of(" \t,", i), text.size());
        out.push_back(text.substr(i, end - i));
        i = end;
    }
    return out;
}

std::optional<long> wholeNumber(std::string_view s, int base = 10) {
    long v = 0;
    if (!parsed(s, v, base)) return std::nullopt;
    return v;
}

/// "aa55" and "aa" both are bytes.
std::optional<std::string> bytesNamed(std::string_view hex) {
    std::string out;
    if (hex.empty() || hex.size() % 2 != 0) return std::nullopt;
    for (std::size_t i = 0; i < hex.size(); i += 2) {
        const auto byte = wholeNumber(hex.substr(i, 2), 16);
        if (!byte || *byte < 0) return std::nullopt;
        out += static_cast<char>(*byte);
    }
    return out;
}

std::uint64_t wholeAt(std::string_view frame, std::size_t offset, std::size_t bytes, bool bigEndian) {
    std::uint64_t out = 0;
    for (std::size_t i = 0; i < bytes; ++i)
        out = out << 8 | static_cast<std::uint8_t>(frame[offset + (bigEndian ? i : bytes - 1 - i)]);
    return out;
}

struct Words {
    std::vector<std::string_view> all;
    std::size_t at = 0;
    [[nodiscard]] std::string_view next() const { return at < all.size() ? all[at] : std::string_view{}; }
    bool take(std::string_view word) {
        if (next() != word) return false;
        ++at;
        return true;
    }
};

constexpr const char* layoutHelp =
    "Expected is how a frame is known, as in: begin aa 55 length 12; end 0d 0a; begin 7e length-at 1 u8 +4; cobs; "
    "slip; "
    "and, where there is one, check crc16-modbus.";

std::string hexOf(std::string_view bytes) {
    std::string out;
    for (const char c : bytes) out += fmt::format("{:02x}", static_cast<std::uint8_t>(c));
    return out;
}

std::string unescapedSlip(std::string_view s, bool& ok) {
    std::string out;
    for (std::size_t i = 0; i < s.size(); ++i) {
        if (s[i] != '\xDB') {
            out += s[i];
            continue;
        }
        ++i;
        if (i < s.size() && (s[i] == '\xDC' || s[i] == '\xDD'))
            out += s[i] == '\xDC' ? '\xC0' : '\xDB';
        else
            ok = false;
    }
    return out;
}

std::string unescapedCobs(std::string_view s, bool& ok) {
    std::string out;
    for (std::size_t i = 0; i < s.size();) {
        const auto code = static_cast<std::uint8_t>(s[i]);
        if (i + code > s.size()) {
            ok = false;
            return out;
        }
        out.append(s.substr(i + 1, code - 1U));
        i += code;
        if (code != 0xFF && i < s.size()) out += '\0';
    }
    return out;
}

}  // namespace

std::size_t FrameLayout::shortest() const {
    const std::size_t parts = begin.size() + end.size() + (check ? checkSumBytes(check->kind) : 0);
    return std::max({length, parts, lengthField ? lengthField->offset + lengthField->bytes : 0});
}

Result<FrameLayout> frameLayout(std::string_view text) {
    FrameLayout out;
    Words words{wordsOf(text)};
    const auto takeBytes = [&](std::string& to) {
        while (const auto bytes = bytesNamed(words.next())) {
            to += *bytes;
            ++words.at;
        }
        return !to.empty() && to.size() <= 8;
    };
    while (words.at < words.all.size()) {
        if (words.take("begin")) {
            if (!takeBytes(out.begin))
                return failure("Behind \"begin\" come one to eight bytes in hexadecimal, as in aa 55.");
        } else if (words.take("end")) {
            if (!takeBytes(out.end))
                return failure("Behind \"end\" come one to eight bytes in hexadecimal, as in 0d 0a.");
        } else if (words.take("length")) {
            const auto n = wholeNumber(words.next());
            if (!n || *n < 1 || *n > static_cast<long>(FrameLayout::longest))
                return failure("Behind \"length\" comes how many bytes a whole frame has, 1 to {0}.",
                               FrameLayout::longest);
            out.length = static_cast<std::size_t>(*n);
            ++words.at;
        } else if (words.take("length-at")) {
            FrameLayout::LengthField field;
            const auto offset = wholeNumber(words.next());
            if (!offset || *offset < 0 || *offset > 64)
                return failure(
                    "Behind \"length-at\" come where the length stands, 0 to 64, its type, and what is added, as in 2 "
                    "u8 +5.");
            field.offset = static_cast<std::size_t>(*offset);
            ++words.at;
            const std::string_view type = words.next();
            if (type != "u8" && type != "u16" && type != "u16le" && type != "u16be")
                return failure("A length is u8, u16le or u16be.");
            field.bytes = type == "u8" ? 1 : 2;
            field.bigEndian = type == "u16be";
            ++words.at;
            if (const std::string_view adds = words.next(); !adds.empty() && (adds[0] == '+' || adds[0] == '-')) {
                const auto n = wholeNumber(adds.substr(adds[0] == '+' ? 1 : 0));
                if (!n || *n < -1000 || *n > 1000) return failure("What is added to the length is -1000 to +1000.");
                field.adds = static_cast<int>(*n);
                ++words.at;
            }
            out.lengthField = field;
        } else if (words.take("cobs")) {
            out.escape = FrameLayout::Escape::cobs;
        } else if (words.take("slip")) {
            out.escape = FrameLayout::Escape::slip;
        } else if (words.take("check")) {
            const auto kind = checkSumNamed(words.next());
            if (!kind) {
                std::string known;
                for (const auto& [k, name] : checkSums()) known += (known.empty() ? "" : ", ") + name;
                return failure("Behind \"check\" comes one of {0}.", known);
            }
            ++words.at;
            FrameLayout::Check check;
            check.kind = *kind;
            while (true) {
                if (words.take("from")) {
                    const auto from = wholeNumber(words.next());
                    if (!from || *from < 0 || *from > 64)
                        return failure("Behind \"from\" comes the first byte that is checked, 0 to 64.");
                    check.from = static_cast<std::size_t>(*from);
                    ++words.at;
                } else if (words.take("be")) {
                    check.bigEndian = true;
                } else if (words.take("le")) {
                    check.bigEndian = false;
                } else {
                    break;
                }
            }
            out.check = check;
        } else {
            return failure("\"{0}\" is not understood. {1}", std::string(words.next()), layoutHelp);
        }
    }
    if (!words.all.empty() && !out.described())
        return failure("That does not tell where a frame begins or ends. {0}", layoutHelp);
    if (out.escape != FrameLayout::Escape::none && (!out.begin.empty() || !out.end.empty() || out.lengthField))
        return failure("Escaped frames need no begin, end or length-at: the escape tells where they end.");
    if (out.length && out.lengthField) return failure("Either every frame has one length, or the length stands in it.");
    if (!out.begin.empty() && out.end.empty() && !out.length && !out.lengthField)
        return failure("It begins with {0}, but where does it end? Add length, length-at or end.", hexOf(out.begin));
    const std::size_t least = FrameLayout{out.begin, out.end, 0, out.lengthField, out.escape, out.check}.shortest();
    if (out.length && out.length < least)
        return failure("A frame of {0} bytes cannot hold all that; it takes at least {1}.", out.length, least);
    return out;
}

std::string frameLayoutText(const FrameLayout& layout) {
    std::string out;
    const auto add = [&](const std::string& words) { out += (out.empty() ? "" : " ") + words; };
    if (layout.escape != FrameLayout::Escape::none) add(layout.escape == FrameLayout::Escape::cobs ? "cobs" : "slip");
    if (!layout.begin.empty()) add("begin " + hexOf(layout.begin));
    if (layout.length) add(fmt::format("length {}", layout.length));
    if (const auto& f = layout.lengthField)
        add(fmt::format("length-at {} {} {:+}", f->offset,
                        f->bytes == 1  ? "u8"
                        : f->bigEndian ? "u16be"
                                       : "u16le",
                        f->adds));
    if (const auto& c = layout.check) {
        const auto& all = checkSums();
        add("check " + std::ranges::find(all, c->kind, &std::pair<CheckSum, std::string>::first)->second);
        if (c->from) add(fmt::format("from {}", c->from));
        if (c->bigEndian) add("be");
    }
    if (!layout.end.empty()) add("end " + hexOf(layout.end));
    return out;
}

SampleType FrameField::sampleType() const {
    if (bits == 1) return SampleType::bit;
    if (type == Type::real) return bytes == 4 ? SampleType::float32 : SampleType::float64;
    const std::size_t width = bits > 0 ? static_cast<std::size_t>(bits) : 8 * bytes;
    if (type == Type::unsignedWhole)
        return width <= 15 ? SampleType::int16 : width <= 32 ? SampleType::uint32 : SampleType::float64;
    return width <= 16 ? SampleType::int16 : width <= 32 ? SampleType::int32 : SampleType::float64;
}

double FrameField::value(std::string_view frame) const {
    std::uint64_t raw = wholeAt(frame, offset, bytes, bigEndian);
    if (type == Type::real)
        return bytes == 4 ? std::bit_cast<float>(static_cast<std::uint32_t>(raw)) : std::bit_cast<double>(raw);
    int width = static_cast<int>(8 * bytes);
    if (bits > 0) {
        raw >>= firstBit;
        width = bits;
        if (width < 64) raw &= (std::uint64_t{1} << width) - 1;
    }
    if (type == Type::unsignedWhole) return static_cast<double>(raw);
    if (width < 64 && (raw >> (width - 1) & 1) != 0) raw |= ~std::uint64_t{0} << width;
    return static_cast<double>(static_cast<std::int64_t>(raw));
}

Result<FrameField> frameField(const std::string& name, std::string_view text) {
    FrameField out;
    out.name = name;
    Words words{wordsOf(text)};
    const auto offset = wholeNumber(words.next());
    if (name.empty() || !offset || *offset < 0 || *offset >= static_cast<long>(FrameLayout::longest))
        return failure("\"{0}\" needs where it begins in the frame, counted from 0, and its type, as in 2 i16le.",
                       name);
    out.offset = static_cast<std::size_t>(*offset);
    ++words.at;
    std::string_view type = words.next();
    ++words.at;
    if (type.ends_with("le") || type.ends_with("be")) {
        out.bigEndian = type.ends_with("be");
        type.remove_suffix(2);
    }
    const auto width = type.empty() ? std::nullopt : wholeNumber(type.substr(1));
    const bool real = type.starts_with('f'), isSigned = type.starts_with('i');
    if (!width || (!real && !isSigned && !type.starts_with('u')) || *width % 8 != 0 || *width < 8 || *width > 64 ||
        (real && *width != 32 && *width != 64))
        return failure(
            "\"{0}\": a type is u8, i8, u16le, i16be, u24le ... i64be, f32le, f64be; le: the lowest byte comes first.",
            name);
    out.bytes = static_cast<std::size_t>(*width / 8);
    out.type = real       ? FrameField::Type::real
               : isSigned ? FrameField::Type::signedWhole
                          : FrameField::Type::unsignedWhole;
    while (words.at < words.all.size()) {
        if (words.take("bit")) {
            const auto bit = wholeNumber(words.next());
            if (real || !bit || *bit < 0 || *bit >= *width)
                return failure("\"{0}\": behind \"bit\" comes 0 to {1}.", name, *width - 1);
            out.firstBit = static_cast<int>(*bit);
            out.bits = 1;
            ++words.at;
        } else if (words.take("bits")) {
            const std::string_view range = words.next();
            const std::size_t dash = range.find('-');
            const auto low = wholeNumber(range.substr(0, dash));
            const auto high = dash == std::string_view::npos ? std::nullopt : wholeNumber(range.substr(dash + 1));
            if (real || !low || !high || *low < 0 || *high < *low || *high >= *width)
                return failure("\"{0}\": behind \"bits\" comes the lowest and the highest, as in 4-6, up to {1}.", name,
                               *width - 1);
            out.firstBit = static_cast<int>(*low);
            out.bits = static_cast<int>(*high - *low + 1);
            ++words.at;
        } else if (words.take("when")) {
            const auto at = wholeNumber(words.next());
            const auto byte = words.at + 1 < words.all.size() ? bytesNamed(words.all[words.at + 1]) : std::nullopt;
            if (!at || *at < 0 || *at >= static_cast<long>(FrameLayout::longest) || !byte || byte->size() != 1)
                return failure(
                    "\"{0}\": behind \"when\" come which byte of the frame, and what it must be, as in 1 07.", name);
            out.when = FrameField::When{static_cast<std::size_t>(*at), static_cast<std::uint8_t>((*byte)[0])};
            words.at += 2;
        } else {
            return failure("\"{0}\": \"{1}\" is not understood; bit, bits or when may come there.", name,
                           std::string(words.next()));
        }
    }
    if (out.offset + out.bytes > FrameLayout::longest)
        return failure("\"{0}\" lies behind the end of the longest frame.", name);
    return out;
}

std::string frameFieldText(const FrameField& f) {
    const char kind = f.type == FrameField::Type::real ? 'f' : f.type == FrameField::Type::signedWhole ? 'i' : 'u';
    std::string out = fmt::format("{} {}{}{}", f.offset, kind, 8 * f.bytes,
                                  f.bytes == 1  ? ""
                                  : f.bigEndian ? "be"
                                                : "le");
    if (f.bits == 1)
        out += fmt::format(" bit {}", f.firstBit);
    else if (f.bits > 1)
        out += fmt::format(" bits {}-{}", f.firstBit, f.firstBit + f.bits - 1);
    if (f.when) out += fmt::format(" when {} {:02x}", f.when->offset, f.when->byte);
    return out;
}

void FrameCutter::reset() {
    held_.clear();
    skipped_.clear();
    whySkipped_ = {};
    synchronised_ = false;
}

void FrameCutter::feed(std::string_view bytes, std::vector<Piece>& out) {
    // In parts, so that what is held stays small whatever comes.
    constexpr std::size_t part = 4096;
    for (std::size_t at = 0; at < bytes.size(); at += part) {
        const std::string_view now = bytes.substr(at, part);
        held_ += now;
        const std::size_t before = out.size();
        if (!layout_.described())
            undescribed(out, false);
        else if (layout_.escape != FrameLayout::Escape::none)
            escaped(out);
        else
            plain(out);
        const std::size_t behind = bytes.size() - at - now.size();
        for (std::size_t i = before; i < out.size(); ++i) out[i].bytesBehind += behind;
    }
}

void FrameCutter::pause(std::vector<Piece>& out) {
    if (!layout_.described()) undescribed(out, true);
}

void FrameCutter::undescribed(std::vector<Piece>& out, bool all) {
    constexpr std::size_t row = 24;
    std::size_t at = 0;
    while (held_.size() - at >= row || (all && at < held_.size())) {
        const std::size_t n = std::min(row, held_.size() - at);
        out.push_back({held_.substr(at, n), held_.size() - at - n, {}});
        at += n;
    }
    held_.erase(0, at);
}

/// Why this is no frame; empty: it is one.
Text FrameCutter::wrong(std::string_view frame) const {
    if (frame.size() < layout_.shortest())
        return text(CRUSCOTTO_TEXT("{0} bytes instead of at least {1}"), frame.size(), layout_.shortest());
    if (layout_.length && frame.size() != layout_.length)
        return text(CRUSCOTTO_TEXT("{0} bytes instead of {1}"), frame.size(), layout_.length);
    if (!frame.ends_with(layout_.end)) return text(CRUSCOTTO_TEXT("it does not end with {0}"), hexOf(layout_.end));
    if (!layout_.check) return {};
    const FrameLayout::Check& check = *layout_.check;
    const std::size_t bytes = checkSumBytes(check.kind), at = frame.size() - layout_.end.size() - bytes;
    if (check.from > at)
        return text(CRUSCOTTO_TEXT("{0} bytes are too few for a check sum from byte {1}"), frame.size(), check.from);
    const std::uint32_t is = checkSum(check.kind, frame.substr(check.from, at - check.from));
    const auto says = static_cast<std::uint32_t>(wholeAt(frame, at, bytes, check.bigEndian));
    if (is == says) return {};
    return text(CRUSCOTTO_TEXT("the check sum is {0}, but the frame says {1}"), fmt::format("{:0{}x}", is, 2 * bytes),
                fmt::format("{:0{}x}", says, 2 * bytes));
}

void FrameCutter::escaped(std::vector<Piece>& out) {
    const bool slip = layout_.escape == FrameLayout::Escape::slip;
    const char delimiter = slip ? '\xC0' : '\0';
    std::size_t at = 0, end = 0;
    for (; (end = held_.find(delimiter, at)) != std::string::npos; at = end + 1) {
        const std::string_view raw = std::string_view(held_).substr(at, end - at);
        if (raw.empty()) {
            synchronised_ = true;
            continue;
        }
        const bool first = !std::exchange(synchronised_, true);
        bool ok = raw.size() <= FrameLayout::longest + FrameLayout::longest / 2;
        std::string frame = slip ? unescapedSlip(raw, ok) : unescapedCobs(raw, ok);
        Text problem = ok ? wrong(frame) : Text(CRUSCOTTO_TEXT("its escapes make no sense"));
        if (!problem.empty()) {
            if (first) continue;
            frame = std::string(raw.substr(0, FrameLayout::longest));
        }
        out.push_back({std::move(frame), held_.size() - end - 1, std::move(problem)});
    }
    held_.erase(0, at);
    if (held_.size() > 2 * FrameLayout::longest) {
        out.push_back({held_.substr(0, 64), 0, text(CRUSCOTTO_TEXT("longer than {0} bytes"), FrameLayout::longest)});
        held_.clear();
        synchronised_ = false;
    }
}

std::optional<std::size_t> FrameCutter::frontLength() {
    if (layout_.length) return layout_.length;
    if (const auto& field = layout_.lengthField) {
        if (held_.size() < field->offset + field->bytes) return 0;
        const auto says =
            static_cast<long>(wholeAt(held_, field->offset, field->bytes, field->bigEndian)) + field->adds;
        if (says < static_cast<long>(layout_.shortest()) || says > static_cast<long>(FrameLayout::longest))
            return std::nullopt;
        return static_cast<std::size_t>(says);
    }
    const std::size_t end = held_.find(layout_.end, layout_.begin.size());
    if (end == std::string::npos)
        return held_.size() > FrameLayout::longest ? std::nullopt : std::optional<std::size_t>(0);
    return end + layout_.end.size();
}

void FrameCutter::skip(std::size_t n, const Text& why, std::vector<Piece>& out) {
    if (skipped_.empty()) whySkipped_ = why;
    skipped_.append(held_, 0, n);
    held_.erase(0, n);
    if (skipped_.size() >= FrameLayout::longest) tellSkipped(out);
}

void FrameCutter::tellSkipped(std::vector<Piece>& out) {
    if (skipped_.empty()) return;
    // Before the first whole frame a part of one is to be expected; more than that is not.
    if (synchronised_ || skipped_.size() >= FrameLayout::longest) out.push_back({skipped_, held_.size(), whySkipped_});
    skipped_.clear();
}

void FrameCutter::plain(std::vector<Piece>& out) {
    const Text noBegin = CRUSCOTTO_TEXT("no frame begins there");
    while (!held_.empty()) {
        if (!layout_.begin.empty() && !held_.starts_with(layout_.begin)) {
            std::size_t at = held_.find(layout_.begin);
            if (at == std::string::npos) {
                // Its first bytes may be there already.
                at = held_.size();
                for (std::size_t n = std::min(layout_.begin.size() - 1, held_.size()); n > 0; --n)
                    if (held_.ends_with(std::string_view(layout_.begin).substr(0, n))) {
                        at = held_.size() - n;
                        break;
                    }
                if (at > 0) skip(at, noBegin, out);
                return;
            }
            skip(at, noBegin, out);
        }
        const auto length = frontLength();
        if (length && (*length == 0 || *length > held_.size())) return;
        const Text problem = length ? wrong(std::string_view(held_).substr(0, *length))
                                    : text(CRUSCOTTO_TEXT("no frame is as long as that"));
        if (problem.empty()) {
            tellSkipped(out);
            synchronised_ = true;
            out.push_back({held_.substr(0, *length), held_.size() - *length, {}});
            held_.erase(0, *length);
        } else if (!layout_.length && !layout_.lengthField && length) {
            // Its end is known, so that the next one's beginning is too.
            tellSkipped(out);
            if (std::exchange(synchronised_, true))
                out.push_back({held_.substr(0, *length), held_.size() - *length, problem});
            held_.erase(0, *length);
        } else {
            skip(1, problem, out);
        }
    }
}

}  // namespace cruscotto
