#include "devices/can/dbc.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cctype>
#include <charconv>
#include <cmath>
#include <limits>
#include <utility>

#include "core/base/text.h"

namespace cruscotto {

namespace {

constexpr std::size_t mostDbcMessages = 20'000, mostDbcSignals = 200'000;
constexpr std::uint32_t extendedMark = 0x80000000U;
constexpr std::uint32_t noMessage = 0x40000000U;  // with the mark: where the format keeps signals without a message

/// The number of a bit in the message when its bytes are laid out one after the other, most significant bit first.
unsigned sequential(unsigned bit) {
    return (bit & ~7U) | (7U - (bit & 7U));
}

class Reader {
public:
    explicit Reader(std::string_view text) : text_(text) {}
    [[nodiscard]] bool atEnd() {
        skipSpace();
        return at_ >= text_.size();
    }
    [[nodiscard]] std::size_t place() const { return at_; }
    [[nodiscard]] std::size_t lineOf(std::size_t place) const {
        return 1 + static_cast<std::size_t>(std::ranges::count(text_.substr(0, std::min(place, text_.size())), '\n'));
    }
    void skipSpace() {
        while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_]))) ++at_;
    }
    bool take(char c) {
        skipSpace();
        if (at_ >= text_.size() || text_[at_] != c) return false;
        ++at_;
        return true;
    }
    std::string_view name() {
        skipSpace();
        const std::size_t from = at_;
        while (at_ < text_.size() && (std::isalnum(static_cast<unsigned char>(text_[at_])) || text_[at_] == '_')) ++at_;
        return text_.substr(from, at_ - from);
    }
    [[nodiscard]] std::string_view peekName() {
        const std::size_t before = at_;
        const std::string_view out = name();
        at_ = before;
        return out;
    }
    template <class T>
    bool number(T& out) {
        skipSpace();
        if (at_ < text_.size() && text_[at_] == '+') ++at_;
        const auto [end, error] = std::from_chars(text_.data() + at_, text_.data() + text_.size(), out);
        if (error != std::errc{}) return false;
        at_ = static_cast<std::size_t>(end - text_.data());
        return true;
    }
    bool quoted(std::string& out) {
        if (!take('"')) return false;
        out.clear();
        for (; at_ < text_.size(); ++at_) {
            if (text_[at_] == '\\' && at_ + 1 < text_.size() && text_[at_ + 1] == '"')
                ++at_;
            else if (text_[at_] == '"') {
                ++at_;
                return true;
            }
            out += text_[at_];
        }
        return false;
    }
    void restOfLine() { at_ = std::min(text_.find('\n', at_), text_.size()); }
    /// Behind the next semicolon outside of quotes.
    void restOfStatement() {
        bool inside = false;
        for (; at_ < text_.size(); ++at_) {
            if (text_[at_] == '"') inside = !inside;
            if (text_[at_] == ';' && !inside) {
                ++at_;
                return;
            }
        }
    }

private:
    std::string_view text_;
    std::size_t at_ = 0;
};

std::string asUtf8(const std::string& latin1) {
    // The files are older than UTF-8: what is no UTF-8 is taken for ISO 8859-1.
    std::size_t follow = 0;
    bool valid = true;
    for (const char ch : latin1) {
        const auto c = static_cast<unsigned char>(ch);
        if (follow > 0) {
            valid = valid && (c & 0xC0U) == 0x80U;
            --follow;
        } else if (c >= 0x80) {
            follow = c >= 0xF0 ? 3 : c >= 0xE0 ? 2 : c >= 0xC2 ? 1 : 0;
            valid = valid && follow > 0;
        }
    }
    if (valid && follow == 0) return latin1;
    std::string out;
    for (const char ch : latin1) {
        const auto c = static_cast<unsigned char>(ch);
        if (c < 0x80) {
            out += ch;
        } else {
            out += static_cast<char>(0xC0U | c >> 6);
            out += static_cast<char>(0x80U | (c & 0x3FU));
        }
    }
    return out;
}

bool fits(const DbcSignal& s, std::size_t bytes) {
    if (s.bits < 1 || s.bits > 64) return false;
    const std::size_t room = bytes * 8;
    if (!s.bigEndian) return s.start + s.bits <= room;
    return sequential(s.start) + s.bits <= room;
}

Result<DbcSignal> readSignal(Reader& r) {
    DbcSignal s;
    const auto wrong = [&] {
        return failure("Line {0}: a signal is not written as it should be.", r.lineOf(r.place()));
    };
    s.name = std::string(r.name());
    if (s.name.empty()) return wrong();
    if (!r.take(':')) {
        const std::string_view mux = r.name();
        if (mux == "M") {
            s.selects = true;
        } else if (mux.size() > 1 && mux[0] == 'm') {
            unsigned value = 0;
            const auto [end, error] = std::from_chars(mux.data() + 1, mux.data() + mux.size(), value);
            if (error != std::errc{} || (end != mux.data() + mux.size() && *end != 'M')) return wrong();
            s.selectedBy = value;
        } else {
            return wrong();
        }
        if (!r.take(':')) return wrong();
    }
    unsigned order = 0;
    if (!r.number(s.start) || !r.take('|') || !r.number(s.bits) || !r.take('@') || !r.number(order) || order > 1)
        return wrong();
    s.bigEndian = order == 0;
    if (r.take('-'))
        s.isSigned = true;
    else if (!r.take('+'))
        return wrong();
    if (!r.take('(') || !r.number(s.factor) || !r.take(',') || !r.number(s.offset) || !r.take(')')) return wrong();
    if (!r.take('[') || !r.number(s.low) || !r.take('|') || !r.number(s.high) || !r.take(']')) return wrong();
    if (!r.quoted(s.unit)) return wrong();
    s.unit = asUtf8(s.unit);
    if (!std::isfinite(s.factor) || !std::isfinite(s.offset) || s.factor == 0) return wrong();
    r.restOfLine();  // who receives it
    return s;
}

std::string nameFor(const std::string& text) {
    std::string out;
    for (const char c : text) out += std::isalnum(static_cast<unsigned char>(c)) ? c : '_';
    if (out.empty() || std::isdigit(static_cast<unsigned char>(out[0]))) out.insert(0, 1, '_');
    return out.substr(0, 32);  // what old readers take
}

std::string quotedText(const std::string& text) {
    std::string out = "\"";
    for (const char c : text) out += c == '"' ? '\'' : c == '\n' || c == '\r' ? ' ' : c;
    return out + '"';
}

std::uint32_t fileId(const DbcMessage& m) {
    return m.extended ? m.id | extendedMark : m.id;
}

std::uint64_t bitsOf(const DbcSignal& s, const CanFrame& f) {
    std::uint64_t out = 0;
    if (s.bigEndian) {
        const unsigned first = sequential(s.start);
        for (unsigned i = first; i < first + s.bits; ++i) out = out << 1 | (f.data.at(i / 8) >> (7 - i % 8) & 1U);
    } else {
        for (unsigned i = s.start + s.bits; i-- > s.start;) out = out << 1 | (f.data.at(i / 8) >> (i % 8) & 1U);
    }
    return out;
}

}  // namespace

SampleType DbcSignal::sampleType() const {
    if (real == Float::single) return SampleType::float32;
    if (real == Float::twice) return SampleType::float64;
    if (bits == 1 && !isSigned && factor == 1 && offset == 0) return SampleType::bit;
    if (isSigned ? bits <= 16 : bits <= 15) return SampleType::int16;
    if (isSigned ? bits <= 32 : bits <= 31) return SampleType::int32;
    if (bits <= 32) return SampleType::uint32;
    return SampleType::float64;
}

const DbcSignal* DbcMessage::selector() const {
    const auto it = std::ranges::find(signals, true, &DbcSignal::selects);
    return it == signals.end() ? nullptr : &*it;
}

Result<Dbc> readDbc(std::string_view text) {
    if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
    Reader r(text);
    Dbc out;
    std::map<std::uint32_t, std::size_t> byId;
    std::size_t signals = 0;
    const auto message = [&](std::uint32_t id) -> DbcMessage* {
        const auto it = byId.find(id);
        return it == byId.end() ? nullptr : &out.messages[it->second];
    };
    const auto signal = [&](std::uint32_t id, std::string_view name) -> DbcSignal* {
        DbcMessage* m = message(id);
        if (!m) return nullptr;
        const auto it = std::ranges::find(m->signals, name, &DbcSignal::name);
        return it == m->signals.end() ? nullptr : &*it;
    };
    while (!r.atEnd()) {
        const std::size_t place = r.place();
        const std::string_view word = r.name();
        if (word == "BO_") {
            DbcMessage m;
            std::uint32_t id = 0;
            unsigned length = 0;
            if (!r.number(id) || (m.name = std::string(r.name())).empty() || !r.take(':') || !r.number(length))
                return failure("Line {0}: a message is not written as it should be.", r.lineOf(place));
            m.sender = std::string(r.peekName());
            r.restOfLine();
            if (length > 64)
                return failure("Line {0}: {1} has {2} bytes; a frame has at most 64.", r.lineOf(place), m.name, length);
            m.extended = id & extendedMark;
            m.id = id & ~extendedMark;
            const bool none = m.extended && m.id == noMessage;
            m.length = static_cast<std::uint8_t>(length);
            while (r.peekName() == "SG_") {
                r.name();
                auto s = readSignal(r);
                if (!s) return s.error();
                if (++signals > mostDbcSignals) return failure("The file has more than {0} signals.", mostDbcSignals);
                m.signals.push_back(std::move(s.value()));
            }
            if (none) continue;
            if (m.id > (m.extended ? 0x1FFFFFFFU : 0x7FFU))
                return failure("Line {0}: {1} has no identifier of 11 or 29 bits.", r.lineOf(place), m.name);
            // One that does not fit cannot be read; the others can, and the rest of the bus.
            std::erase_if(m.signals, [&](const DbcSignal& s) {
                if (fits(s, m.length)) return false;
                out.leftOut.push_back(
                    failure("line {0}: the signal {1} does not fit in {2}", r.lineOf(place), s.name, m.name).english());
                return true;
            });
            if (out.messages.size() >= mostDbcMessages)
                return failure("The file has more than {0} messages.", mostDbcMessages);
            byId[id] = out.messages.size();
            out.messages.push_back(std::move(m));
        } else if (word == "VAL_") {
            std::uint32_t id = 0;
            if (r.number(id)) {  // else it is of an environment variable
                if (DbcSignal* s = signal(id, r.name())) {
                    std::int64_t value = 0;
                    std::string words;
                    while (s->words.size() < 1000 && r.number(value) && r.quoted(words))
                        s->words[value] = asUtf8(words);
                }
            }
            r.restOfStatement();
        } else if (word == "SIG_VALTYPE_") {
            std::uint32_t id = 0;
            unsigned type = 0;
            if (r.number(id))
                if (DbcSignal* s = signal(id, r.name());
                    s && r.take(':') && r.number(type) && (type == 1 || type == 2)) {
                    if (s->bits != (type == 1 ? 32U : 64U))
                        return failure("Line {0}: {1} is a float of {2} bits; it must have 32 or 64.", r.lineOf(place),
                                       s->name, s->bits);
                    s->real = type == 1 ? DbcSignal::Float::single : DbcSignal::Float::twice;
                }
            r.restOfStatement();
        } else if (word == "CM_") {
            const std::string_view of = r.peekName();
            std::uint32_t id = 0;
            std::string words;
            if (of == "SG_") {
                r.name();
                if (r.number(id))
                    if (DbcSignal* s = signal(id, r.name()); s && r.quoted(words)) s->comment = asUtf8(words);
            } else if (of == "BO_") {
                r.name();
                if (r.number(id))
                    if (DbcMessage* m = message(id); m && r.quoted(words)) m->comment = asUtf8(words);
            }
            r.restOfStatement();
        } else if (word == "BA_") {
            std::string attribute;
            std::uint32_t id = 0;
            double ms = 0;
            if (r.quoted(attribute) && attribute == "GenMsgCycleTime" && r.name() == "BO_" && r.number(id))
                if (DbcMessage* m = message(id); m && r.number(ms) && ms > 0 && ms < 1e7) m->cycleSeconds = ms / 1000;
            r.restOfStatement();
        } else if (word == "NS_" || word == "BS_" || word == "BU_") {
            if (word == "NS_" && r.take(':')) {
                // A list of words, one a line, up to the next that has a colon.
                while (!r.atEnd() && r.peekName() != "BS_" && r.peekName() != "BU_" && r.peekName() != "BO_")
                    r.restOfLine();
            } else {
                r.restOfLine();
            }
        } else if (word == "VERSION") {
            std::string version;
            r.quoted(version);
        } else if (word.empty()) {
            r.restOfLine();
        } else {
            r.restOfStatement();
        }
    }
    return out;
}

std::string writeDbc(const Dbc& dbc) {
    std::string out = "VERSION \"\"\n\nNS_ :\n\nBS_:\n\nBU_:";
    // Each message needs a sender, and each signal a receiver.
    std::vector<std::string> nodes{"Others"};
    const auto sender = [](const DbcMessage& m) { return m.sender.empty() ? "Others" : nameFor(m.sender); };
    for (const DbcMessage& m : dbc.messages)
        if (std::ranges::find(nodes, sender(m)) == nodes.end()) nodes.push_back(sender(m));
    for (const std::string& node : nodes) out += " " + node;
    out += "\n\n";
    std::string behind, values, types, cycles;
    for (const DbcMessage& m : dbc.messages) {
        out += fmt::format("BO_ {} {}: {} {}\n", fileId(m), nameFor(m.name), m.length, sender(m));
        if (!m.comment.empty()) behind += fmt::format("CM_ BO_ {} {};\n", fileId(m), quotedText(m.comment));
        if (m.cycleSeconds > 0)
            cycles +=
                fmt::format("BA_ \"GenMsgCycleTime\" BO_ {} {};\n", fileId(m), std::lround(m.cycleSeconds * 1000));
        for (const DbcSignal& s : m.signals) {
            const std::string name = nameFor(s.name);
            out += fmt::format(" SG_ {} {}: {}|{}@{}{} ({},{}) [{}|{}] {} Others\n", name,
                               s.selects      ? "M "
                               : s.selectedBy ? fmt::format("m{} ", *s.selectedBy)
                                              : "",
                               s.start, s.bits, s.bigEndian ? 0 : 1, s.isSigned ? '-' : '+', s.factor, s.offset, s.low,
                               s.high, quotedText(s.unit));
            if (!s.comment.empty())
                behind += fmt::format("CM_ SG_ {} {} {};\n", fileId(m), name, quotedText(s.comment));
            if (!s.words.empty()) {
                values += fmt::format("VAL_ {} {}", fileId(m), name);
                for (const auto& [value, words] : s.words) values += fmt::format(" {} {}", value, quotedText(words));
                values += " ;\n";
            }
            if (s.real != DbcSignal::Float::none)
                types += fmt::format("SIG_VALTYPE_ {} {} : {};\n", fileId(m), name,
                                     s.real == DbcSignal::Float::single ? 1 : 2);
        }
        out += "\n";
    }
    out += behind;
    if (!cycles.empty())
        out += "BA_DEF_ BO_ \"GenMsgCycleTime\" INT 0 3600000;\nBA_DEF_DEF_ \"GenMsgCycleTime\" 0;\n" + cycles;
    return out + values + types;
}

std::optional<double> rawValue(const DbcSignal& s, const CanFrame& f) {
    if (f.remote || !fits(s, f.length)) return std::nullopt;
    const std::uint64_t bits = bitsOf(s, f);
    if (s.real == DbcSignal::Float::single) return std::bit_cast<float>(static_cast<std::uint32_t>(bits));
    if (s.real == DbcSignal::Float::twice) return std::bit_cast<double>(bits);
    if (s.isSigned && s.bits < 64 && bits >> (s.bits - 1) & 1U)
        return static_cast<double>(static_cast<std::int64_t>(bits | ~std::uint64_t{0} << s.bits));
    return s.isSigned ? static_cast<double>(static_cast<std::int64_t>(bits)) : static_cast<double>(bits);
}

void setRawValue(const DbcSignal& s, double raw, CanFrame& f) {
    std::uint64_t bits = 0;
    if (s.real == DbcSignal::Float::single) {
        bits = std::bit_cast<std::uint32_t>(static_cast<float>(raw));
    } else if (s.real == DbcSignal::Float::twice) {
        bits = std::bit_cast<std::uint64_t>(raw);
    } else {
        const double low = s.isSigned ? -std::ldexp(1., static_cast<int>(s.bits) - 1) : 0;
        const double high = std::ldexp(1., static_cast<int>(s.bits) - (s.isSigned ? 1 : 0));
        const double whole = std::isnan(raw) ? 0 : std::round(raw);
        const std::uint64_t most =
            s.isSigned ? (std::uint64_t{1} << (s.bits - 1)) - 1 : ~std::uint64_t{0} >> (64 - s.bits);
        if (whole >= high)
            bits = most;
        else if (whole <= low)
            bits = s.isSigned ? std::uint64_t{1} << (s.bits - 1) : 0;
        else
            bits = whole < 0 ? static_cast<std::uint64_t>(static_cast<std::int64_t>(whole))
                             : static_cast<std::uint64_t>(whole);
    }
    for (unsigned i = 0; i < s.bits; ++i) {
        // From the lowest bit up.
        unsigned byte = 0, bit = 0;
        if (s.bigEndian) {
            const unsigned at = sequential(s.start) + s.bits - 1 - i;
            byte = at / 8;
            bit = 7 - at % 8;
        } else {
            byte = (s.start + i) / 8;
            bit = (s.start + i) % 8;
        }
        const auto mask = static_cast<std::uint8_t>(1U << bit);
        f.data.at(byte) = static_cast<std::uint8_t>(bits >> i & 1U ? f.data.at(byte) | mask : f.data.at(byte) & ~mask);
    }
}

std::pair<std::size_t, std::size_t> bytesOfSignal(const DbcSignal& s) {
    if (!s.bigEndian) return {s.start / 8, (s.start + s.bits - 1) / 8 + 1};
    const unsigned first = sequential(s.start);
    return {first / 8, (first + s.bits - 1) / 8 + 1};
}

}  // namespace cruscotto
