#include "devices/gpio/gpio_settings.h"

#include <linux/gpio.h>

#include <algorithm>
#include <array>
#include <sstream>

#include "core/base/number_text.h"
#include "core/base/parsed.h"
#include "devices/gpio/gpio_device.h"
#include "devices/settings_reader.h"

namespace cruscotto {

namespace {

static_assert(mostGpioLines == GPIO_V2_LINES_MAX);
constexpr std::array biasKeys{"as-is", "up", "down", "none"};  // in the order of GpioLine::Bias

TerminalSetting biasSetting(const GpioLine& line) {
    return {"pull",
            CRUSCOTTO_TEXT("Pull"),
            {{biasKeys[0], CRUSCOTTO_TEXT("as the board has it")},
             {biasKeys[1], CRUSCOTTO_TEXT("up")},
             {biasKeys[2], CRUSCOTTO_TEXT("down")},
             {biasKeys[3], CRUSCOTTO_TEXT("none")}},
            biasKeys[static_cast<std::size_t>(line.bias)]};
}
TerminalSetting activeSetting(const GpioLine& line) {
    return {"on-is",
            CRUSCOTTO_TEXT("On is"),
            {{"high", CRUSCOTTO_TEXT("high")}, {"low", CRUSCOTTO_TEXT("low")}},
            line.activeLow ? "low" : "high"};
}
TerminalSetting debounceSetting(const GpioLine& line) {
    TerminalSetting s{"debounce", CRUSCOTTO_TEXT("De-bounced over")};
    s.number = line.debounceSeconds * 1e3;
    s.high = 10'000;
    s.unit = "ms";
    return s;
}
TerminalSetting driveSetting(const GpioLine& line) {
    return {"drive",
            CRUSCOTTO_TEXT("Drives"),
            {{"both", CRUSCOTTO_TEXT("up and down")}, {"open-drain", CRUSCOTTO_TEXT("down only (open drain)")}},
            line.openDrain ? "open-drain" : "both"};
}

/// The line, if there is one of that name.
std::optional<GpioLine> lineOf(const JsonText& json, const std::string& terminal) {
    const auto settings = gpioSettings(json);
    if (!settings) return {};
    const auto line = std::ranges::find(settings.value().lines, terminal, &GpioLine::name);
    return line == settings.value().lines.end() ? std::optional<GpioLine>() : *line;
}

}  // namespace

std::vector<TerminalSetting> gpioLineSettings(const GpioLine& line) {
    if (line.out) return {activeSetting(line), driveSetting(line)};
    return {biasSetting(line), activeSetting(line), debounceSetting(line)};
}

GpioLine setUp(GpioLine line, const TerminalSetup& setup) {
    const GpioLine as = line;
    line.activeLow = chosen(setup, activeSetting(as)) == "low";
    if (line.out) {
        line.openDrain = chosen(setup, driveSetting(as)) == "open-drain";
        return line;
    }
    const auto bias = std::ranges::find(biasKeys, chosen(setup, biasSetting(as)));
    if (bias != biasKeys.end()) line.bias = static_cast<GpioLine::Bias>(bias - biasKeys.begin());
    line.debounceSeconds = numberSet(setup, debounceSetting(as)) / 1e3;
    return line;
}

Text gpioLineSentence(const GpioLine& line) {
    const Text active = line.activeLow ? CRUSCOTTO_TEXT("low") : CRUSCOTTO_TEXT("high");
    if (line.out)
        return line.openDrain
                   ? text(CRUSCOTTO_TEXT("Line {0} as an output that only pulls down; on is {1}."), line.offset,
                          active.english())
                   : text(CRUSCOTTO_TEXT("Line {0} as an output; on is {1}."), line.offset, active.english());
    const Text held[]{CRUSCOTTO_TEXT("that is held as the board has it"), CRUSCOTTO_TEXT("that is pulled up"),
                      CRUSCOTTO_TEXT("that is pulled down"), CRUSCOTTO_TEXT("that nothing holds")};
    const Text& bias = held[static_cast<std::size_t>(line.bias)];
    return line.debounceSeconds > 0
               ? text(CRUSCOTTO_TEXT("Line {0} as an input {1}; on is {2}, once it has stood still for {3} ms."),
                      line.offset, bias.english(), active.english(), shortNumber(line.debounceSeconds * 1e3))
               : text(CRUSCOTTO_TEXT("Line {0} as an input {1}; on is {2}."), line.offset, bias.english(),
                      active.english());
}

Result<GpioLine> gpioLine(const std::string& name, const std::string& words) {
    GpioLine out;
    out.name = name;
    std::istringstream in(words);
    std::string word;
    in >> word;
    if (name.empty() || !parsed(word, out.offset))
        return failure("\"{0}\" needs the number of its line, as in 17 in pull-up.", name);
    while (in >> word) {
        if (word == "in" || word == "out")
            out.out = word == "out";
        else if (word == "active-low")
            out.activeLow = true;
        else if (word == "open-drain")
            out.openDrain = true;
        else if (word == "pull-up")
            out.bias = GpioLine::Bias::pullUp;
        else if (word == "pull-down")
            out.bias = GpioLine::Bias::pullDown;
        else if (word == "no-pull")
            out.bias = GpioLine::Bias::none;
        else if (word == "debounce" && in >> out.debounceSeconds && out.debounceSeconds >= 1e-6 &&
                 out.debounceSeconds <= 10)
            continue;
        else
            return failure(
                "\"{0}\": \"{1}\" is not understood. Behind the number may stand: in, out, pull-up, pull-down, "
                "no-pull, active-low, open-drain, debounce SECONDS.",
                name, word);
    }
    if (out.openDrain && !out.out) return failure("\"{0}\": only an output is open-drain.", name);
    if (out.debounceSeconds > 0 && out.out) return failure("\"{0}\": only an input is debounced.", name);
    return out;
}

Result<GpioSettings> gpioSettings(const JsonText& json) {
    GpioSettings out;
    SettingsReader settings(json);
    out.chip = settings.word("chip", out.chip.c_str());
    if (out.chip.empty()) return failure("\"chip\" must be a GPIO chip, as in /dev/gpiochip0.");
    for (const auto& [name, words] : settings.pairs("lines", mostGpioLines)) {
        auto line = gpioLine(name, words);
        if (!line) return line.error();
        if (std::ranges::find(out.lines, line.value().offset, &GpioLine::offset) != out.lines.end())
            return failure("Line {0} is there twice.", line.value().offset);
        out.lines.push_back(std::move(line.value()));
    }
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

DeviceKind gpioKind() {
    DeviceKind kind;
    kind.key = "gpio-lines";
    kind.title = CRUSCOTTO_TEXT("Lines of this computer's board (GPIO)");
    kind.name = CRUSCOTTO_TEXT("Board lines");
    using Type = SettingInfo::Type;
    kind.settings = {
        {"chip", CRUSCOTTO_TEXT("Chip"), Type::text, {}, "/dev/gpiochip0", {}},
        {"lines",
         CRUSCOTTO_TEXT("Lines"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT("One a line: a name, =, and its number, as in door = 17 in pull-up active-low debounce 0.005; "
                        "lamp = 27 out.")},
    };
    kind.terminals = [](const JsonText& json) {
        std::vector<TerminalInfo> out;
        const auto settings = gpioSettings(json);
        if (!settings) return out;
        for (const GpioLine& l : settings.value().lines) {
            TerminalInfo info{l.name};
            info.kind = l.out ? ChannelKind::digitalOutput : ChannelKind::digitalInput;
            info.type = SampleType::bit;
            out.push_back(std::move(info));
        }
        return out;
    };
    kind.check = checkedBy<gpioSettings>;
    kind.setup = [](const JsonText& json, const std::string& terminal, const std::vector<TerminalRequest>&) {
        const auto line = lineOf(json, terminal);
        return line ? gpioLineSettings(*line) : std::vector<TerminalSetting>{};
    };
    kind.setupSentence = [](const JsonText& json, const std::string& terminal,
                            const std::vector<TerminalRequest>& all) -> Text {
        const auto line = lineOf(json, terminal);
        const auto asked = std::ranges::find(all, terminal, &TerminalRequest::terminal);
        return line ? gpioLineSentence(asked == all.end() ? *line : setUp(*line, asked->setup)) : Text{};
    };
    kind.make = [](const DeviceContext& context, const JsonText& json, const std::vector<TerminalRequest>& requests) {
        auto settings = gpioSettings(json);
        if (settings)
            for (const TerminalRequest& r : requests) {
                auto& lines = settings.value().lines;
                if (const auto l = std::ranges::find(lines, r.terminal, &GpioLine::name); l != lines.end())
                    *l = setUp(*l, r.setup);
            }
        return makeGpio(context, settings ? std::move(settings.value()) : GpioSettings{}, KernelCalls::system());
    };
    return kind;
}

}  // namespace cruscotto
