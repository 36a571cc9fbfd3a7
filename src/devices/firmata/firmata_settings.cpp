#include "devices/firmata/firmata_settings.h"

#include <algorithm>

#include "devices/firmata/firmata_device.h"
#include "devices/firmata/firmata_text.h"
#include "devices/settings_reader.h"

namespace cruscotto {

Result<FirmataSettings> firmataSettings(const JsonText& json) {
    FirmataSettings out;
    SettingsReader settings(json);
    auto address = linkAddress(settings.word("address"), 3030);
    if (!address) return address.error();
    out.address = std::move(address.value());
    out.address.line.baud = 57600;
    readLineSettings(settings, out.address.line);
    out.samplingMs = settings.whole("sampling-ms", 20, 1, 16383);
    out.resetAtEnd = settings.flag("reset-at-end");
    out.registersEvery = settings.number("registers-every-s", 0.1, 0.001, 86400);
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

TerminalSetting pullUpSetting() {
    return {
        "pull-up", CRUSCOTTO_TEXT("Pull-up"), {{"off", CRUSCOTTO_TEXT("off")}, {"on", CRUSCOTTO_TEXT("on")}}, "off"};
}

DeviceKind firmataKind() {
    DeviceKind kind;
    kind.key = "firmata";
    kind.title = CRUSCOTTO_TEXT("Board with the Firmata firmware");
    kind.name = CRUSCOTTO_TEXT("Firmata board");
    kind.hasWire = true;
    kind.choices = true;
    using Type = SettingInfo::Type;
    kind.rateKey = "sampling-ms";
    kind.settings = {
        {"address",
         CRUSCOTTO_TEXT("Serial port or host"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("As in /dev/ttyACM0, or 192.0.2.7:3030.")},
        {"baud", CRUSCOTTO_TEXT("Speed in baud"), Type::number, {"57600", "115200"}, "57600", {}},
        {"sampling-ms", CRUSCOTTO_TEXT("Sample analog inputs every, in ms"), Type::number, {}, "20", {}},
        {"registers-every-s",
         CRUSCOTTO_TEXT("Read I2C registers every, in s"),
         Type::number,
         {},
         "0.1",
         CRUSCOTTO_TEXT("A register is a terminal named as in: i2c 0x48 reg 0 i16be")},
        {"reset-at-end",
         CRUSCOTTO_TEXT("Reset the board at the end"),
         Type::flag,
         {},
         "false",
         CRUSCOTTO_TEXT("Behind the safe values, so that its pins are as after power-up instead of held.")},
    };
    kind.terminals = [](const JsonText&) { return std::vector<TerminalInfo>{}; };
    kind.setup = [](const JsonText&, const std::string& terminal, const std::vector<TerminalRequest>&) {
        const auto t = firmata::terminal(terminal);
        return t && t->mode == firmata::input ? std::vector{pullUpSetting()} : std::vector<TerminalSetting>{};
    };
    kind.setupSentence = [](const JsonText&, const std::string& terminal,
                            const std::vector<TerminalRequest>& all) -> Text {
        const auto t = firmata::terminal(terminal);
        const auto asked = std::ranges::find(all, terminal, &TerminalRequest::terminal);
        if (!t || t->mode != firmata::input || asked == all.end()) return {};
        return chosen(asked->setup, pullUpSetting()) == "on"
                   ? text(CRUSCOTTO_TEXT("Pin {0} as an input that the board holds high while nothing pulls it down."),
                          t->number)
                   : text(CRUSCOTTO_TEXT("Pin {0} as an input that nothing holds."), t->number);
    };
    kind.check = checkedBy<firmataSettings>;
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>& requests) -> std::unique_ptr<Device> {
        return makeFirmata(context, settingsBy<firmataSettings>(json), requests);
    };
    return kind;
}

}  // namespace cruscotto
