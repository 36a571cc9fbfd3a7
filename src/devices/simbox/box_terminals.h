#pragma once

#include <array>

#include "devices/device_status.h"
#include "devices/terminal_setup.h"

/// The terminals of the simulated box, what can be set at each, and the rules of that.
namespace cruscotto::simbox {

inline constexpr std::array analogNames{"AI0", "AI1", "AI2", "AI3", "AI4", "AI5", "AI6", "AI7", "CJ"};
inline constexpr std::size_t pairedInputs = 8;  ///< AI0 with AI1, and so on; CJ is the box's own sensor
inline constexpr std::array counterNames{"CTR0", "CTR1"};
inline constexpr std::array inputNames{"DI0", "DI1", "DI2", "DI3"};
inline constexpr std::array outputNames{"AO0", "DO0", "DO1", "DO2", "DO3"};
inline constexpr double supplyVolts = 5;  ///< that loads and pull-ups go to

struct AnalogSetup {
    Scale range{-10, 10};
    bool differential = false;  ///< less the other half of the pair, which is then taken
    enum class Load { none, up, down } load = Load::none;
    double loadOhms = 0;  ///< as achieved
    double excitationAmps = 0;
};
struct DigitalSetup {
    bool inverted = false, pullUp = true;
    double filterSeconds = 0;
};
struct CounterSetup {
    bool falling = false, quadrature = false;
};
struct BoxSetup {
    std::array<AnalogSetup, analogNames.size()> analog{};
    std::array<DigitalSetup, inputNames.size()> digital{};
    std::array<CounterSetup, counterNames.size()> counter{};
};

/// The nearest resistance that the load's network of 256 steps achieves.
double nearestLoad(double ohms);

BoxSetup boxSetup(const std::vector<TerminalRequest>& all);
std::vector<TerminalInfo> boxTerminals();
std::vector<TerminalSetting> boxSettings(const std::string& terminal, const std::vector<TerminalRequest>& all);
/// Those that it has as it is set up, in volts.
std::vector<Scale> boxRanges(const std::string& terminal, const std::vector<TerminalRequest>& all);
/// What the terminal is set to.
Text boxSentence(const std::string& terminal, const std::vector<TerminalRequest>& all);

}  // namespace cruscotto::simbox
