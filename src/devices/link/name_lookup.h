#pragma once

#include <netdb.h>

#include <cstdint>
#include <memory>
#include <optional>
#include <string>

#include "devices/link/waker.h"

namespace cruscotto {

/// A host's addresses, or why there are none.
struct HostAddresses {
    int error = 0;  ///< of getaddrinfo(3)
    std::unique_ptr<addrinfo, decltype(&freeaddrinfo)> all{nullptr, freeaddrinfo};
};
using LookUp = int (*)(const char* host, const char* port, const addrinfo* hints, addrinfo** found);

/// Looks up a host's name. getaddrinfo(3) may take long and cannot be interrupted, so it runs on a detached thread.
/// Confined to one thread.
class NameLookup {
public:
    /// `lookUp` stands in for the system in tests.
    NameLookup(std::string host, std::uint16_t port, LookUp lookUp = getaddrinfo);
    /// Waits at most so long, or until somebody wakes the waker; nothing where the answer is not there by then: the
    /// next call waits for the same one. An address in figures is there at once.
    std::optional<HostAddresses> find(Waker& waker, Duration most);

private:
    struct Going;
    const std::string host_, port_;
    const LookUp lookUp_;
    std::shared_ptr<Going> going_;
};

}  // namespace cruscotto
