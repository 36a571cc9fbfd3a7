#pragma once

#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <csignal>
#include <functional>
#include <string>

#include "support.h"

namespace cruscotto::test {

/// Another process that does something with a file. Made before the test starts threads: a lock that a thread holds at
/// the moment of a fork stays held in the new process.
class OtherProcess {
public:
    /// `work` is given the file's path and returns its result as a number; what `holds` stays until it is ended.
    explicit OtherProcess(const std::function<int(const std::string&)>& work, bool holds = false) {
        int words[2] = {-1, -1}, results[2] = {-1, -1};
        if (pipe2(words, O_CLOEXEC) != 0 || pipe2(results, O_CLOEXEC) != 0) return;
        child_ = fork();
        if (child_ == 0) {
            close(words[1]);
            std::array<char, 4096> path{};
            const ssize_t n = read(words[0], path.data(), path.size());
            if (n <= 0) _exit(1);
            const int result = work(std::string(path.data(), static_cast<std::size_t>(n)));
            if (write(results[1], &result, sizeof result) != sizeof result) _exit(1);
            if (holds) pause();
            _exit(0);
        }
        close(words[0]);
        close(results[1]);
        words_ = words[1];
        results_ = results[0];
    }
    ~OtherProcess() {
        end();
        close(words_);
        close(results_);
    }
    OtherProcess(const OtherProcess&) = delete;
    OtherProcess& operator=(const OtherProcess&) = delete;
    [[nodiscard]] pid_t pid() const { return child_; }
    /// Its result; -1: it ended without one.
    int workOn(const std::string& path) const {
        int result = -1;
        if (write(words_, path.data(), path.size()) != static_cast<ssize_t>(path.size())) return -1;
        return read(results_, &result, sizeof result) == sizeof result ? result : -1;
    }
    void end() {
        if (child_ <= 0) return;
        kill(child_, SIGKILL);
        waitpid(child_, nullptr, 0);
        child_ = 0;
    }

private:
    pid_t child_ = 0;
    int words_ = -1, results_ = -1;
};

}  // namespace cruscotto::test
