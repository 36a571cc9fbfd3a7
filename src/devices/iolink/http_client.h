#pragma once

#include "devices/iolink/master_requests.h"

namespace cruscotto {

/// Requests to one HTTP server over a connection that is kept (by libcurl). Follows no redirect, speaks nothing but
/// HTTP, takes no more than 1 MiB of a reply. Confined to one thread, but for wake().
class HttpClient : public MasterRequests {
public:
    HttpClient(std::string host, std::uint16_t port, Duration limit);
    ~HttpClient() override;
    Reply get(const std::string& path, const std::stop_token& stop) override;
    Reply post(const std::string& path, const std::string& body, const std::stop_token& stop) override;
    void idle(Duration d) override;
    void wake() override;

private:
    struct State;
    Reply request(const std::string& path, const std::string* body, const std::stop_token& stop);
    std::unique_ptr<State> state_;
};

}  // namespace cruscotto
