#include "devices/link/kernel_calls.h"

#include <fcntl.h>
#include <linux/gpio.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstdint>
#include <cstring>

namespace cruscotto {

namespace {

constexpr timeval patience{1, 0};
constexpr std::size_t mostArgument = 4096;

/// A descriptor that is closed in the end; errno stays as it is.
class Owned {
public:
    explicit Owned(int fd) : fd_(fd) {}
    ~Owned() {
        const int error = errno;
        if (fd_ >= 0) ::close(fd_);
        errno = error;
    }
    Owned(const Owned&) = delete;
    Owned& operator=(const Owned&) = delete;
    [[nodiscard]] int fd() const { return fd_; }
    [[nodiscard]] int release() {
        const int out = fd_;
        fd_ = -1;
        return out;
    }

private:
    int fd_;
};

int refuse(int error) {
    errno = error;
    return -1;
}

/// One message with at most one descriptor, from either side. As sendmsg(2) and recvmsg(2).
struct Message {
    msghdr head{};
    std::array<iovec, 2> parts{};
    alignas(cmsghdr) std::array<char, CMSG_SPACE(sizeof(int))> room{};
    Message(void* first, std::size_t firstSize, void* second, std::size_t secondSize) {
        parts = {iovec{first, firstSize}, iovec{second, secondSize}};
        head.msg_iov = parts.data();
        head.msg_iovlen = second ? 2 : 1;
        head.msg_control = room.data();
        head.msg_controllen = room.size();
    }
    Message(const Message&) = delete;
    Message& operator=(const Message&) = delete;
    void attach(int fd) {
        cmsghdr* c = CMSG_FIRSTHDR(&head);
        c->cmsg_level = SOL_SOCKET;
        c->cmsg_type = SCM_RIGHTS;
        c->cmsg_len = CMSG_LEN(sizeof fd);
        std::memcpy(CMSG_DATA(c), &fd, sizeof fd);
    }
    [[nodiscard]] int attached() {
        int fd = -1;
        const cmsghdr* c = CMSG_FIRSTHDR(&head);
        if (c && c->cmsg_level == SOL_SOCKET && c->cmsg_type == SCM_RIGHTS && c->cmsg_len == CMSG_LEN(sizeof fd))
            std::memcpy(&fd, CMSG_DATA(c), sizeof fd);
        return fd;
    }
};

int openSocket(const char* path) {
    sockaddr_un to{};
    to.sun_family = AF_UNIX;
    if (std::strlen(path) >= sizeof to.sun_path) return refuse(ENAMETOOLONG);
    std::strcpy(to.sun_path, path);
    Owned fd(::socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0));
    if (fd.fd() < 0) return -1;
    setsockopt(fd.fd(), SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof patience);
    setsockopt(fd.fd(), SOL_SOCKET, SO_SNDTIMEO, &patience, sizeof patience);
    if (::connect(fd.fd(), reinterpret_cast<const sockaddr*>(&to), sizeof to) != 0) return -1;
    std::int32_t refusal = 0;
    const ssize_t n = ::recv(fd.fd(), &refusal, sizeof refusal, 0);
    if (n < 0) return errno == EAGAIN ? refuse(ETIMEDOUT) : -1;
    if (n != sizeof refusal) return refuse(EPROTO);
    if (refusal != 0) return refuse(refusal);
    fcntl(fd.fd(), F_SETFL, O_NONBLOCK);
    return fd.release();
}

int controlSocket(int fd, unsigned long request, void* argument) {
    const std::size_t size = argument ? _IOC_SIZE(request) : 0;
    if (size > mostArgument) return refuse(EINVAL);
    // The answer has a way of its own: on this one come events.
    std::array<int, 2> way{};
    if (::socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, way.data()) != 0) return -1;
    const Owned mine(way[0]);
    Owned theirs(way[1]);
    setsockopt(mine.fd(), SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof patience);
    std::uint64_t number = request;
    Message question(&number, sizeof number, argument, size);
    question.attach(theirs.fd());
    if (::sendmsg(fd, &question.head, MSG_NOSIGNAL) < 0) return -1;
    ::close(theirs.release());
    std::int32_t result = 0;
    Message answer(&result, sizeof result, argument, size);
    const ssize_t n = ::recvmsg(mine.fd(), &answer.head, MSG_CMSG_CLOEXEC);
    if (n < 0) return errno == EAGAIN ? refuse(ETIMEDOUT) : -1;
    Owned given(answer.attached());
    if (n == 0) return refuse(ENODEV);
    if (static_cast<std::size_t>(n) != sizeof result + size) return refuse(EPROTO);
    if (result < 0) return refuse(-result);
    if (request == GPIO_V2_GET_LINE_IOCTL) {
        if (given.fd() < 0) return refuse(EPROTO);
        fcntl(given.fd(), F_SETFL, O_NONBLOCK);
        static_cast<gpio_v2_line_request*>(argument)->fd = given.release();
    }
    return result;
}

}  // namespace

KernelCalls KernelCalls::system() {
    return {[](const char* path) {
                struct stat what {};
                if (::stat(path, &what) == 0 && S_ISSOCK(what.st_mode)) return openSocket(path);
                // Only a character device is opened for writing.
                if (::stat(path, &what) == 0 && !S_ISCHR(what.st_mode)) return refuse(ENOTTY);
                return ::open(path, O_RDWR | O_CLOEXEC | O_NONBLOCK);
            },
            [](int fd, unsigned long request, void* argument) {
                struct stat what {};
                if (::fstat(fd, &what) == 0 && S_ISSOCK(what.st_mode)) return controlSocket(fd, request, argument);
                return ::ioctl(fd, request, argument);
            }};
}

}  // namespace cruscotto
