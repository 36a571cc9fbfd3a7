#include "devices/can/can_settings.h"

#include <algorithm>
#include <map>
#include <sstream>

#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/base/whole_file.h"
#include "core/chain/common_stages.h"
#include "devices/can/can_device.h"
#include "devices/link/byte_template.h"
#include "devices/settings_reader.h"

namespace cruscotto {

namespace {

constexpr std::uintmax_t largestDbc = 20'000'000;

std::vector<TerminalInfo> canTerminals(const JsonText& json) {
    std::vector<TerminalInfo> out;
    const auto settings = canSettings(json);
    if (!settings) return out;
    const CanSettings& s = settings.value();
    for (std::size_t i = 0; i < s.dbc.messages.size(); ++i) {
        const DbcMessage& m = s.dbc.messages[i];
        const bool sent = std::ranges::find(s.sends, i, &CanSettings::Send::message) != s.sends.end();
        for (const DbcSignal& signal : m.signals) {
            TerminalInfo info{terminalOf(m, signal)};
            info.type = signal.sampleType();
            const bool bit = info.type == SampleType::bit;
            info.kind = sent ? (bit ? ChannelKind::digitalOutput : ChannelKind::analogOutput)
                             : (bit ? ChannelKind::digitalInput : ChannelKind::analogInput);
            if (sent && !bit && signal.low < signal.high) info.ranges = {{signal.low, signal.high}};
            std::string title = signal.comment;
            for (const auto& [value, words] : signal.words)
                title += (title.empty() ? "" : ", ") + std::to_string(value) + " " + words;
            info.title = title;
            if (!bit)
                info.chain = {
                    slopeOffset(signal.factor, signal.offset, signal.unit.empty() ? "1" : unitFromTyped(signal.unit))};
            out.push_back(std::move(info));
        }
    }
    return out;
}

/// "701 = 05 every 0.1": an identifier of 3 or 8 hexadecimal digits, and up to 8 bytes.
Result<CanFrame> heartbeatFrame(const std::string& words, double& everySeconds) {
    const auto wrong = [] {
        return failure(
            "\"heartbeat\": expected is as in 701 = 05 every 0.1: an identifier of 3 or 8 hexadecimal "
            "digits, up to 8 bytes, and seconds from 0.01 to 3600.");
    };
    const auto number = [](const std::string& digits, unsigned long most) -> std::optional<unsigned long> {
        if (digits.empty() || digits.size() > 8 ||
            digits.find_first_not_of("0123456789abcdefABCDEF") != std::string::npos)
            return std::nullopt;
        const unsigned long v = std::stoul(digits, nullptr, 16);
        return v <= most ? std::optional(v) : std::nullopt;
    };
    constexpr unsigned long shortest = 0x7FF, longest = 0x1FFFFFFF;
    CanFrame out;
    std::istringstream in(words);
    std::string id, is, byte;
    if (!(in >> id >> is) || is != "=" || (id.size() != 3 && id.size() != 8)) return wrong();
    const auto identifier = number(id, id.size() == 3 ? shortest : longest);
    if (!identifier) return wrong();
    out.id = static_cast<std::uint32_t>(*identifier);
    out.extended = id.size() == 8;
    while (in >> byte && byte != "every") {
        const auto v = number(byte, 0xFF);
        if (!v || byte.size() != 2 || out.length == 8) return wrong();
        out.data[out.length++] = static_cast<std::uint8_t>(*v);
    }
    std::string every, more;
    if (byte != "every" || !(in >> every) || in >> more || !parseNumber(every, everySeconds) ||
        !(everySeconds >= 0.01 && everySeconds <= 3600))
        return wrong();
    return out;
}

}  // namespace

std::string terminalOf(const DbcMessage& m, const DbcSignal& s) {
    return m.name + "." + s.name;
}
Dbc laidOut(const std::vector<std::string>& names, const std::vector<std::string>& units, std::uint32_t firstId,
            double everySeconds) {
    Dbc out;
    for (std::size_t i = 0; i < names.size(); ++i) {
        if (i % 2 == 0) {
            DbcMessage m;
            m.id = firstId + static_cast<std::uint32_t>(i / 2);
            m.extended = m.id > 0x7FF;
            m.name = fmt::format("Bench_{}", i / 2 + 1);
            m.sender = "Cruscotto";
            m.cycleSeconds = everySeconds;
            out.messages.push_back(std::move(m));
        }
        DbcSignal s;
        s.name = names[i];
        s.unit = i < units.size() ? units[i] : "";
        s.start = i % 2 == 0 ? 0 : 32;
        s.bits = 32;
        s.isSigned = true;
        s.real = DbcSignal::Float::single;
        out.messages.back().signals.push_back(std::move(s));
    }
    return out;
}

Result<CanSettings> canSettings(const JsonText& json) {
    CanSettings out;
    SettingsReader settings(json);
    out.link.address = settings.word("address");
    out.link.bitRate = static_cast<unsigned>(settings.whole("bit-rate", 500'000, 1000, 8'000'000));
    out.link.listenOnly = settings.flag("listen-only");
    out.silenceIsFault = settings.flag("silence-is-fault");
    if (auto checked = checkCanLink(out.link); !checked) return checked.error();
    if (const std::string path = settings.word("database"); !path.empty()) {
        const auto description = readWholeFile(path, largestDbc);
        if (!description) return description.error();
        auto dbc = readDbc(description.value());
        if (!dbc) return failure("{0}: {1}", path, dbc.error().english());
        out.dbc = std::move(dbc.value());
    }
    for (const auto& [name, how] : settings.pairs("send", 256)) {
        const auto m = std::ranges::find(out.dbc.messages, name, &DbcMessage::name);
        if (m == out.dbc.messages.end()) return failure("The bus description has no message \"{0}\" to send.", name);
        if (m->selector()) return failure("\"{0}\" has signals that take turns; such a message cannot be sent.", name);
        CanSettings::Send send{static_cast<std::size_t>(m - out.dbc.messages.begin()), 0};
        if (how.starts_with("every ")) {
            double s = 0;
            if (!parseNumber(how.substr(6), s) || !(s >= 0.001 && s <= 3600))
                return failure("{0}: \"every\" takes seconds, 0.001 to 3600.", name);
            send.everySeconds = s;
        } else if (how != "on change") {
            return failure("{0}: say when it is sent: every SECONDS, or on change.", name);
        }
        out.sends.push_back(send);
    }
    if (const std::string words = settings.word("heartbeat"); !words.empty()) {
        auto beat = heartbeatFrame(words, out.heartbeatSeconds);
        if (!beat) return beat.error();
        if (out.link.listenOnly) return failure("\"heartbeat\": a bus that is only listened to is sent nothing.");
        out.heartbeat = beat.value();
    }
    std::stringstream ids(settings.word("publish"));
    for (std::string id; std::getline(ids, id, ',');) {
        id.erase(0, std::min(id.find_first_not_of(' '), id.size()));
        id.erase(id.find_last_not_of(' ') + 1);
        if (id.empty()) continue;
        if (out.publish.size() >= 512) return failure("\"publish\" takes at most 512 signals.");
        if (std::ranges::find(out.publish, id) == out.publish.end()) out.publish.push_back(id);
    }
    // Identifiers of 11 or 29 bits (ISO 11898-1); those that follow must be such too.
    const int last = 0x1FFFFFFF - static_cast<int>(out.publish.size() / 2);
    out.publishId = static_cast<std::uint32_t>(settings.whole("publish-id", 0x6A0, 0, last));
    out.publishSeconds = settings.number("publish-every-s", 0.1, 0.001, 3600);
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

Dbc publishedDbc(const Bench& bench, const DeviceSpec& device) {
    const auto settings = canSettings(device.settings);
    if (!settings) return {};
    std::vector<std::string> names, units;
    for (const std::string& id : settings.value().publish) {
        const SignalSpec* s = bench.signal(id);
        names.push_back(id);
        units.push_back(s ? unitText(s->unit()) : "");
    }
    Dbc out = laidOut(names, units, settings.value().publishId, settings.value().publishSeconds);
    for (DbcMessage& m : out.messages)
        for (DbcSignal& d : m.signals)
            if (const SignalSpec* s = bench.signal(d.name)) d.comment = s->name;
    return out;
}

DeviceKind canKind() {
    DeviceKind kind;
    kind.key = "can";
    kind.title = CRUSCOTTO_TEXT("CAN bus");
    kind.name = CRUSCOTTO_TEXT("CAN bus");
    kind.hasWire = true;
    kind.looseOutputs = true;
    using Type = SettingInfo::Type;
    kind.settings = {
        {"address",
         CRUSCOTTO_TEXT("Interface or adapter"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("An interface of this computer, as in can0, or the port of an adapter that speaks slcan, as in "
                        "/dev/ttyACM0.")},
        {"bit-rate",
         CRUSCOTTO_TEXT("Bit rate"),
         Type::number,
         {"125000", "250000", "500000", "1000000"},
         "500000",
         CRUSCOTTO_TEXT(
             "That of the bus. For an interface of this computer it is set there, and said here for the load.")},
        {"listen-only",
         CRUSCOTTO_TEXT("Only listen"),
         Type::flag,
         {},
         "false",
         CRUSCOTTO_TEXT("The adapter then does not even acknowledge.")},
        {"database", CRUSCOTTO_TEXT("Bus description (DBC file)"), Type::text, {}, "", {}, ".dbc"},
        {"send",
         CRUSCOTTO_TEXT("Messages to send"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT("One a line: a message of the description, =, every SECONDS or on change. Its signals become "
                        "outputs; it goes out when "
                        "each has a value.")},
        {"heartbeat",
         CRUSCOTTO_TEXT("Sign of life"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("A frame sent again and again, for devices that put their outputs to rest without one, as in "
                        "701 = 05 every 0.1: identifier and bytes in hexadecimal.")},
        {"publish",
         CRUSCOTTO_TEXT("Readings to publish"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("Names of the bench's own signals, with commas between them. \"cruscotto dbc\" writes the "
                        "description for the others.")},
        {"publish-id",
         CRUSCOTTO_TEXT("First identifier of these"),
         Type::number,
         {},
         "1696",
         CRUSCOTTO_TEXT("Two readings a message; the others follow.")},
        {"publish-every-s", CRUSCOTTO_TEXT("Publish every, in s"), Type::number, {}, "0.1", {}},
        silenceSettingInfo(),
    };
    kind.terminals = canTerminals;
    kind.check = checkedBy<canSettings>;
    kind.publishes = [](const JsonText& json) {
        std::map<std::string, std::string> out;
        if (const auto settings = canSettings(json))
            for (const std::string& id : settings.value().publish) out[id] = publishPrefix + id;
        return out;
    };
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>&) -> std::unique_ptr<Device> {
        return makeCan(context, settingsBy<canSettings>(json));
    };
    return kind;
}

}  // namespace cruscotto
