#include "devices/iolink/http_client.h"

#include <curl/curl.h>

#include <algorithm>

#include "devices/link/poll_time.h"

namespace cruscotto {

namespace {
constexpr std::size_t largestReply = std::size_t{1} << 20;

std::size_t keep(char* bytes, std::size_t size, std::size_t count, void* to) {
    auto& body = *static_cast<std::string*>(to);
    if (body.size() + size * count > largestReply) return 0;
    body.append(bytes, size * count);
    return size * count;
}
}  // namespace

struct HttpClient::State {
    std::string base;
    Duration limit;
    CURLM* many = nullptr;
    CURL* one = nullptr;
    curl_slist* headers = nullptr;
};

HttpClient::HttpClient(std::string host, std::uint16_t port, Duration limit) : state_(std::make_unique<State>()) {
    static const CURLcode once = curl_global_init(CURL_GLOBAL_DEFAULT);
    (void)once;
    if (host.find(':') != std::string::npos) host = "[" + host + "]";
    state_->base = "http://" + host + ":" + std::to_string(port);
    state_->limit = limit;
    state_->many = curl_multi_init();
    state_->one = curl_easy_init();
    state_->headers = curl_slist_append(nullptr, "Content-Type: application/json");
    // Without this a small request that has a body is held back until the server has said that it wants it.
    state_->headers = curl_slist_append(state_->headers, "Expect:");
}

HttpClient::~HttpClient() {
    curl_easy_cleanup(state_->one);
    curl_multi_cleanup(state_->many);
    curl_slist_free_all(state_->headers);
}

void HttpClient::wake() {
    curl_multi_wakeup(state_->many);
}

void HttpClient::idle(Duration d) {
    curl_multi_poll(state_->many, nullptr, 0, pollTime(d), nullptr);
}

HttpClient::Reply HttpClient::get(const std::string& path, const std::stop_token& stop) {
    return request(path, nullptr, stop);
}
HttpClient::Reply HttpClient::post(const std::string& path, const std::string& body, const std::stop_token& stop) {
    return request(path, &body, stop);
}

HttpClient::Reply HttpClient::request(const std::string& path, const std::string* body, const std::stop_token& stop) {
    Reply reply;
    CURL* c = state_->one;
    curl_easy_reset(c);
    const std::string url = state_->base + path;
    curl_easy_setopt(c, CURLOPT_URL, url.c_str());
    curl_easy_setopt(c, CURLOPT_PROTOCOLS_STR, "http");
    curl_easy_setopt(c, CURLOPT_NOSIGNAL, 1L);
    curl_easy_setopt(c, CURLOPT_PROXY, "");  // a device on the bench is not behind one
    curl_easy_setopt(c, CURLOPT_TCP_NODELAY, 1L);
    curl_easy_setopt(c, CURLOPT_QUICK_EXIT, 1L);  // a name that is being looked up is not waited for behind a stop
    curl_easy_setopt(c, CURLOPT_HTTPHEADER, state_->headers);
    curl_easy_setopt(c, CURLOPT_WRITEFUNCTION, keep);
    curl_easy_setopt(c, CURLOPT_WRITEDATA, &reply.body);
    curl_easy_setopt(c, CURLOPT_TIMEOUT_MS, static_cast<long>(state_->limit.ns / 1'000'000));
    if (body) {
        curl_easy_setopt(c, CURLOPT_POSTFIELDSIZE, static_cast<long>(body->size()));
        curl_easy_setopt(c, CURLOPT_COPYPOSTFIELDS, body->c_str());
    }
    curl_multi_add_handle(state_->many, c);
    int running = 1;
    CURLcode result = CURLE_GOT_NOTHING;
    while (running > 0 && !stop.stop_requested()) {
        if (curl_multi_perform(state_->many, &running) != CURLM_OK) break;
        if (running > 0) curl_multi_poll(state_->many, nullptr, 0, 200, nullptr);
    }
    int left = 0;
    while (const CURLMsg* m = curl_multi_info_read(state_->many, &left))
        if (m->msg == CURLMSG_DONE) result = m->data.result;
    long status = 0;
    curl_easy_getinfo(c, CURLINFO_RESPONSE_CODE, &status);
    curl_multi_remove_handle(state_->many, c);
    reply.status = static_cast<int>(status);
    using What = Reply::What;
    if (running > 0)
        reply.what = What::stopped;
    else if (result == CURLE_OK)
        reply.what = What::answered;
    else if (result == CURLE_COULDNT_CONNECT)
        reply.what = What::refused;
    else if (result == CURLE_COULDNT_RESOLVE_HOST)
        reply.what = What::unknown;
    else if (result == CURLE_OPERATION_TIMEDOUT)
        reply.what = What::timedOut;
    else
        reply.what = What::broken;
    return reply;
}

}  // namespace cruscotto
