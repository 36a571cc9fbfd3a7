#pragma once

#include <condition_variable>
#include <map>
#include <optional>
#include <thread>

#include "core/base/guarded.h"
#include "devices/discovery/discovery.h"
#include "devices/discovery/host_scan.h"
#include "devices/discovery/kernel_inputs.h"

namespace cruscotto {

/// Looks again and again, on a thread of its own, which serial ports and inputs of the kernel are attached; and listens
/// to one that is asked for, at one speed after the other, to tell what is there before it is added. Sends nothing. Any
/// thread.
class PortScout {
public:
    struct Heard {
        std::optional<unsigned> baud;  ///< at which what came makes sense
        std::string line;              ///< the last whole line of it
        bool labelled = false;         ///< its lines are names with numbers
        Text sentence;                 ///< what was heard, or what to check
        bool bytesNoText = false;      ///< something came, and at no speed was it text
        bool operator==(const Heard&) const = default;
    };
    struct State {
        bool looked = false;  ///< at least once
        std::vector<FoundPort> ports;
        std::string listening;  ///< the port that is listened to now; empty: none
        std::size_t tried = 0, speeds = 0;
        std::map<std::string, Heard> heard;  ///< by the port's path
        std::vector<FoundInput> inputs;
        struct Hosts {
            bool going = false;
            std::uint64_t done = 0, all = 0;
            std::uint16_t port = 0;
            HostQuestion question = HostQuestion::nothing;
            HostScan result;  ///< of the last one that came to its end or was stopped
            Text sentence;    ///< how that went, or what is wrong with what was typed
            bool operator==(const Hosts&) const = default;
        } hosts;
        bool operator==(const State&) const = default;
    };
    explicit PortScout(std::string root = "/");
    ~PortScout();
    PortScout(const PortScout&) = delete;
    PortScout& operator=(const PortScout&) = delete;

    [[nodiscard]] State state() const;
    /// Instead of any other port that is being listened to.
    void listen(const std::string& path);
    void stopListening();
    /// Looks which hosts of the range answer on the port, and what they say they are. Instead of any scan before.
    void scan(const std::string& range, std::uint16_t port, HostQuestion question);
    void stopScan();

private:
    void work(const std::stop_token& stop);
    void hear(const std::string& path, const std::stop_token& stop);

    const std::string root_;
    mutable Mutex mutex_;
    std::condition_variable_any changed_;
    State state_ GUARDED_BY(mutex_);
    std::string asked_ GUARDED_BY(mutex_);
    std::optional<std::stop_source> listening_ GUARDED_BY(mutex_);

    std::jthread scanning_;
    std::jthread thread_;  // last: it uses the others
};

}  // namespace cruscotto
