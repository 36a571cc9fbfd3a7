#include "standins/cabinet/local_node.h"

#include <poll.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstring>

namespace cruscotto {

namespace {
constexpr std::size_t mostHolders = 64;
}

LocalNode::LocalNode(std::string path, NodeTalk& talk) : path_(std::move(path)), talk_(talk) {
    sockaddr_un at{};
    at.sun_family = AF_UNIX;
    if (path_.size() >= sizeof at.sun_path) return;
    std::strcpy(at.sun_path, path_.c_str());
    const int fd = socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
    if (fd < 0) return;
    if (bind(fd, reinterpret_cast<sockaddr*>(&at), sizeof at) != 0 || listen(fd, 16) != 0)
        close(fd);
    else
        listener_ = fd;
}

LocalNode::~LocalNode() {
    while (!holders_.empty()) drop(holders_.back());
    if (listener_ < 0) return;
    close(listener_);
    unlink(path_.c_str());
}

bool LocalNode::send(int holder, const void* bytes, std::size_t size) {
    return ::send(holder, bytes, size, MSG_NOSIGNAL | MSG_DONTWAIT) == static_cast<ssize_t>(size);
}

void LocalNode::drop(int holder) {
    talk_.closed(holder);
    close(holder);
    std::erase(holders_, holder);
}

void LocalNode::serve() {
    std::vector<pollfd> watched{{listener_, POLLIN, 0}};
    for (const int h : holders_) watched.push_back({h, POLLIN, 0});
    if (listener_ < 0 || poll(watched.data(), watched.size(), 0) <= 0) return;
    for (std::size_t i = 1; i < watched.size(); ++i)
        if (watched[i].revents != 0) ask(watched[i].fd);
    if (watched[0].revents == 0 || holders_.size() >= mostHolders) return;
    const int fd = accept4(listener_, nullptr, nullptr, SOCK_CLOEXEC | SOCK_NONBLOCK);
    if (fd < 0) return;
    if (talk_.mute()) {
        holders_.push_back(fd);
        return;
    }
    const std::int32_t refusal = talk_.open(fd);
    (void)send(fd, &refusal, sizeof refusal);
    if (refusal != 0)
        close(fd);
    else
        holders_.push_back(fd);
}

void LocalNode::ask(int holder) {
    std::uint64_t request = 0;
    std::array<char, 8192> carried{};
    std::array<iovec, 2> parts{iovec{&request, sizeof request}, iovec{carried.data(), carried.size()}};
    alignas(cmsghdr) std::array<char, CMSG_SPACE(sizeof(int))> room{};
    msghdr head{};
    head.msg_iov = parts.data();
    head.msg_iovlen = parts.size();
    head.msg_control = room.data();
    head.msg_controllen = room.size();
    const ssize_t n = recvmsg(holder, &head, MSG_CMSG_CLOEXEC);
    if (n < 0 && errno == EAGAIN) return;
    if (n <= 0) return drop(holder);
    int answerTo = -1;
    if (const cmsghdr* c = CMSG_FIRSTHDR(&head);
        c && c->cmsg_type == SCM_RIGHTS && c->cmsg_len == CMSG_LEN(sizeof answerTo))
        std::memcpy(&answerTo, CMSG_DATA(c), sizeof answerTo);
    if (answerTo < 0) return drop(holder);
    if (n < static_cast<ssize_t>(sizeof request) || talk_.mute()) {
        // Held for a mute one's sake, the answer would be closed, which says something.
        if (!talk_.mute())
            close(answerTo);
        else
            holders_.push_back(answerTo);
        return;
    }
    std::string argument(carried.data(), static_cast<std::size_t>(n) - sizeof request);
    NodeTalk::Answer answer{-EINVAL};
    if (argument.empty() || argument.size() == _IOC_SIZE(request)) answer = talk_.control(holder, request, argument);
    std::array<int, 2> pair{-1, -1};
    if (answer.handsOver && socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC | SOCK_NONBLOCK, 0, pair.data()) != 0)
        answer = {-EMFILE};
    std::int32_t result = answer.result;
    parts = {iovec{&result, sizeof result}, iovec{argument.data(), argument.size()}};
    head.msg_control = nullptr;
    head.msg_controllen = 0;
    if (pair[1] >= 0) {
        head.msg_control = room.data();
        head.msg_controllen = room.size();
        cmsghdr* c = CMSG_FIRSTHDR(&head);
        c->cmsg_level = SOL_SOCKET;
        c->cmsg_type = SCM_RIGHTS;
        c->cmsg_len = CMSG_LEN(sizeof pair[1]);
        std::memcpy(CMSG_DATA(c), &pair[1], sizeof pair[1]);
        holders_.push_back(pair[0]);
        talk_.handedOver(holder, pair[0]);
    }
    (void)sendmsg(answerTo, &head, MSG_NOSIGNAL | MSG_DONTWAIT);
    if (pair[1] >= 0) close(pair[1]);
    close(answerTo);
}

}  // namespace cruscotto
