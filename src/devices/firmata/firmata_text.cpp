#include "devices/firmata/firmata_text.h"
#include "core/base/parsed.h"

#include <array>
#include <sstream>

namespace cruscotto::firmata {

namespace {
constexpr std::size_t longest = 4096, mostPins = 128;
}  // namespace

std::optional<Terminal> terminal(const std::string& name) {
    Terminal t;
    t.name = name;
    std::istringstream words(name);
    std::string first, second, third, fourth, fifth, rest;
    words >> first >> second >> third >> fourth >> fifth >> rest;
    if (first == "i2c") {
        const bool hex = second.starts_with("0x");
        if (!parsed(std::string_view(second).substr(hex ? 2 : 0), t.address, hex ? 16 : 10) || t.address < 1 ||
            t.address > 0x7F)
            return {};
        const bool hexReg = fourth.starts_with("0x");
        if (third != "reg" || !parsed(std::string_view(fourth).substr(hexReg ? 2 : 0), t.reg, hexReg ? 16 : 10) ||
            t.reg < 0 || t.reg > 0x3FFF)
            return {};
        static const std::map<std::string, std::array<int, 3>> types{{"u8", {1, 0, 1}},    {"i8", {1, 1, 1}},
                                                                     {"u16be", {2, 0, 1}}, {"i16be", {2, 1, 1}},
                                                                     {"u16le", {2, 0, 0}}, {"i16le", {2, 1, 0}}};
        const auto it = types.find(fifth);
        if (it == types.end() || !rest.empty()) return {};
        t.mode = i2c;
        t.bytes = it->second[0];
        t.isSigned = it->second[1] != 0;
        t.bigEndian = it->second[2] != 0;
        return t;
    }
    if (first.size() < 2 || !third.empty() || !parsed(std::string_view(first).substr(1), t.number) || t.number < 0 ||
        t.number >= static_cast<int>(mostPins))
        return {};
    if (first[0] == 'A' && second.empty()) {
        t.mode = analog;
        return t;
    }
    static const std::map<std::string, Mode> modes{
        {"", input}, {"pull-up", pullUp}, {"out", output}, {"pwm", pwm}, {"servo", servo}};
    const auto it = modes.find(second);
    if (first[0] != 'D' || it == modes.end()) return {};
    t.mode = it->second;
    return t;
}

void Reader::feed(std::string_view bytes, std::vector<Message>& out) {
    for (const char ch : bytes) {
        const auto c = static_cast<std::uint8_t>(ch);
        const auto refuse = [&] {
            Message m;
            m.bytes = std::exchange(held_, {});
            out.push_back(std::move(m));
        };
        const bool inSysex = !held_.empty() && static_cast<std::uint8_t>(held_[0]) == 0xF0;
        if (c & 0x80U && !(inSysex && c == 0xF7)) {
            if (!held_.empty()) refuse();  // a command begins before the one before it has ended
            held_ += ch;
            if (c == 0xFF || c == 0xF7) refuse();
            continue;
        }
        held_ += ch;
        const auto first = static_cast<std::uint8_t>(held_[0]);
        if (inSysex) {
            if (c == 0xF7) {
                Message m;
                m.what = Message::What::sysex;
                m.data = held_.substr(1, held_.size() - 2);
                m.bytes = std::exchange(held_, {});
                out.push_back(std::move(m));
            } else if (held_.size() >= longest) {
                refuse();
            }
            continue;
        }
        if (!(first & 0x80U)) {
            if (held_.size() >= 64) refuse();
            continue;
        }
        if (held_.size() < 3) continue;
        Message m;
        m.value = held_[1] | held_[2] << 7;
        m.number = first & 0x0FU;
        m.what = (first & 0xF0U) == 0xE0   ? Message::What::analog
                 : (first & 0xF0U) == 0x90 ? Message::What::digital
                 : first == 0xF9           ? Message::What::version
                                           : Message::What::nonsense;
        m.bytes = std::exchange(held_, {});
        out.push_back(std::move(m));
    }
}

std::string fromPairs(std::string_view data) {
    std::string out;
    for (std::size_t i = 0; i + 1 < data.size(); i += 2)
        out += static_cast<char>((data[i] & 0x7F) | (data[i + 1] & 1) << 7);
    return out;
}

std::string toPairs(std::string_view bytes) {
    std::string out;
    for (const char c : bytes) {
        out += static_cast<char>(c & 0x7F);
        out += static_cast<char>(static_cast<std::uint8_t>(c) >> 7);
    }
    return out;
}

std::string sysex(std::string_view data) {
    std::string out = "\xF0";
    out += data;
    return out + '\xF7';
}

std::vector<std::map<int, int>> capabilities(std::string_view data) {
    std::vector<std::map<int, int>> pins(1);
    for (std::size_t i = 0; i < data.size(); ++i) {
        if (data[i] == 0x7F) {
            if (pins.size() > mostPins) break;
            pins.emplace_back();
        } else if (i + 1 < data.size()) {
            pins.back()[data[i]] = data[i + 1];
            ++i;
        }
    }
    pins.pop_back();
    return pins;
}

}  // namespace cruscotto::firmata
