#include "devices/link/name_lookup.h"

#include <sys/eventfd.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <thread>

namespace cruscotto {

/// Shared with the thread that looks, which may outlive whoever asked.
struct NameLookup::Going {
    const int done = eventfd(0, EFD_CLOEXEC);
    std::atomic<bool> answered{false};  // what follows is set before, by the thread that looks
    HostAddresses found;
    Going() = default;
    ~Going() { ::close(done); }
    Going(const Going&) = delete;
    Going& operator=(const Going&) = delete;
};

NameLookup::NameLookup(std::string host, std::uint16_t port, LookUp lookUp)
    : host_(std::move(host)), port_(std::to_string(port)), lookUp_(lookUp) {}

std::optional<HostAddresses> NameLookup::find(Waker& waker, Duration most) {
    addrinfo hints{}, *found = nullptr;
    hints.ai_socktype = SOCK_STREAM;
    hints.ai_flags = AI_NUMERICSERV | AI_NUMERICHOST;
    if (getaddrinfo(host_.c_str(), port_.c_str(), &hints, &found) == 0) {
        HostAddresses out;
        out.all.reset(found);
        return out;
    }
    if (!going_) {
        going_ = std::make_shared<Going>();
        std::thread([going = going_, host = host_, port = port_, lookUp = lookUp_] {
            addrinfo named{}, *all = nullptr;
            named.ai_socktype = SOCK_STREAM;
            named.ai_flags = AI_NUMERICSERV;
            going->found.error = lookUp(host.c_str(), port.c_str(), &named, &all);
            if (going->found.error == 0) going->found.all.reset(all);
            going->answered.store(true, std::memory_order_release);
            eventfd_write(going->done, 1);
        }).detach();
    }
    std::array<pollfd, 1> file{{{going_->done, POLLIN, 0}}};
    waker.wait(file, most);
    if (!going_->answered.load(std::memory_order_acquire)) return std::nullopt;
    HostAddresses out = std::move(going_->found);
    going_.reset();
    return out;
}

}  // namespace cruscotto
