#pragma once

#include <memory>
#include <string>
#include <thread>
#include <vector>

#include "devices/device_kind.h"

namespace cruscotto {

/// Runs a device before it is in a bench, to tell what is there: how it stands with its link, what it calls itself,
/// which channels it has and what they read. No terminal is asked for and no output is set: drivers only read then.
/// What the driver proposes to change in its settings is tried, a few times.
class DeviceTrial {
public:
    struct Channel {
        TerminalInfo info;
        std::string reading;  ///< the newest, for a person, with its unit; empty: none came yet
        bool operator==(const Channel&) const = default;
    };
    struct State {
        JsonText settings;  ///< as they are tried now
        LinkState link = LinkState::starting;
        Text sentence;
        std::vector<DeviceStatus::Part> parts;
        std::vector<Channel> channels;  ///< in the order in which the device has them
        bool operator==(const State&) const = default;
    };
    /// Precondition: the kind's check() of the settings was fine. The kind must live longer.
    DeviceTrial(const DeviceKind& kind, const JsonText& settings);
    ~DeviceTrial();
    DeviceTrial(const DeviceTrial&) = delete;
    DeviceTrial& operator=(const DeviceTrial&) = delete;
    /// Any thread.
    [[nodiscard]] State state() const;

private:
    class Sink;
    void run(const std::stop_token& stop);
    const DeviceKind& kind_;
    const std::unique_ptr<Sink> sink_;
    std::jthread thread_;  // last: it uses the others
};

}  // namespace cruscotto
