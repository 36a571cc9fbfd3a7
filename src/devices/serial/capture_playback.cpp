#include "devices/serial/capture_playback.h"
#include "core/whole_file.h"

#include <algorithm>
#include <thread>

namespace cruscotto {

namespace {

constexpr std::size_t mostDue = 10'000;

/// The head of a Modbus TCP message (Modbus Messaging Implementation Guide V1.0b, 3.1.3): a transaction's number, the
/// protocol 0, and the length of what follows.
bool isModbusTcp(std::string_view bytes) {
    return bytes.size() >= 8 && bytes[2] == 0 && bytes[3] == 0 &&
           static_cast<std::size_t>(static_cast<unsigned char>(bytes[4]) << 8 | static_cast<unsigned char>(bytes[5])) ==
               bytes.size() - 6;
}
bool sameQuestion(std::string_view a, std::string_view b) {
    return a == b || (isModbusTcp(a) && isModbusTcp(b) && a.substr(2) == b.substr(2));
}

}  // namespace

Result<std::unique_ptr<CapturePlayback>> CapturePlayback::open(const std::string& path, bool answers) {
    const auto content = readWholeFile(path, 64'000'000);
    if (!content) return content.error();
    auto read = readCapture(content.value());
    if (!read) return read.error();
    auto messages = std::move(read.value());
    std::erase_if(messages, [&](const WireMessage& m) {
        return m.bytes.empty() || (!answers && m.way == WireMessage::Way::sent);
    });
    if (std::ranges::none_of(messages, [](const WireMessage& m) { return m.way == WireMessage::Way::received; }))
        return failure("Nothing was received in {0}.", path);
    std::ranges::stable_sort(messages, {}, &WireMessage::at);
    return std::unique_ptr<CapturePlayback>(new CapturePlayback(std::move(messages), answers));
}

CapturePlayback::CapturePlayback(std::vector<WireMessage> messages, bool answers)
    : messages_(std::move(messages)), answers_(answers) {}

void CapturePlayback::schedule() {
    if (answers_ || !due_.empty()) return;
    due_.push_back(
        {began_ + std::chrono::nanoseconds((messages_[next_].at - messages_.front().at).ns), messages_[next_].bytes});
    if (++next_ < messages_.size()) return;
    next_ = 0;
    began_ = due_.back().at + std::chrono::seconds(1);
}

bool CapturePlayback::read(Duration wait, std::vector<std::string>& out) {
    const auto end = Clock::now() + std::chrono::nanoseconds(wait.ns);
    schedule();
    std::this_thread::sleep_until(due_.empty() ? end : std::min(due_.front().at, end));
    const auto now = Clock::now();
    bool any = false;
    while (!due_.empty() && due_.front().at <= now) {
        out.push_back(std::move(due_.front().bytes));
        due_.pop_front();
        any = true;
        schedule();
    }
    return any;
}

bool CapturePlayback::read(Duration wait, std::string& out) {
    std::vector<std::string> messages;
    const bool any = read(wait, messages);
    for (const std::string& m : messages) out += m;
    return any;
}

bool CapturePlayback::sent(std::string_view bytes) {
    if (!answers_ || due_.size() > mostDue) return false;
    for (std::size_t looked = 0; looked < messages_.size(); ++looked) {
        const std::size_t at = (next_ + looked) % messages_.size();
        const WireMessage& question = messages_[at];
        if (question.way != WireMessage::Way::sent || !sameQuestion(question.bytes, bytes)) continue;
        next_ = at + 1;
        const std::size_t before = due_.size();
        for (; next_ < messages_.size() && messages_[next_].way == WireMessage::Way::received; ++next_) {
            std::string answer = messages_[next_].bytes;
            if (isModbusTcp(bytes) && isModbusTcp(answer)) answer.replace(0, 2, bytes.substr(0, 2));
            due_.push_back(
                {Clock::now() + std::chrono::nanoseconds((messages_[next_].at - question.at).ns), std::move(answer)});
        }
        return due_.size() > before;
    }
    return false;
}

}  // namespace cruscotto
