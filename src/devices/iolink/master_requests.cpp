#include "devices/iolink/master_requests.h"

#include "core/base/parsed.h"
#include "devices/link/capture_playback.h"
#include "devices/link/waker.h"

namespace cruscotto {

namespace {

class CapturedRequests : public MasterRequests {
public:
    explicit CapturedRequests(std::string path) : path_(std::move(path)) {}

    Result<void> open() override {
        auto opened = CapturePlayback::open(path_, true);
        if (!opened) return opened.error();
        playback_ = std::move(opened.value());
        return {};
    }
    Reply get(const std::string& path, const std::stop_token& stop) override {
        return answer(writtenRequest(path, nullptr), stop);
    }
    Reply post(const std::string& path, const std::string& body, const std::stop_token& stop) override {
        return answer(writtenRequest(path, &body), stop);
    }
    void idle(Duration d) override { (void)waker_.waitFor(-1, d); }
    void wake() override { waker_.wake(); }

private:
    Reply answer(const std::string& request, const std::stop_token& stop) {
        if (!playback_->sent(request)) return {Reply::What::answered, 404, {}};
        std::vector<std::string> came;
        while (came.empty()) {
            if (stop.stop_requested()) return {Reply::What::stopped, 0, {}};
            (void)playback_->read(milliseconds(100), came);
        }
        Reply out{Reply::What::broken, 0, {}};
        const std::size_t blank = std::min(came.back().find(' '), came.back().size());
        if (!parsed(std::string_view(came.back()).substr(0, blank), out.status)) return out;
        out.what = Reply::What::answered;
        out.body = came.back().substr(std::min(blank + 1, came.back().size()));
        return out;
    }

    const std::string path_;
    std::unique_ptr<CapturePlayback> playback_;
    Waker waker_;
};

}  // namespace

std::string writtenRequest(const std::string& path, const std::string* body) {
    return body ? "POST " + path + " " + *body : "GET " + path;
}
std::string writtenReply(const MasterRequests::Reply& reply) {
    return std::to_string(reply.status) + " " + reply.body;
}

std::unique_ptr<MasterRequests> capturedRequests(const std::string& path) {
    return std::make_unique<CapturedRequests>(path);
}

}  // namespace cruscotto
