#include "devices/serial/serial_settings.h"

#include <algorithm>

#include "devices/link/byte_link.h"
#include "devices/serial/serial_device.h"
#include "devices/settings_reader.h"

namespace cruscotto {

namespace {

std::vector<TerminalInfo> serialLineTerminals(const JsonText& json) {
    std::vector<TerminalInfo> out;
    const auto settings = serialLineSettings(json);
    if (!settings) return out;
    const LineFormat& format = settings.value().format;
    const auto add = [&](std::string name) {
        out.push_back({std::move(name), ChannelKind::analogInput, SampleType::float64, {}, 0});
    };
    if (format.kind == LineFormat::Kind::fixed)
        for (const auto& f : format.fields) add(f.name);
    if (format.kind == LineFormat::Kind::delimited)
        for (std::size_t i = 1; i <= format.fieldCount; ++i) add(std::to_string(i));
    for (const auto& [name, bytes] : settings.value().outputs)
        out.push_back({name, ChannelKind::analogOutput, SampleType::float64, {}, 0});
    return out;
}

}  // namespace

Result<SerialLineSettings> serialLineSettings(const JsonText& json) {
    SerialLineSettings out;
    SettingsReader settings(json);
    out.line.port = settings.word("port");
    if (out.line.port.empty())
        settings.fail(failure("\"port\" is missing: say which port the board is on, as in /dev/ttyACM0."));
    readLineSettings(settings, out.line, 0);
    out.silenceSeconds = settings.number("silence-s", 3, 0.1, 1e6);
    out.silenceIsFault = settings.flag("silence-is-fault");
    readTemplates(settings, out.ask, out.askSeconds, out.outputs);
    out.heartbeat = readHeartbeat(settings);
    out.stamp = settings.word("stamp");
    out.stampBits = settings.oneOf("stamp-bits", 32, {16, 32});
    out.stampSeconds = settings.number("stamp-unit-s", 0.001, 1e-7, 1);

    out.format.header = settings.word("header");
    out.format.separators = settings.word("separators", " ,\t;");
    constexpr LineFormat::Kind kinds[]{LineFormat::Kind::delimited, LineFormat::Kind::labelled,
                                       LineFormat::Kind::fixed};
    out.format.kind = kinds[settings.choice("lines", 0, {"delimited", "labelled", "fixed"})];
    if (out.format.kind == LineFormat::Kind::delimited) {
        out.format.fieldCount = static_cast<std::size_t>(settings.whole("field-count", 0, 0, 256));
        if (out.format.separators.empty()) return failure("\"separators\" must name at least one character.");
    } else if (out.format.kind == LineFormat::Kind::fixed) {
        const auto& j = settings.json();
        const auto it = j.find("fields");
        if (it == j.end() || !it->is_array() || it->empty() || it->size() > 256)
            return failure("Lines with fixed fields need \"fields\": a list of name, start, width and base.");
        for (const auto& f : *it) {
            const auto whole = [&](const char* key, double otherwise) {
                return f.is_object() && f.contains(key) && f[key].is_number() ? f[key].template get<double>()
                                                                              : otherwise;
            };
            const std::string name =
                f.is_object() && f.contains("name") && f["name"].is_string() ? f["name"].get<std::string>() : "";
            const double start = whole("start", -1), width = whole("width", 0), base = whole("base", 10);
            if (name.empty() || !(start >= 0 && start <= 1000) || !(width >= 1 && width <= 64) ||
                (base != 10 && base != 16) || (base == 16 && width > 16))
                return failure(
                    "Each of \"fields\" needs a name, a start of 0 or more, a width of 1 or more (hexadecimal: at most "
                    "16) and a base of 10 or 16.");
            out.format.fields.push_back({name, static_cast<std::size_t>(start), static_cast<std::size_t>(width),
                                         static_cast<int>(base),
                                         f.contains("signed") && f["signed"].is_boolean() && f["signed"].get<bool>()});
        }
    }
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

DeviceKind serialLineKind() {
    DeviceKind kind;
    kind.key = "serial-line-board";
    kind.hasWire = true;
    kind.looseOutputs = true;
    kind.title = CRUSCOTTO_TEXT("Board on a serial line that prints text");
    kind.name = CRUSCOTTO_TEXT("Serial board");
    using Type = SettingInfo::Type;
    kind.settings = {
        {"port",
         CRUSCOTTO_TEXT("Port"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("As in /dev/ttyACM0, or a stable name under /dev/serial/by-id.")},
        {"baud",
         CRUSCOTTO_TEXT("Speed in baud"),
         Type::number,
         {"9600", "19200", "38400", "57600", "115200", "230400", "1000000"},
         "115200",
         CRUSCOTTO_TEXT("Any number; it must be the one in the board's program. 0 finds it by listening.")},
        {"data-bits", CRUSCOTTO_TEXT("Data bits"), Type::number, {"5", "6", "7", "8"}, "8", {}},
        {"parity", CRUSCOTTO_TEXT("Parity"), Type::choice, {"none", "odd", "even"}, "none", {}},
        {"stop-bits", CRUSCOTTO_TEXT("Stop bits"), Type::number, {"1", "2"}, "1", {}},
        {"lines",
         CRUSCOTTO_TEXT("Lines are"),
         Type::choice,
         {"delimited", "labelled", "fixed"},
         "delimited",
         CRUSCOTTO_TEXT("Delimited: 31.4 34.8. Labelled: T=34.8. Fixed: fields of fixed width behind a header.")},
        {"header",
         CRUSCOTTO_TEXT("Header"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("What every line begins with; may be empty.")},
        {"field-count",
         CRUSCOTTO_TEXT("Numbers in a line"),
         Type::number,
         {},
         "0",
         CRUSCOTTO_TEXT("Delimited lines with another count are skipped; 0 takes any.")},
        {"silence-s", CRUSCOTTO_TEXT("Silent after, in s"), Type::number, {}, "3", {}},
        silenceSettingInfo(),
        {"stamp",
         CRUSCOTTO_TEXT("The board's own time is"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT(
             "The label of a number that counts time, or its place in the line, as in 1; samples then have the "
             "board's time. Empty: the time of arrival.")},
        {"stamp-unit-s", CRUSCOTTO_TEXT("It counts, in s"), Type::number, {"0.001", "0.000001"}, "0.001", {}},
        {"stamp-bits", CRUSCOTTO_TEXT("It has so many bits"), Type::number, {"16", "32"}, "32", {}},
    };
    for (SettingInfo& info : templateSettingInfos()) kind.settings.push_back(std::move(info));
    kind.terminals = serialLineTerminals;
    kind.check = checkedBy<serialLineSettings>;
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>&) -> std::unique_ptr<Device> {
        return makeSerialLine(context, settingsBy<serialLineSettings>(json));
    };
    return kind;
}

}  // namespace cruscotto
