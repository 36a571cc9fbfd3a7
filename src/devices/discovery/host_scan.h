#pragma once

#include <cstdint>
#include <functional>
#include <stop_token>
#include <string>
#include <vector>

#include "core/base/result.h"

namespace cruscotto {

/// IPv4 addresses from the first to the last, both of them.
struct HostRange {
    std::uint32_t first = 0, last = 0;  ///< host byte order
    [[nodiscard]] std::uint64_t size() const { return std::uint64_t{last} - first + 1; }
};
/// Reads "192.0.2.7", "192.0.2.1-192.0.2.20", "192.0.2.1-20", "192.0.2.0/28"; at most 4096 addresses.
Result<HostRange> hostRange(const std::string& typed);
std::string addressText(std::uint32_t address);

struct HostScan {
    struct Found {
        std::uint32_t address = 0;
        /// What it says it is, where it is asked in a way that changes nothing; empty: it only took the connection.
        std::string identity;
        bool operator==(const Found&) const = default;
    };
    std::vector<Found> found;   ///< in the order of their addresses
    std::uint64_t refused = 0;  ///< hosts that are there and do not listen on that port
    bool stopped = false;
    bool operator==(const HostScan&) const = default;
};
/// What is asked of a host that takes the connection.
enum class HostQuestion {
    nothing,
    scpiIdentity,    ///< *IDN?
    modbusIdentity,  ///< Read Device Identification (Modbus Application Protocol V1.1b3, 6.21)
    ioLinkIdentity   ///< a master's identification (JSON Integration for IO-Link, V1.0.0), by HTTP
};
/// Connects to one port of each address of the range, some at once, and to nothing else; writes nothing but the
/// question, which reads. `progress` is told how many are done. Takes about 0.3 s for each 64 addresses that do not
/// answer.
HostScan scanHosts(const HostRange& range, std::uint16_t port, HostQuestion question, const std::stop_token& stop,
                   const std::function<void(std::uint64_t done)>& progress);

}  // namespace cruscotto
