#pragma once

#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <cstdio>
#include <string>
#include <utility>
#include <vector>

#include "support.h"

namespace cruscotto::test {

struct Output {
    int code = -1;
    std::string out, err;
};

/// The program itself, as a person would run it.
class Program {
public:
    /// Its standard output goes into `out` where that is a descriptor, else into a file of the folder's.
    Program(const TempFolder& folder, std::vector<std::string> arguments, int out = -1,
            const std::vector<std::pair<std::string, std::string>>& environment = {})
        : folder_(folder) {
        int in[2] = {-1, -1};
        if (pipe2(in, O_CLOEXEC) != 0) return;
        keyboard_ = in[1];
        std::fflush(stdout);  // else the child writes it once more
        child_ = fork();
        if (child_ == 0) {
            dup2(in[0], STDIN_FILENO);
            setenv("XDG_STATE_HOME", folder.file("state").c_str(), 1);
            setenv("XDG_CONFIG_HOME", folder.file("config").c_str(), 1);
            setenv("HOME", folder.file("home").c_str(), 1);
            unsetenv("DISPLAY");
            unsetenv("WAYLAND_DISPLAY");
            unsetenv("QT_QPA_PLATFORM");
            for (const auto& [name, value] : environment) setenv(name.c_str(), value.c_str(), 1);
            if (!freopen(folder.file("out").c_str(), "w", stdout) || !freopen(folder.file("err").c_str(), "w", stderr))
                _exit(99);
            if (out >= 0) dup2(out, STDOUT_FILENO);
            arguments.insert(arguments.begin(), program);
            std::vector<char*> argv;
            for (std::string& a : arguments) argv.push_back(a.data());
            argv.push_back(nullptr);
            execv(argv[0], argv.data());
            _exit(98);
        }
        close(in[0]);
    }
    ~Program() {
        if (keyboard_ >= 0) close(keyboard_);
        if (child_ > 0 && waitpid(child_, nullptr, WNOHANG) == 0) {
            kill(child_, SIGKILL);
            waitpid(child_, nullptr, 0);
        }
    }
    Program(const Program&) = delete;
    Program& operator=(const Program&) = delete;
    void signal(int number) const { kill(child_, number); }
    void type(const std::string& words) const {
        EXPECT_EQ(write(keyboard_, words.data(), words.size()), static_cast<ssize_t>(words.size()));
    }
    [[nodiscard]] std::string outSoFar() const { return readFile(folder_.file("out")); }
    Output wait() {
        int status = 0;
        waitpid(std::exchange(child_, 0), &status, 0);
        return {WIFEXITED(status) ? WEXITSTATUS(status) : 1000 + status, readFile(folder_.file("out")),
                readFile(folder_.file("err"))};
    }

private:
    const TempFolder& folder_;
    pid_t child_ = 0;
    int keyboard_ = -1;
};

inline Output run(const TempFolder& folder, std::vector<std::string> arguments) {
    return Program(folder, std::move(arguments)).wait();
}

}  // namespace cruscotto::test
