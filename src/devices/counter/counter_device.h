#pragma once

#include <cstdint>

#include "devices/device_kind.h"
#include "devices/link/kernel_calls.h"

namespace cruscotto {

/// The kind "counter-events": a hardware counter of this computer or its board, by the kernel's counter character
/// device (linux/counter.h, since Linux 5.16): what a count or a signal stands at when something happens, with the time
/// at which the kernel took it. Counts at times of one's own choice are read by the kind "computer".
DeviceKind counterEventsKind();

/// What is read, and when.
struct CounterWatch {
    std::string name;
    bool ofSignal = false;  ///< else of a count
    std::uint8_t number = 0;
    std::uint8_t event = 0;  ///< of enum counter_event_type
    std::uint8_t channel = 0;
    bool operator==(const CounterWatch&) const = default;
};
/// Reads "count 0 on index", "signal 1 on change", "count 0 on threshold channel 2". Events: overflow, underflow,
/// turn-over (either of them), threshold, index, change, capture.
Result<CounterWatch> counterWatch(const std::string& name, const std::string& words);

struct CounterEventsSettings {
    std::string device = "/dev/counter0";
    std::vector<CounterWatch> watches;
};
Result<CounterEventsSettings> counterEventsSettings(const JsonText& json);

std::unique_ptr<Device> makeCounterEvents(const DeviceContext& context, CounterEventsSettings settings,
                                          KernelCalls calls);

}  // namespace cruscotto
