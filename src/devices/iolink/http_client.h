#pragma once

#include <memory>
#include <stop_token>
#include <string>

#include "core/time.h"

namespace cruscotto {

/// Requests to one HTTP server over a connection that is kept (by libcurl). Follows no redirect, speaks nothing but
/// HTTP, takes no more than 1 MiB of a reply. Confined to one thread, but for wake().
class HttpClient {
public:
    HttpClient(std::string host, std::uint16_t port, Duration limit);
    ~HttpClient();
    HttpClient(const HttpClient&) = delete;
    HttpClient& operator=(const HttpClient&) = delete;

    struct Reply {
        enum class What {
            answered,
            refused,   ///< nobody listens there
            unknown,   ///< no such name
            timedOut,  ///< no answer, or no whole one
            broken,    ///< what came is no HTTP, or too much
            stopped
        };
        What what = What::broken;
        int status = 0;
        std::string body;
    };
    Reply get(const std::string& path, const std::stop_token& stop);
    Reply post(const std::string& path, const std::string& json, const std::stop_token& stop);
    /// Waits without the processor; ends with wake().
    void idle(Duration d);
    /// Any thread: ends idle(), and has request look at their stop.
    void wake();

private:
    struct State;
    Reply request(const std::string& path, const std::string* body, const std::stop_token& stop);
    std::unique_ptr<State> state_;
};

}  // namespace cruscotto
