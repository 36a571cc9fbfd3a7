#pragma once

#include <map>

#include "devices/device_kind.h"

namespace cruscotto {

/// The kind "gpio-lines": lines of this computer or its board, by the kernel's GPIO character device (uAPI v2,
/// linux/gpio.h): inputs with the time of each edge as the kernel took it, and outputs.
DeviceKind gpioKind();

struct GpioLine {
    std::string name;
    unsigned offset = 0;  ///< its number on the chip
    bool out = false;
    bool activeLow = false;
    enum class Bias { asIs, pullUp, pullDown, none } bias = Bias::asIs;
    bool openDrain = false;
    double debounceSeconds = 0;
    bool operator==(const GpioLine&) const = default;
};
/// Reads "17", "17 in pull-up active-low debounce 0.005", "27 out open-drain".
Result<GpioLine> gpioLine(const std::string& name, const std::string& words);

/// What can be set at such a line, where its words say what holds otherwise; and the line as a bench sets it up.
std::vector<TerminalSetting> gpioLineSettings(const GpioLine& line);
GpioLine setUp(GpioLine line, const TerminalSetup& setup);
Text gpioLineSentence(const GpioLine& line);

inline constexpr std::size_t mostGpioLines = 64;  ///< that the kernel hands out together
struct GpioSettings {
    std::string chip = "/dev/gpiochip0";
    std::vector<GpioLine> lines;
};
Result<GpioSettings> gpioSettings(const JsonText& json);

}  // namespace cruscotto
