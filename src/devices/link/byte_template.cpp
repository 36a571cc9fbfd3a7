#include "devices/link/byte_template.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <charconv>
#include <cmath>
#include <cstdint>
#include <string_view>

namespace cruscotto {

namespace {

/// The value as a whole number of so many bytes, in two's complement.
std::string wholeBytes(double value, int bytes, bool isSigned, bool bigEndian) {
    const double span = std::ldexp(1.0, 8 * bytes);
    const double low = isSigned ? -span / 2 : 0, high = isSigned ? span / 2 - 1 : span - 1;
    const double v = std::isnan(value) ? 0 : std::clamp(std::round(value), low, high);
    const auto bits = static_cast<std::uint64_t>(static_cast<std::int64_t>(v));
    std::string out;
    for (int i = 0; i < bytes; ++i) out += static_cast<char>(bits >> (8 * (bigEndian ? bytes - 1 - i : i)) & 0xff);
    return out;
}

std::string floatBytes(double value, bool bigEndian) {
    return wholeBytes(std::bit_cast<std::uint32_t>(static_cast<float>(value)), 4, false, bigEndian);
}

/// What stands between braces; false for an unknown name.
bool placeBytes(std::string_view name, double value, std::string& out) {
    if (name == "value") {
        out += fmt::format("{}", value);
    } else if (name.starts_with("value:") && name.size() == 7 && name[6] >= '0' && name[6] <= '9') {
        out += fmt::format("{:.{}f}", value, name[6] - '0');
    } else if (name == "u8") {
        out += wholeBytes(value, 1, false, false);
    } else if (name == "u16le" || name == "u16be") {
        out += wholeBytes(value, 2, false, name == "u16be");
    } else if (name == "u32le" || name == "u32be") {
        out += wholeBytes(value, 4, false, name == "u32be");
    } else if (name == "i16le" || name == "i16be") {
        out += wholeBytes(value, 2, true, name == "i16be");
    } else if (name == "f32le" || name == "f32be") {
        out += floatBytes(value, name == "f32be");
    } else {
        return false;
    }
    return true;
}

Result<std::string> render(const std::string& written, double value) {
    if (written.size() > 256) return failure("More than 256 characters are too many to send at once.");
    std::string out;
    for (std::size_t i = 0; i < written.size(); ++i) {
        const char c = written[i];
        const char next = i + 1 < written.size() ? written[i + 1] : '\0';
        if (c == '\\') {
            constexpr std::string_view escapes = "nrt\\0";
            constexpr std::string_view meant{"\n\r\t\\\0", 5};
            unsigned byte = 0;
            const char* hex = written.data() + i + 2;
            if (const auto at = escapes.find(next); at != std::string_view::npos && i + 1 < written.size()) {
                out += meant[at];
                ++i;
            } else if (next == 'x' && i + 3 < written.size() &&
                       std::from_chars(hex, hex + 2, byte, 16).ptr == hex + 2) {
                out += static_cast<char>(byte);
                i += 3;
            } else {
                return failure("At character {0}: behind \\ comes n, r, t, \\, 0, or x and two hexadecimal figures.",
                               i + 1);
            }
        } else if ((c == '{' || c == '}') && next == c) {
            out += c;
            ++i;
        } else if (c == '}') {
            return failure("At character {0}: this } closes nothing; write }} for a brace.", i + 1);
        } else if (c == '{') {
            const std::size_t end = written.find('}', i);
            if (end == std::string::npos)
                return failure("At character {0}: this { is not closed; write {{ for a brace.", i + 1);
            const std::string name = written.substr(i + 1, end - i - 1);
            if (!placeBytes(name, value, out))
                return failure(
                    "At character {0}: \"{1}\" is unknown. Use value, value:2, u8, u16le, u16be, u32le, u32be, i16le, "
                    "i16be, f32le or f32be.",
                    i + 1, name);
            i = end;
        } else {
            out += c;
        }
    }
    return out;
}

}  // namespace

Result<void> checkByteTemplate(const std::string& written) {
    if (auto rendered = render(written, 0); !rendered) return rendered.error();
    return {};
}

std::string bytesFor(const std::string& written, double value) {
    auto rendered = render(written, value);
    return rendered ? std::move(rendered.value()) : std::string();
}

void readTemplates(SettingsReader& settings, std::string& ask, double& askSeconds,
                   std::map<std::string, std::string>& outputs) {
    ask = settings.word("ask");
    if (auto checked = checkByteTemplate(ask); !checked)
        settings.fail(failure("\"ask\" cannot be sent. {0}", checked.error().english()));
    askSeconds = settings.number("ask-every-s", askSeconds, 0.001, 86400);
    outputs = settings.pairs("outputs", 64);
    for (const auto& [name, bytes] : outputs)
        if (auto checked = checkByteTemplate(bytes); !checked)
            settings.fail(failure("The output \"{0}\" cannot be sent. {1}", name, checked.error().english()));
}

Heartbeat readHeartbeat(SettingsReader& settings) {
    Heartbeat out;
    out.bytes = settings.word("heartbeat");
    if (auto checked = checkByteTemplate(out.bytes); !checked)
        settings.fail(failure("\"heartbeat\" cannot be sent. {0}", checked.error().english()));
    out.everySeconds = settings.number("heartbeat-every-s", out.everySeconds, 0.01, 3600);
    return out;
}

SettingInfo silenceSettingInfo() {
    return {"silence-is-fault",
            CRUSCOTTO_TEXT("Silence is a fault"),
            SettingInfo::Type::flag,
            {},
            "false",
            CRUSCOTTO_TEXT("For a board that speaks all the time: when it is silent, its outputs are put to their safe "
                           "values. One that is asked need not say so.")};
}

std::set<std::string> namesOf(const std::map<std::string, std::string>& outputs) {
    std::set<std::string> out;
    for (const auto& [name, bytes] : outputs) out.insert(name);
    return out;
}

std::vector<std::string> messagesFor(const std::map<std::string, std::string>& outputs,
                                     const std::map<std::string, double>& values, const std::string& end) {
    std::vector<std::string> out;
    for (const auto& [name, value] : values)
        if (const auto it = outputs.find(name); it != outputs.end()) out.push_back(bytesFor(it->second, value) + end);
    return out;
}

std::vector<SettingInfo> templateSettingInfos() {
    using Type = SettingInfo::Type;
    return {
        {"ask",
         CRUSCOTTO_TEXT("Ask with"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT(
             "For a board that answers only when it is asked: what to send, as in ?\\n. \\n, \\r, \\t and \\x3f "
             "are single bytes.")},
        {"ask-every-s", CRUSCOTTO_TEXT("Ask every, in s"), Type::number, {}, "1", {}},
        {"outputs",
         CRUSCOTTO_TEXT("Outputs"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT("One a line: a name, =, and what is sent when it is set, as in heater = H{value:0}\\n. Binary: "
                        "{u8}, {u16le}, {i16be}, {f32le} ...")},
        {"heartbeat",
         CRUSCOTTO_TEXT("Sign of life"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("For a board that puts its outputs to rest without one: what to send again and again, as in "
                        "K\\n or L{u8}\\n with a number that counts.")},
        {"heartbeat-every-s", CRUSCOTTO_TEXT("Sign of life every, in s"), Type::number, {}, "0.5", {}},
    };
}

}  // namespace cruscotto
