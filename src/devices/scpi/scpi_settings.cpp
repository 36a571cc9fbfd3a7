#include "devices/scpi/scpi_settings.h"

#include <algorithm>

#include "core/chain/common_stages.h"
#include "devices/link/byte_template.h"
#include "devices/scpi/scpi_device.h"
#include "devices/settings_reader.h"

namespace cruscotto {

namespace {

constexpr const char *valuesMark = "{values}", *secondsMark = "{seconds}";

/// Messages with | between them; none of them a query, whose answer would be in the way.
Result<std::vector<std::string>> messagesIn(const std::string& words, const char* setting) {
    std::vector<std::string> out;
    for (std::size_t at = 0; at < words.size();) {
        const std::size_t bar = std::min(words.find('|', at), words.size());
        std::string line = words.substr(at, bar - at);
        line.erase(0, std::min(line.find_first_not_of(' '), line.size()));
        line.erase(line.find_last_not_of(' ') + 1);
        if (line.find('?') != std::string::npos)
            return failure("\"{0}\" takes commands; a query's answer would be in the way.", setting);
        if (!line.empty()) out.push_back(line);
        at = bar + 1;
    }
    return out;
}

std::vector<TerminalInfo> scpiTerminals(const JsonText& json) {
    std::vector<TerminalInfo> out;
    const auto settings = scpiSettings(json);
    if (!settings) return out;
    for (const ScpiQuery& q : settings.value().queries)
        for (const std::string& terminal : q.terminals())
            out.push_back(
                {terminal, ChannelKind::analogInput, SampleType::float64, {}, 0, {}, {slopeOffset(1, 0, "1")}});
    for (const auto& [name, bytes] : settings.value().outputs)
        out.push_back({name, ChannelKind::analogOutput, SampleType::float64});
    return out;
}

}  // namespace

std::vector<std::string> listMessages(std::vector<std::string> messages, const PlayedList& list) {
    std::vector<std::string> values, dwells;
    for (const auto& [value, stays] : list) {
        values.push_back(fmt::format("{:.7g}", value));
        dwells.push_back(fmt::format("{:.6g}", stays));
    }
    for (std::string& message : messages)
        for (const auto& [mark, words] : {std::pair{valuesMark, &values}, std::pair{secondsMark, &dwells}})
            if (const auto at = message.find(mark); at != std::string::npos)
                message.replace(at, std::string_view(mark).size(), fmt::format("{}", fmt::join(*words, ",")));
    return messages;
}

Result<ScpiSettings> scpiSettings(const JsonText& json) {
    ScpiSettings out;
    SettingsReader settings(json);
    auto address = linkAddress(settings.word("address"), 5025);
    if (!address) return address.error();
    out.address = std::move(address.value());
    out.address.line.baud = 9600;
    out.address.line.replayAnswers = true;
    readLineSettings(settings, out.address.line);
    const double every = settings.number("every-s", 1, 0.001, 86400);
    out.timeoutSeconds = settings.number("timeout-s", 2, 0.01, 600);
    out.end = settings.choice("line-end", 0, {"line feed", "carriage return"}) == 0 ? '\n' : '\r';
    std::set<std::string> names;
    for (const auto& [name, words] : settings.pairs("queries", 256)) {
        auto query = scpiQuery(name, words);
        if (!query) return query.error();
        if (query.value().everySeconds == 0) query.value().everySeconds = every;
        for (const std::string& terminal : query.value().terminals())
            if (!names.insert(terminal).second) return failure("\"{0}\" is there twice.", terminal);
        out.queries.push_back(std::move(query.value()));
    }
    out.outputs = settings.pairs("outputs", 64);
    for (const auto& [name, bytes] : out.outputs)
        if (auto checked = checkByteTemplate(bytes); !checked)
            return failure("The output \"{0}\" cannot be sent. {1}", name, checked.error().english());
    auto setup = messagesIn(settings.word("setup"), "setup");
    if (!setup) return setup.error();
    out.setup = std::move(setup.value());
    for (const auto& [key, into] : {std::pair{"lists", &out.lists}, std::pair{"list-ends", &out.listEnds}})
        for (const auto& [name, words] : settings.pairs(key, 64)) {
            if (!out.outputs.contains(name))
                return failure("\"{0}\" names the output \"{1}\", which there is not.", key, name);
            auto messages = messagesIn(words, key);
            if (!messages) return messages.error();
            (*into)[name] = std::move(messages.value());
        }
    for (const auto& [name, messages] : out.lists)
        for (const char* mark : {valuesMark, secondsMark})
            if (std::ranges::none_of(messages, [&](const auto& m) { return m.find(mark) != std::string::npos; }))
                return failure("The list of \"{0}\" has no {1} in it.", name, mark);
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

DeviceKind scpiKind() {
    DeviceKind kind;
    kind.key = "scpi";
    kind.title = CRUSCOTTO_TEXT("Instrument that is asked in words (SCPI)");
    kind.name = CRUSCOTTO_TEXT("Instrument");
    kind.hasWire = true;
    kind.looseOutputs = true;
    using Type = SettingInfo::Type;
    kind.rateKey = "every-s";
    kind.settings = {
        {"address",
         CRUSCOTTO_TEXT("Host or serial port"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("As in 192.0.2.7 (port 5025), 192.0.2.7:1024 or /dev/ttyUSB0.")},
        {"queries",
         CRUSCOTTO_TEXT("Questions"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT("One a line: a name, =, the query. As in supply = MEAS:VOLT?, scan = READ? (@101:104) every 5, "
                        "two = FETC? "
                        "list 2, wave = CURV? block i16 step 1e-6.")},
        {"outputs",
         CRUSCOTTO_TEXT("Outputs"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT("One a line: a name, =, the command with the value in it, as in level = VOLT {value:3}.")},
        {"lists",
         CRUSCOTTO_TEXT("Outputs that play lists by themselves"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT(
             "One a line: the output's name, =, commands with | between them, as in level = LIST:VOLT {values} | "
             "LIST:DWEL {seconds} | VOLT:MODE LIST | INIT.")},
        {"list-ends",
         CRUSCOTTO_TEXT("What ends a list"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT("Sent before the output's next single value, as in level = ABOR | VOLT:MODE FIX.")},
        {"setup",
         CRUSCOTTO_TEXT("Sent once at the beginning"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("Commands, with | between them, as in *RST | CONF:VOLT:DC 10.")},
        {"every-s", CRUSCOTTO_TEXT("Ask every, in s"), Type::number, {}, "1", {}},
        {"timeout-s", CRUSCOTTO_TEXT("Wait for an answer, in s"), Type::number, {}, "2", {}},
        {"line-end",
         CRUSCOTTO_TEXT("A message ends with"),
         Type::choice,
         {"line feed", "carriage return"},
         "line feed",
         {}},
        {"baud",
         CRUSCOTTO_TEXT("Speed in baud"),
         Type::number,
         {"9600", "19200", "38400", "57600", "115200"},
         "9600",
         {}},
    };
    for (SettingInfo s : lineSettingInfos()) kind.settings.push_back(std::move(s));
    kind.terminals = scpiTerminals;
    kind.commands = [](const JsonText& json) {
        const auto settings = scpiSettings(json);
        return settings && !settings.value().setup.empty();
    };
    kind.check = checkedBy<scpiSettings>;
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>&) -> std::unique_ptr<Device> {
        return makeScpi(context, settingsBy<scpiSettings>(json));
    };
    return kind;
}

}  // namespace cruscotto
