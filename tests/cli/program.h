#pragma once

#include <fcntl.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <map>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "support.h"

namespace cruscotto::test {

struct Output {
    int code = -1;
    std::string out, err;
};

/// The program itself, as a person would run it. It is spawned, not forked: between a fork and the program's beginning
/// nothing may ask for memory, whose lock a thread of this process (a board's) may have held at that moment for good.
class Program {
public:
    /// Its standard output goes into `out` where that is a descriptor, else into a file of the folder's.
    Program(const TempFolder& folder, std::vector<std::string> arguments, int out = -1,
            const std::vector<std::pair<std::string, std::string>>& environment = {})
        : folder_(folder) {
        int in[2] = {-1, -1};
        if (pipe2(in, O_CLOEXEC) != 0) return;
        keyboard_ = in[1];
        posix_spawn_file_actions_t files;
        posix_spawn_file_actions_init(&files);
        posix_spawn_file_actions_adddup2(&files, in[0], STDIN_FILENO);
        const auto into = [&](int fd, const std::string& path) {
            posix_spawn_file_actions_addopen(&files, fd, path.c_str(), O_CREAT | O_WRONLY | O_TRUNC, 0600);
        };
        if (out >= 0)
            posix_spawn_file_actions_adddup2(&files, out, STDOUT_FILENO);
        else
            into(STDOUT_FILENO, folder.file("out"));
        into(STDERR_FILENO, folder.file("err"));
        arguments.insert(arguments.begin(), program);
        std::vector<std::string> settings = settingsOf(folder, environment);
        const int refused =
            posix_spawn(&child_, program, &files, nullptr, pointers(arguments).data(), pointers(settings).data());
        EXPECT_EQ(refused, 0) << program;
        posix_spawn_file_actions_destroy(&files);
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
    /// What it has said so far, and whether it still runs: for the message of a test that waits for it in vain.
    [[nodiscard]] std::string story() const {
        siginfo_t ended{};
        const bool runs = child_ > 0 &&
                          waitid(P_PID, static_cast<id_t>(child_), &ended, WEXITED | WNOHANG | WNOWAIT) == 0 &&
                          ended.si_pid == 0;
        return std::string(runs ? "(it is there) " : "(it is gone) ") + outSoFar() + readFile(folder_.file("err"));
    }
    Output wait() {
        int status = 0;
        waitpid(std::exchange(child_, 0), &status, 0);
        return {WIFEXITED(status) ? WEXITSTATUS(status) : 1000 + status, readFile(folder_.file("out")),
                readFile(folder_.file("err"))};
    }

private:
    /// The variables of this process, but for those that would lead it to the person's own files or screen.
    static std::vector<std::string> settingsOf(const TempFolder& folder,
                                               const std::vector<std::pair<std::string, std::string>>& own) {
        std::map<std::string, std::string> all;
        for (char** e = environ; *e; ++e) {
            const std::string_view line = *e;
            const auto is = line.find('=');
            if (is != std::string_view::npos) all[std::string(line.substr(0, is))] = line.substr(is + 1);
        }
        for (const char* name : {"DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"}) all.erase(name);
        all["XDG_STATE_HOME"] = folder.file("state");
        all["XDG_CONFIG_HOME"] = folder.file("config");
        all["HOME"] = folder.file("home");
        for (const auto& [name, value] : own) all[name] = value;
        std::vector<std::string> lines;
        for (const auto& [name, value] : all) lines.push_back(name + "=" + value);
        return lines;
    }
    static std::vector<char*> pointers(std::vector<std::string>& words) {
        std::vector<char*> all;
        for (std::string& w : words) all.push_back(w.data());
        all.push_back(nullptr);
        return all;
    }
    const TempFolder& folder_;
    pid_t child_ = 0;
    int keyboard_ = -1;
};

inline Output run(const TempFolder& folder, std::vector<std::string> arguments) {
    return Program(folder, std::move(arguments)).wait();
}

}  // namespace cruscotto::test
