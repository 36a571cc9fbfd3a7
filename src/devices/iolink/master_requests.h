#pragma once

#include <memory>
#include <stop_token>
#include <string>

#include "core/base/result.h"
#include "core/base/time.h"

namespace cruscotto {

/// Requests to a master and what it replies: over HTTP, or out of a capture. Confined to one thread, but for wake().
class MasterRequests {
public:
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
    virtual ~MasterRequests() = default;
    MasterRequests() = default;
    MasterRequests(const MasterRequests&) = delete;
    MasterRequests& operator=(const MasterRequests&) = delete;
    /// From the beginning. Before it nothing is asked.
    virtual Result<void> open() { return {}; }
    virtual Reply get(const std::string& path, const std::stop_token& stop) = 0;
    virtual Reply post(const std::string& path, const std::string& body, const std::stop_token& stop) = 0;
    /// Waits without the processor; ends with wake().
    virtual void idle(Duration d) = 0;
    /// Any thread: ends idle(), and has requests look at their stop.
    virtual void wake() = 0;
};

/// A request and a reply as the wire view and its captures have them: "GET /iolink/v1/devices", "200 [...]".
std::string writtenRequest(const std::string& path, const std::string* body);
std::string writtenReply(const MasterRequests::Reply& reply);

/// Answers what was asked in the capture at `path` as it was answered then, in the time that it took. What was not
/// answered there gets status 404 and no body.
std::unique_ptr<MasterRequests> capturedRequests(const std::string& path);

}  // namespace cruscotto
