#pragma once

#include <atomic>
#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <string_view>
#include <thread>

#include "core/base/result.h"

namespace cruscotto {

/// What a stand-in says to one peer. Called on the host's thread only.
class Conversation {
public:
    virtual ~Conversation() = default;
    /// The answer to what has just arrived.
    virtual std::string hear(std::string_view bytes) = 0;
    /// What it says by itself; asked for about every millisecond where ticks() is true.
    virtual std::string tick() { return {}; }
    [[nodiscard]] virtual bool ticks() const { return false; }
    /// It has had enough of the peer, once what it said last is out.
    [[nodiscard]] virtual bool hangsUp() const { return false; }
};

/// Where a stand-in is reached: a pseudo terminal (one peer), or a TCP port on the loopback address (several). Has a
/// thread of its own. Any thread.
class StandInHost {
public:
    using Begin = std::function<std::unique_ptr<Conversation>()>;
    /// `link`: a symbolic link to make to the pty; none where empty.
    static Result<std::unique_ptr<StandInHost>> onPty(Begin begin, std::string link = {});
    /// `port` 0: any that is free.
    static Result<std::unique_ptr<StandInHost>> onLoopback(Begin begin, std::uint16_t port = 0);
    ~StandInHost();
    StandInHost(const StandInHost&) = delete;
    StandInHost& operator=(const StandInHost&) = delete;

    /// "/dev/pts/3", the link's name, or "127.0.0.1:40123".
    [[nodiscard]] std::string address() const;
    /// As if the cable was pulled, and put back: returns when it is so. On a pty a link must have been named.
    void unplug();
    void plug();

private:
    StandInHost(Begin begin, bool pty, std::string link, std::uint16_t port);
    Result<void> open();
    void close();
    void work(const std::stop_token& stop);
    struct Peer;

    const Begin begin_;
    const bool pty_;
    const std::string link_;
    std::uint16_t port_;
    std::string path_;
    int listener_ = -1;  // the pty's master, or the listening socket
    int wake_ = -1;
    std::vector<Peer> peers_;
    std::atomic<bool> wanted_{true}, there_{false};
    std::jthread thread_;
};

}  // namespace cruscotto
