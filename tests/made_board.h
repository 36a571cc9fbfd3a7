#pragma once

#include <fcntl.h>
#include <poll.h>
#include <pty.h>
#include <termios.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <filesystem>
#include <mutex>
#include <string>
#include <thread>

namespace cruscotto::test {

/// A board behind a pseudo terminal that a test can look into: says "1.5" a hundred times a second while it talks, and
/// keeps what it is sent. It is unplugged and plugged in again under one name, as a link in the folder.
class MadeBoard {
public:
    explicit MadeBoard(std::string link) : link_(std::move(link)) {
        plug();
        thread_ = std::jthread([this](const std::stop_token& stop) {
            while (!stop.stop_requested()) serve();
        });
    }
    ~MadeBoard() {
        thread_.request_stop();
        thread_.join();
        unplug();
    }
    MadeBoard(const MadeBoard&) = delete;
    MadeBoard& operator=(const MadeBoard&) = delete;
    [[nodiscard]] const std::string& port() const { return link_; }
    /// All it has been sent since the last time this was asked for, or since it was plugged in.
    std::string heard() {
        const std::lock_guard lock(mutex_);
        return heard_;
    }
    void forget() {
        const std::lock_guard lock(mutex_);
        heard_.clear();
    }
    void unplug() {
        const std::lock_guard lock(mutex_);
        std::filesystem::remove(link_);
        for (int* fd : {&board_, &other_}) {
            if (*fd >= 0) ::close(*fd);
            *fd = -1;
        }
    }
    void plug() {
        const std::lock_guard lock(mutex_);
        heard_.clear();
        std::array<char, 128> name{};
        termios raw{};
        cfmakeraw(&raw);
        if (openpty(&board_, &other_, name.data(), &raw, nullptr) != 0) return;
        fcntl(board_, F_SETFL, O_NONBLOCK);
        for (const int fd : {board_, other_}) fcntl(fd, F_SETFD, FD_CLOEXEC);  // who opens it must not hold it too
        std::filesystem::create_symlink(name.data(), link_);
    }
    void say(std::string line) {
        const std::lock_guard lock(mutex_);
        line_ = std::move(line);
    }
    std::atomic<bool> talks{true};
    std::atomic<int> said{0};  // lines that somebody has had the time to read

private:
    void serve() {
        pollfd file{-1, POLLIN, 0};
        {
            const std::lock_guard lock(mutex_);
            file.fd = board_;
            if (talks && board_ >= 0 && ::write(board_, line_.data(), line_.size()) > 0) ++said;
        }
        ::poll(&file, 1, 10);
        const std::lock_guard lock(mutex_);
        std::array<char, 4096> bytes{};
        if (board_ < 0) return;
        const ssize_t n = ::read(board_, bytes.data(), bytes.size());
        if (n > 0) heard_.append(bytes.data(), static_cast<std::size_t>(n));
    }
    const std::string link_;
    std::mutex mutex_;
    std::string line_ = "1.5\n";
    std::string heard_;
    int board_ = -1, other_ = -1;  // the other end is held open, so that the board is there before somebody opens it
    std::jthread thread_;
};

}  // namespace cruscotto::test
