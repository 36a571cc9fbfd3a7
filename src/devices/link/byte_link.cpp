#include "devices/link/byte_link.h"
#include "core/base/parsed.h"
#include "devices/device_kind.h"
#include "devices/link/name_lookup.h"
#include "devices/link/waker.h"

#include <fcntl.h>
#include <netdb.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <chrono>
#include <cmath>
#include <cstring>

namespace cruscotto {

namespace {

class SerialLink : public ByteLink {
public:
    explicit SerialLink(SerialSettings line) : line_(std::move(line)) {}
    std::optional<Failure> open() override { return port_.open(line_); }
    void close() override { port_.close(); }
    Got read(Duration wait, std::string& out) override { return port_.read(wait, out); }
    bool write(std::string_view bytes) override { return port_.write(bytes); }
    void wake() override { port_.wake(); }
    [[nodiscard]] int descriptor() const override { return port_.descriptor(); }
    [[nodiscard]] std::string name() const override { return line_.port; }

private:
    const SerialSettings line_;
    SerialPort port_;
};

class TcpLink : public ByteLink {
public:
    TcpLink(std::string host, std::uint16_t port) : host_(std::move(host)), port_(port), name_(host_, port) {}
    ~TcpLink() override { TcpLink::close(); }
    std::optional<Failure> open() override {
        close();
        const auto found = name_.find(waker_, lookUpLimit);
        if (!found)
            return Failure{LinkState::absent,
                           text(CRUSCOTTO_TEXT("Nobody has said yet where {0} is: the computer's name service does not "
                                               "answer. It is waited for; or give the address."),
                                host_)};
        if (found->error != 0)
            return Failure{LinkState::absent,
                           text(CRUSCOTTO_TEXT("The name {0} is not known ({1}). Check it, or give the address."),
                                host_, gai_strerror(found->error))};
        int error = EHOSTUNREACH;
        for (const addrinfo* a = found->all.get(); a; a = a->ai_next) {
            const int fd = socket(a->ai_family, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
            if (fd < 0) continue;
            error = connectWithin(fd, *a);
            if (error == 0) {
                const int on = 1;
                setsockopt(fd, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
                // A peer whose cable was pulled says nothing: it is asked after 2 s, and given up after three more.
                const int idle = 2, every = 1, tries = 3;
                setsockopt(fd, SOL_SOCKET, SO_KEEPALIVE, &on, sizeof on);
                setsockopt(fd, IPPROTO_TCP, TCP_KEEPIDLE, &idle, sizeof idle);
                setsockopt(fd, IPPROTO_TCP, TCP_KEEPINTVL, &every, sizeof every);
                setsockopt(fd, IPPROTO_TCP, TCP_KEEPCNT, &tries, sizeof tries);
                fd_ = fd;
                heard_ = Clock::now();
                unheard_ = {};
                return std::nullopt;
            }
            ::close(fd);
        }
        return hostRefused(name(), error);
    }
    void close() override {
        if (fd_ >= 0) ::close(fd_);
        fd_ = -1;
    }
    Got read(Duration wait, std::string& out) override {
        if (!waker_.waitFor(fd_, wait)) return Got::nothing;
        std::array<char, 65536> buffer;
        const ssize_t n = ::read(fd_, buffer.data(), buffer.size());
        if (n > 0) {
            heard_ = Clock::now();
            out.append(buffer.data(), static_cast<std::size_t>(n));
            return Got::bytes;
        }
        if (n < 0 && errno == ETIMEDOUT) givenUp();
        return n < 0 && (errno == EAGAIN || errno == EINTR) ? Got::nothing : Got::lost;
    }
    bool write(std::string_view bytes) override {
        while (!bytes.empty()) {
            const ssize_t n = ::send(fd_, bytes.data(), bytes.size(), MSG_NOSIGNAL);
            if (n > 0) {
                bytes.remove_prefix(static_cast<std::size_t>(n));
                continue;
            }
            if (n < 0 && errno != EAGAIN && errno != EINTR) {
                if (errno == ETIMEDOUT) givenUp();
                return false;
            }
            pollfd p{fd_, POLLOUT, 0};
            if (::poll(&p, 1, 1000) == 0 || (p.revents & (POLLHUP | POLLERR | POLLNVAL))) return false;
        }
        return true;
    }
    void wake() override { waker_.wake(); }
    [[nodiscard]] Duration unheard() const override { return unheard_; }
    [[nodiscard]] int descriptor() const override { return fd_; }
    [[nodiscard]] std::string name() const override {
        return text(CRUSCOTTO_TEXT("{0}, port {1}"), host_, port_).english();
    }

private:
    using Clock = std::chrono::steady_clock;
    void givenUp() { unheard_ = {std::chrono::duration_cast<std::chrono::nanoseconds>(Clock::now() - heard_).count()}; }
    int connectWithin(int fd, const addrinfo& a) {
        if (connect(fd, a.ai_addr, a.ai_addrlen) == 0) return 0;
        if (errno != EINPROGRESS) return errno;
        pollfd file{fd, POLLOUT, 0};
        const auto began = Clock::now();
        waker_.wait({&file, 1}, connectLimit);
        if (file.revents == 0)
            return Clock::now() - began < std::chrono::nanoseconds(connectLimit.ns) ? ECANCELED : ETIMEDOUT;
        int error = 0;
        socklen_t size = sizeof error;
        getsockopt(fd, SOL_SOCKET, SO_ERROR, &error, &size);
        return error;
    }
    const std::string host_;
    const std::uint16_t port_;
    NameLookup name_;
    Waker waker_;
    int fd_ = -1;
    Clock::time_point heard_;
    Duration unheard_;
};

}  // namespace

ByteLink::Failure hostRefused(const std::string& name, int error) {
    if (error == ECONNREFUSED)
        return {
            LinkState::absent,
            text(CRUSCOTTO_TEXT("{0}: the host is there, but nothing listens. Check the port, and that the device's "
                                "network service is switched on."),
                 name)};
    if (error == EACCES || error == EPERM)
        return {
            LinkState::noPermission,
            text(CRUSCOTTO_TEXT("{0}: this computer does not allow the connection. A firewall may forbid it."), name)};
    return {LinkState::absent,
            text(CRUSCOTTO_TEXT("{0} does not answer ({1}). Check the cable, the power and the address; the readings "
                                "begin by themselves."),
                 name, std::strerror(error))};
}

Result<LinkAddress> linkAddress(const std::string& text, std::uint16_t otherwisePort) {
    LinkAddress out;
    if (text.empty())
        return failure("Say where the device is: a serial port, as in /dev/ttyUSB0, or a host, as in 127.0.0.1:{0}.",
                       otherwisePort != 0 ? otherwisePort : 5025);
    if (text.size() > 512) return failure("An address has at most 512 characters.");
    if (text.find('/') != std::string::npos || text.ends_with(".wire")) {
        out.line.port = text;
        return out;
    }
    std::string host = text, port;
    if (text.front() == '[') {
        const std::size_t end = text.find(']');
        if (end == std::string::npos || (end + 1 < text.size() && text[end + 1] != ':'))
            return failure("\"{0}\" is no address: [::1]:502 is how one in brackets is written.", text);
        host = text.substr(1, end - 1);
        if (end + 1 < text.size()) port = text.substr(end + 2);
    } else if (const std::size_t colon = text.rfind(':');
               colon != std::string::npos && text.find(':') == colon) {  // more than one: an IPv6 address alone
        host = text.substr(0, colon);
        port = text.substr(colon + 1);
    }
    out.host = host;
    out.port = otherwisePort;
    if (!port.empty() || text.back() == ':') {
        if (!parsed(port, out.port) || out.port == 0)
            return failure("\"{0}\" is no port; it must be a number from 1 to 65535.", port);
    }
    if (host.empty()) return failure("\"{0}\" names no host.", text);
    if (out.port == 0) return failure("\"{0}\" needs a port, as in {0}:5025.", text);
    return out;
}

std::unique_ptr<ByteLink> makeByteLink(const LinkAddress& address) {
    if (!address.line.port.empty()) return std::make_unique<SerialLink>(address.line);
    return std::make_unique<TcpLink>(address.host, address.port);
}

void readLineSettings(SettingsReader& settings, SerialSettings& out, int leastBaud) {
    using Parity = SerialSettings::Parity;
    out.baud = static_cast<unsigned>(settings.whole("baud", static_cast<int>(out.baud), leastBaud, 20'000'000));
    out.dataBits = settings.oneOf("data-bits", 8, {5, 6, 7, 8});
    constexpr Parity parities[]{Parity::none, Parity::odd, Parity::even};
    out.parity =
        parities[settings.choice("parity", static_cast<std::size_t>(std::ranges::find(parities, out.parity) - parities),
                                 {"none", "odd", "even"})];
    out.stopBits = settings.oneOf("stop-bits", 1, {1, 2});
}

std::vector<SettingInfo> lineSettingInfos() {
    using Type = SettingInfo::Type;
    return {{"data-bits", CRUSCOTTO_TEXT("Data bits"), Type::number, {"5", "6", "7", "8"}, "8", {}},
            {"parity", CRUSCOTTO_TEXT("Parity"), Type::choice, {"none", "odd", "even"}, "none", {}},
            {"stop-bits", CRUSCOTTO_TEXT("Stop bits"), Type::number, {"1", "2"}, "1", {}}};
}

}  // namespace cruscotto
