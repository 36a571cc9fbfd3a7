#include "devices/port_scout.h"

#include <chrono>

#include "devices/serial/speed_search.h"

namespace cruscotto {

PortScout::PortScout(std::string root)
    : root_(std::move(root)), thread_([this](const std::stop_token& stop) { work(stop); }) {}

PortScout::~PortScout() {
    thread_.request_stop();
    stopListening();
}

PortScout::State PortScout::state() const {
    const std::lock_guard lock(mutex_);
    return state_;
}

void PortScout::listen(const std::string& path) {
    const std::lock_guard lock(mutex_);
    if (listening_) listening_->request_stop();
    asked_ = path;
    changed_.notify_all();
}

void PortScout::stopListening() {
    const std::lock_guard lock(mutex_);
    asked_.clear();
    if (listening_) listening_->request_stop();
}

void PortScout::work(const std::stop_token& stop) {
    while (!stop.stop_requested()) {
        auto ports = findSerialPorts(root_);
        std::string asked;
        {
            std::unique_lock lock(mutex_);
            state_.looked = true;
            state_.ports = std::move(ports);
            if (asked_.empty()) changed_.wait_for(lock, stop, std::chrono::seconds(1), [&] { return !asked_.empty(); });
            if (stop.stop_requested()) return;
            asked = std::exchange(asked_, {});
            if (asked.empty()) continue;
            listening_.emplace();
            state_.listening = asked;
            state_.tried = 0;
            state_.heard.erase(asked);
        }
        hear(asked, listening_->get_token());
    }
}

void PortScout::hear(const std::string& path, const std::stop_token& stop) {
    SerialSettings line;
    line.port = path;
    const LineFormat any;
    const SpeedFound found =
        findSpeed(line, any, {1'500'000'000}, stop, [this](unsigned, std::size_t tried, std::size_t all) {
            const std::lock_guard lock(mutex_);
            state_.tried = tried;
            state_.speeds = all;
        });
    Heard heard;
    heard.baud = found.baud;
    if (found.baud) {
        std::vector<LineSplitter::Line> lines;
        LineSplitter splitter;
        splitter.feed(found.sample, lines);
        if (!lines.empty()) heard.line = lines.back().text.substr(0, 120);
        heard.sentence = text(CRUSCOTTO_TEXT("Lines of text at {0} baud."), *found.baud);
    } else if (found.refused) {
        heard.sentence = found.refused->sentence;
    } else if (found.anything) {
        heard.sentence = text(CRUSCOTTO_TEXT("Bytes arrive, but are lines of text at no usual speed."));
    } else {
        heard.sentence = text(CRUSCOTTO_TEXT("Nothing arrives. Is the board powered, and does its program run?"));
    }
    const std::lock_guard lock(mutex_);
    listening_.reset();
    state_.listening.clear();
    if (!found.stopped) state_.heard[path] = std::move(heard);
}

}  // namespace cruscotto
