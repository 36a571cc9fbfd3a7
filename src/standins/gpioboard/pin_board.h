#pragma once

#include <array>
#include <atomic>
#include <cstdint>

#include "standins/fault.h"
#include "standins/stand_in_host.h"

namespace cruscotto {

/// What can be made to go wrong with the board. Any thread.
struct PinBoardFaults {
    std::atomic<bool> silent{false};
    std::atomic<bool> old{false};      ///< it says that it speaks 2.2
    std::atomic<bool> earlier{false};  ///< it speaks 2.3: no message for a single pin, no pull-ups
    std::atomic<bool> endless{false};  ///< a message that does not end
    std::atomic<bool> garbage{false};
    std::vector<Fault> named();
};

/// A small board with twenty pins and the Firmata firmware (2.5): 2 to 13 digital, with pull-ups, some of them PWM or
/// servo; 14 to 19 are the analog inputs A0 to A5 with 10 bits; on its I2C bus a thermometer at 0x48 whose register 0
/// is the temperature in 1/256 degC, most significant byte first.
class PinBoard {
public:
    StandInHost::Begin begin();
    PinBoardFaults faults;
    /// What pins have been set to, by mode, value and pull-up.
    std::array<std::atomic<int>, 20> mode{}, level{};
    /// System resets that it was sent, and what pins stood at when the last of them came; since then all are 0.
    std::atomic<int> resets{0};
    std::array<std::atomic<int>, 20> beforeReset{};
    /// Closed switches on digital inputs, to ground where a pull-up is.
    std::array<std::atomic<bool>, 20> pressed{};
    std::atomic<int> samplingMs{19};
    static int analog(int channel, std::uint64_t n);
};

}  // namespace cruscotto
