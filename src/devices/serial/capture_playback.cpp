#include "devices/serial/capture_playback.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <thread>

namespace cruscotto {

Result<std::unique_ptr<CapturePlayback>> CapturePlayback::open(const std::string& path) {
    std::error_code ec;
    const auto size = std::filesystem::file_size(path, ec);
    if (ec) return failure("There is no capture {0}.", path);
    if (size > (64U << 20)) return failure("{0} is larger than 64 MB, which is more than a capture may be.", path);
    std::stringstream content;
    content << std::ifstream(path, std::ios::binary).rdbuf();
    auto read = readCapture(content.str());
    if (!read) return read.error();
    auto messages = std::move(read.value());
    std::erase_if(messages, [](const WireMessage& m) { return m.way == WireMessage::Way::sent || m.bytes.empty(); });
    if (messages.empty()) return failure("Nothing was received in {0}.", path);
    std::ranges::stable_sort(messages, {}, &WireMessage::at);
    return std::unique_ptr<CapturePlayback>(new CapturePlayback(std::move(messages)));
}

CapturePlayback::CapturePlayback(std::vector<WireMessage> received) : received_(std::move(received)) {}

CapturePlayback::Clock::time_point CapturePlayback::due() const {
    return began_ + std::chrono::nanoseconds((received_[next_].at - received_.front().at).ns);
}

bool CapturePlayback::read(Duration wait, std::string& out) {
    const auto end = Clock::now() + std::chrono::nanoseconds(wait.ns);
    std::this_thread::sleep_until(std::min(due(), end));
    bool any = false;
    while (due() <= Clock::now()) {
        out += received_[next_].bytes;
        any = true;
        if (++next_ < received_.size()) continue;
        next_ = 0;
        began_ = Clock::now() + std::chrono::seconds(1);
    }
    return any;
}

}  // namespace cruscotto
