#pragma once

#include <atomic>
#include <cstdint>
#include <deque>
#include <string>

#include "core/base/guarded.h"
#include "standins/fault.h"
#include "standins/stand_in_host.h"

namespace cruscotto {

/// What can be made to go wrong with the bus. Any thread.
struct PumpBusFaults {
    std::atomic<bool> quiet{false};
    std::atomic<bool> garbage{false};    ///< what comes is no frame
    std::atomic<bool> shortened{false};  ///< frames with a byte too few
    std::atomic<bool> endless{false};    ///< a line that does not end
    std::vector<Fault> named();
};

/// A CAN bus with the pump's controller on it, seen through a serial adapter that speaks the text protocol (slcan).
/// Nothing comes before it is opened ("O" or "L"). Messages, as examples/pump-bus.dbc has them:
/// 0x100 every 10 ms: shaft speed (0.25 rpm, big endian), motor current (0.01 A, signed), running (a bit), state;
/// 0x18FF5001 every 20 ms: temperatures that take turns (of motor, bearing, inverter), 0.1 degC;
/// 0x200 every 50 ms: vibration as a float. 0x300 is taken: the speed that is asked for.
class PumpBus {
public:
    explicit PumpBus(double rate = 1) : rate_(rate) {}
    StandInHost::Begin begin();
    PumpBusFaults faults;
    /// What the adapter has been told, without line ends, oldest first.
    [[nodiscard]] std::vector<std::string> told() const;
    /// 0 half a second after the last sign of life, 0x701 with the byte 05, where there was one.
    [[nodiscard]] double askedSpeed() const;
    [[nodiscard]] std::uint64_t sent() const { return sent_; }
    /// The values that the n-th frame of each message carries.
    static double speed(std::uint64_t n);
    static double current(std::uint64_t n);
    static double temperature(std::uint64_t n);
    static float vibration(std::uint64_t n);

private:
    friend class PumpBusTalk;
    const double rate_;  // times as fast
    std::atomic<double> askedSpeed_{0};
    std::atomic<std::int64_t> beatNs_{0};  // steady clock; 0: there was none
    std::atomic<std::uint64_t> sent_{0};
    mutable Mutex mutex_;
    std::deque<std::string> told_ GUARDED_BY(mutex_);
};

}  // namespace cruscotto
