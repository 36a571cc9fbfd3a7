// termbits.h, not termios.h: only the kernel's own header has a rate that is not in the list of the usual ones.
#include "devices/link/serial_port.h"

#include <asm/termbits.h>
#include <fcntl.h>
#include <poll.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstring>

#include "devices/link/access.h"

namespace cruscotto {

namespace {

SerialPort::Failure refused(const std::string& port, int error) {
    if (error == ENOENT || error == ENODEV || error == ENXIO)
        return {
            LinkState::absent,
            text(CRUSCOTTO_TEXT("There is no port {0}. Plug the board in; its readings begin by themselves."), port)};
    if (error == EACCES || error == EPERM) return {LinkState::noPermission, permissionSentence(port)};
    if (error == EBUSY) {
        const std::string holder = holderOf(port);
        return {LinkState::busy,
                holder.empty()
                    ? text(CRUSCOTTO_TEXT("Another program has {0} open. Close it there; the readings begin by "
                                          "themselves."),
                           port)
                    : text(CRUSCOTTO_TEXT("{1} has {0} open. Close it there; the readings begin by themselves."), port,
                           holder)};
    }
    return {LinkState::failed, text(CRUSCOTTO_TEXT("{0} does not open: {1}."), port, std::strerror(error))};
}

}  // namespace

SerialPort::SerialPort() = default;

SerialPort::~SerialPort() {
    close();
}

void SerialPort::wake() {
    waker_.wake();
}

std::optional<SerialPort::Failure> SerialPort::open(const SerialSettings& s) {
    close();
    if (s.port.ends_with(".wire")) {
        auto opened = CapturePlayback::open(s.port, s.replayAnswers);
        if (!opened)
            return Failure{access(s.port.c_str(), F_OK) == 0 ? LinkState::failed : LinkState::absent,
                           opened.error().message};
        playback_ = std::move(opened.value());
        return std::nullopt;
    }
    const int fd = ::open(s.port.c_str(), O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
    if (fd < 0) return refused(s.port, errno);
    // Two programs that read one port take each other's bytes: it is claimed in both ways that are in use.
    if (flock(fd, LOCK_EX | LOCK_NB) != 0 && errno == EWOULDBLOCK) {
        ::close(fd);
        return refused(s.port, EBUSY);
    }
    termios2 t{};
    if (ioctl(fd, TCGETS2, &t) != 0) {
        ::close(fd);
        return Failure{LinkState::failed,
                       text(CRUSCOTTO_TEXT("{0} is not a serial port. Choose another one."), s.port)};
    }
    constexpr std::array<unsigned, 4> sizes{CS5, CS6, CS7, CS8};
    t.c_iflag = 0;
    t.c_oflag = 0;
    t.c_lflag = 0;
    t.c_cflag = BOTHER | CREAD | CLOCAL | sizes.at(static_cast<std::size_t>(s.dataBits - 5));
    if (s.parity != SerialSettings::Parity::none) t.c_cflag |= PARENB;
    if (s.parity == SerialSettings::Parity::odd) t.c_cflag |= PARODD;
    if (s.stopBits == 2) t.c_cflag |= CSTOPB;
    t.c_ispeed = t.c_ospeed = s.baud;
    if (ioctl(fd, TCSETS2, &t) != 0) {
        const int error = errno;
        ::close(fd);
        return Failure{LinkState::failed,
                       text(CRUSCOTTO_TEXT("{0} does not take {1} baud ({2}). Choose another speed."), s.port, s.baud,
                            std::strerror(error))};
    }
    ioctl(fd, TIOCEXCL);
    ioctl(fd, TCFLSH, TCIFLUSH);  // what came before nobody was listening to
    fd_ = fd;
    return std::nullopt;
}

void SerialPort::close() {
    playback_.reset();
    if (fd_ >= 0) {
        ioctl(fd_, TIOCNXCL);
        ::close(fd_);
    }
    fd_ = -1;
}

SerialPort::Got SerialPort::read(Duration wait, std::string& out) {
    if (playback_) return playback_->read(wait, out) ? Got::bytes : Got::nothing;
    pollfd p{fd_, POLLIN, 0};
    waker_.wait({&p, 1}, wait);
    if (p.revents == 0) return Got::nothing;
    std::array<char, 65536> buffer;
    const ssize_t n = ::read(fd_, buffer.data(), buffer.size());
    if (n > 0) {
        out.append(buffer.data(), static_cast<std::size_t>(n));
        return Got::bytes;
    }
    if (n < 0 && (errno == EAGAIN || errno == EINTR) && !(p.revents & (POLLHUP | POLLERR | POLLNVAL)))
        return Got::nothing;
    return Got::lost;
}

bool SerialPort::write(std::string_view bytes) {
    if (playback_) {
        (void)playback_->sent(bytes);  // who did not answer then does not now
        return true;
    }
    while (!bytes.empty()) {
        const ssize_t n = ::write(fd_, bytes.data(), bytes.size());
        if (n > 0) {
            bytes.remove_prefix(static_cast<std::size_t>(n));
            continue;
        }
        if (n < 0 && errno != EAGAIN && errno != EINTR) return false;
        pollfd p{fd_, POLLOUT, 0};
        if (::poll(&p, 1, 1000) == 0 || (p.revents & (POLLHUP | POLLERR | POLLNVAL))) return false;
    }
    return true;
}

}  // namespace cruscotto
