#pragma once

#include <array>
#include <atomic>
#include <chrono>
#include <cstdint>
#include <map>
#include <string>

#include "core/base/guarded.h"
#include "standins/fault.h"
#include "standins/stand_in_host.h"

namespace cruscotto {

/// What can be made to go wrong with the master. Any thread.
struct MasterFaults {
    std::atomic<bool> silent{false};       ///< takes requests and says nothing
    std::atomic<bool> notHttp{false};      ///< says something else
    std::atomic<bool> giant{false};        ///< promises a reply of a gigabyte, and begins to send it
    std::atomic<bool> strange{false};      ///< JSON of another kind
    std::atomic<bool> pulled{false};       ///< the level sensor's cable
    std::atomic<bool> valvePulled{false};  ///< the valve's
    std::atomic<bool> invalid{false};      ///< the level sensor says that its values are not valid
    std::atomic<bool> slowDrip{false};     ///< a byte every tenth of a second
    std::vector<Fault> named();
};

/// A master with two smart sensors in the cold store, as the JSON integration of IO-Link has it (paths under
/// /iolink/v1): "level", which measures the brine's level and temperature and has two switching outputs with set
/// points of its own; "valve", which is opened by its process data out. Their descriptions are in examples/iodd.
class SensorMaster {
public:
    StandInHost::Begin begin();
    MasterFaults faults;

    [[nodiscard]] bool valveOpen() const { return valve_; }
    /// 0.1 degC, as it is sent.
    [[nodiscard]] static int temperature(double seconds);
    /// mm
    [[nodiscard]] static unsigned level(double seconds);
    /// What stands at an index and subindex of the level sensor.
    [[nodiscard]] int parameter(int index, int subindex) const;
    void setParameter(int index, int subindex, int value);
    [[nodiscard]] std::uint64_t requests() const { return requests_; }

private:
    friend class MasterTalk;
    /// The reply's status and JSON.
    std::pair<int, std::string> answer(const std::string& method, const std::string& path, const std::string& body);
    std::pair<int, std::string> levelSensor(const std::string& method, const std::string& rest,
                                            const std::string& body);
    std::pair<int, std::string> valve(const std::string& method, const std::string& rest, const std::string& body);

    const std::chrono::steady_clock::time_point began_ = std::chrono::steady_clock::now();
    std::atomic<std::uint64_t> requests_{0};
    std::atomic<bool> valve_{false};
    mutable Mutex mutex_;
    std::map<std::pair<int, int>, int> parameters_ GUARDED_BY(mutex_){
        {{60, 1}, 600}, {{60, 2}, 450}, {{61, 1}, 0}, {{80, 0}, 2}};
    std::string tag_ GUARDED_BY(mutex_) = "brine";
    std::chrono::steady_clock::time_point awayUntil_ GUARDED_BY(mutex_){};
};

}  // namespace cruscotto
