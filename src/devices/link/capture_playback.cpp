#include "devices/link/capture_playback.h"
#include "core/base/whole_file.h"

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
/// What two questions that are the same have in common.
std::string_view question(std::string_view bytes) {
    return isModbusTcp(bytes) ? bytes.substr(2) : bytes;
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
    : messages_(std::move(messages)), answers_(answers) {
    if (!answers_) return;
    for (std::size_t i = 0; i < messages_.size(); ++i)
        if (messages_[i].way == WireMessage::Way::sent)
            asked_[std::string(question(messages_[i].bytes))].at.push_back(i);
}

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
    const auto like = asked_.find(question(bytes));
    if (like == asked_.end() || due_.size() > mostDue) return false;
    Asked& asked = like->second;
    const std::size_t at = asked.at[asked.next];
    asked.next = (asked.next + 1) % asked.at.size();
    const std::size_t before = due_.size();
    for (std::size_t i = at + 1; i < messages_.size() && messages_[i].way == WireMessage::Way::received; ++i) {
        std::string answer = messages_[i].bytes;
        if (isModbusTcp(bytes) && isModbusTcp(answer)) answer.replace(0, 2, bytes.substr(0, 2));
        due_.push_back(
            {Clock::now() + std::chrono::nanoseconds((messages_[i].at - messages_[at].at).ns), std::move(answer)});
    }
    return due_.size() > before;
}

}  // namespace cruscotto
