#pragma once

#include <atomic>
#include <condition_variable>
#include <memory>
#include <mutex>
#include <string>
#include <thread>

#include "core/base/result.h"
#include "standins/fault.h"

namespace cruscotto {

/// What can be made to go wrong. Any thread.
struct CabinetFaults {
    std::atomic<bool> forbidden{false};   ///< lines and counters may not be opened by this account
    std::atomic<bool> busy{false};        ///< another program has them
    std::atomic<bool> mute{false};        ///< they are opened, and nothing is answered
    std::atomic<bool> still{false};       ///< the trigger of the fast inputs does not fire
    std::atomic<bool> asleep{false};      ///< the processor's temperature cannot be read
    std::atomic<bool> hurried{false};     ///< three edges in a row come too fast to be fetched, every second
    std::atomic<bool> edgeless{false};    ///< the chip can tell of no edges
    std::atomic<bool> unreadable{false};  ///< counts cannot be read when something happens
    std::vector<Fault> named();
};

/// The small computer in the pump bench's cabinet, as Linux shows one: a tree with what is in /sys and /dev.
/// hwmon "cabinet": temperatures of the processor and the air, a fan, the supply. IIO "adc": voltage0 is the outlet
/// pressure (0.5 V and 1 V a bar; 12 bits, 3.3 V), voltage1 the vibration, read one at a time or through a buffer
/// with the trigger "timer". Counter "pulses": count 0 of the flow's pulses, count 1 of the shaft's turns. A GPIO chip
/// of eight lines: guard-door, shaft-mark, lamp-seen, stop-chain, lamp, pump, one that the kernel itself uses, and one
/// without a name. Lines and counters are local sockets on which requests are answered as the kernel would
/// (linux/gpio.h, linux/counter.h); the fast input is a pipe. Has a thread of its own. Any thread.
class CabinetComputer {
public:
    /// `folder` must not be there, or be empty. What is made in it is taken away in the end.
    static Result<std::unique_ptr<CabinetComputer>> open(const std::string& folder);
    ~CabinetComputer();
    CabinetComputer(const CabinetComputer&) = delete;
    CabinetComputer& operator=(const CabinetComputer&) = delete;

    [[nodiscard]] const std::string& folder() const { return folder_; }
    CabinetFaults faults;
    /// As if the module of all that was unloaded, and loaded again: returns when it is so.
    void unplug();
    void plug();

    struct State {
        bool lamp = false, pump = true;
        double turnsPerSecond = 0;
        double processor = 45;  ///< degC
        double outletBar = 0;
        std::uint32_t flowPulses = 0, turns = 0;
        std::uint64_t scans = 0;  ///< that were taken by the buffer
    };
    [[nodiscard]] State state() const;

    /// What the converter says of so many bar.
    static int pressureCounts(double bar);

private:
    explicit CabinetComputer(std::string folder);
    void work(const std::stop_token& stop);
    class Machine;

    const std::string folder_;
    mutable std::mutex mutex_;
    std::condition_variable_any changed_;
    State state_;
    bool wanted_ = true, there_ = false;
    std::jthread thread_;
};

}  // namespace cruscotto
