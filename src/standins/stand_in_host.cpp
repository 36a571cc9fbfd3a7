#include "standins/stand_in_host.h"

#include <arpa/inet.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/eventfd.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <vector>

#include "standins/pseudo_terminal.h"

namespace cruscotto {

struct StandInHost::Peer {
    int fd = -1;
    std::unique_ptr<Conversation> talk;
    std::string out;  // not taken yet
};

namespace {
constexpr std::size_t mostPeers = 64, mostUnsent = std::size_t{1} << 20;
}

StandInHost::StandInHost(Begin begin, bool pty, std::string link, std::uint16_t port)
    : begin_(std::move(begin)),
      pty_(pty),
      link_(std::move(link)),
      port_(port),
      wake_(eventfd(0, EFD_CLOEXEC | EFD_NONBLOCK)) {}

Result<std::unique_ptr<StandInHost>> StandInHost::onPty(Begin begin, std::string link) {
    auto host = std::unique_ptr<StandInHost>(new StandInHost(std::move(begin), true, std::move(link), 0));
    if (auto opened = host->open(); !opened) return opened.error();
    StandInHost* h = host.get();
    h->thread_ = std::jthread([h](const std::stop_token& stop) { h->work(stop); });
    return host;
}

Result<std::unique_ptr<StandInHost>> StandInHost::onLoopback(Begin begin, std::uint16_t port) {
    auto host = std::unique_ptr<StandInHost>(new StandInHost(std::move(begin), false, {}, port));
    if (auto opened = host->open(); !opened) return opened.error();
    StandInHost* h = host.get();
    h->thread_ = std::jthread([h](const std::stop_token& stop) { h->work(stop); });
    return host;
}

StandInHost::~StandInHost() {
    thread_.request_stop();
    eventfd_write(wake_, 1);
    if (thread_.joinable()) thread_.join();
    close();
    ::close(wake_);
}

std::string StandInHost::address() const {
    if (!pty_) return "127.0.0.1:" + std::to_string(port_);
    return link_.empty() ? path_ : link_;
}

void StandInHost::unplug() {
    wanted_ = false;
    eventfd_write(wake_, 1);
    while (there_) there_.wait(true);
}

void StandInHost::plug() {
    wanted_ = true;
    eventfd_write(wake_, 1);
    while (!there_) there_.wait(false);
}

Result<void> StandInHost::open() {
    if (pty_) {
        auto terminal = openPseudoTerminal(link_);
        if (!terminal) return terminal.error();
        const int master = terminal.value().master;
        path_ = terminal.value().path;
        listener_ = master;
        peers_.push_back({master, begin_(), {}});
    } else {
        const int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
        const int on = 1;
        setsockopt(fd, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
        sockaddr_in a{};
        a.sin_family = AF_INET;
        a.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        a.sin_port = htons(port_);
        socklen_t size = sizeof a;
        if (fd < 0 || bind(fd, reinterpret_cast<sockaddr*>(&a), sizeof a) != 0 || listen(fd, 16) != 0 ||
            getsockname(fd, reinterpret_cast<sockaddr*>(&a), &size) != 0) {
            if (fd >= 0) ::close(fd);
            return failure("Port {0} of this computer's loopback address cannot be listened on. Is it taken?", port_);
        }
        port_ = ntohs(a.sin_port);
        listener_ = fd;
    }
    there_ = true;
    there_.notify_all();
    return {};
}

void StandInHost::close() {
    for (Peer& p : peers_)
        if (p.fd != listener_) {
            // Reset at once, as when a device loses its power: its port is free again without waiting.
            const linger now{1, 0};
            setsockopt(p.fd, SOL_SOCKET, SO_LINGER, &now, sizeof now);
            ::close(p.fd);
        }
    peers_.clear();
    removeLink(link_, path_);
    if (listener_ >= 0) ::close(listener_);
    listener_ = -1;
    there_ = false;
    there_.notify_all();
}

void StandInHost::work(const std::stop_token& stop) {
    std::vector<pollfd> watched;
    while (!stop.stop_requested()) {
        if (wanted_ != there_) {
            if (wanted_) {
                if (!open()) std::this_thread::sleep_for(std::chrono::milliseconds(1));  // the port is not free yet
            } else {
                close();
            }
            continue;
        }
        watched.assign(1, pollfd{wake_, POLLIN, 0});
        bool ticks = false;
        for (const Peer& p : peers_) {
            watched.push_back({p.fd, static_cast<short>(POLLIN | (p.out.empty() ? 0 : POLLOUT)), 0});
            ticks = ticks || p.talk->ticks();
        }
        if (!pty_ && there_ && peers_.size() < mostPeers) watched.push_back({listener_, POLLIN, 0});
        ::poll(watched.data(), watched.size(), ticks ? 1 : 1000);
        if (watched[0].revents) {
            eventfd_t value = 0;
            eventfd_read(wake_, &value);
        }
        bool nobody = false;
        for (std::size_t i = 0; i < peers_.size(); ++i) {
            Peer& p = peers_[i];
            const short got = watched[i + 1].revents;
            std::array<char, 65536> bytes;
            if (got & POLLIN) {
                const ssize_t n = ::read(p.fd, bytes.data(), bytes.size());
                if (n > 0) p.out += p.talk->hear({bytes.data(), static_cast<std::size_t>(n)});
                if (n == 0 && !pty_) p.talk.reset();
            } else if (got & (POLLHUP | POLLERR)) {
                if (!pty_) p.talk.reset();
                nobody = true;  // the pty waits for the next one who opens it
                p.out.clear();
            }
            if (!p.talk) continue;
            if (!nobody && p.talk->ticks()) p.out += p.talk->tick();
            if (p.out.size() > mostUnsent) p.out.clear();  // a real line would have lost it
            if (!p.out.empty()) {
                const ssize_t n = pty_ ? ::write(p.fd, p.out.data(), p.out.size())
                                       : ::send(p.fd, p.out.data(), p.out.size(), MSG_NOSIGNAL);
                if (n > 0) p.out.erase(0, static_cast<std::size_t>(n));
            }
            if (p.talk->hangsUp() && p.out.empty() && !pty_) p.talk.reset();
        }
        if (pty_ && nobody && !stop.stop_requested()) std::this_thread::sleep_for(std::chrono::milliseconds(1));
        for (Peer& p : peers_)
            if (!p.talk) ::close(p.fd);
        std::erase_if(peers_, [](const Peer& p) { return !p.talk; });
        if (!pty_ && watched.back().fd == listener_ && watched.back().revents & POLLIN) {
            const int fd = accept4(listener_, nullptr, nullptr, SOCK_CLOEXEC | SOCK_NONBLOCK);
            const int on = 1;
            if (fd >= 0) {
                setsockopt(fd, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
                peers_.push_back({fd, begin_(), {}});
            }
        }
    }
}

}  // namespace cruscotto
