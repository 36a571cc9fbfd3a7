#include "devices/discovery/port_scout.h"

#include <chrono>

#include "devices/serial/speed_search.h"

namespace cruscotto {

PortScout::PortScout(std::string root)
    : root_(std::move(root)), thread_([this](const std::stop_token& stop) { work(stop); }) {}

PortScout::~PortScout() {
    thread_.request_stop();
    stopListening();
    scanning_.request_stop();
}

PortScout::State PortScout::state() const {
    const Lock lock(mutex_);
    return state_;
}

void PortScout::listen(const std::string& path) {
    const Lock lock(mutex_);
    if (listening_) listening_->request_stop();
    asked_ = path;
    changed_.notify_all();
}

void PortScout::stopListening() {
    const Lock lock(mutex_);
    asked_.clear();
    if (listening_) listening_->request_stop();
}

void PortScout::scan(const std::string& typed, std::uint16_t port, HostQuestion question) {
    stopScan();
    if (scanning_.joinable()) scanning_.join();
    const auto range = hostRange(typed);
    const Lock lock(mutex_);
    state_.hosts = {};
    state_.hosts.port = port;
    state_.hosts.question = question;
    if (!range) {
        state_.hosts.sentence = range.error().message;
        return;
    }
    state_.hosts.going = true;
    state_.hosts.all = range.value().size();
    scanning_ = std::jthread([this, typed, port, question, range = range.value()](const std::stop_token& stop) {
        HostScan scan = scanHosts(range, port, question, stop, [this](std::uint64_t done) {
            const Lock inner(mutex_);
            state_.hosts.done = done;
        });
        const Lock inner(mutex_);
        state_.hosts.going = false;
        if (scan.found.empty())
            state_.hosts.sentence =
                text(CRUSCOTTO_TEXT("Nobody answered on port {0} of {1}: {2} addresses were tried, {3} of them are "
                                    "there and do not listen. "
                                    "Is the device switched on, on the same network, and is this its port?"),
                     port, typed, state_.hosts.done, scan.refused);
        else
            state_.hosts.sentence = text(CRUSCOTTO_TEXT("{0} of {1} addresses answer on port {2}."), scan.found.size(),
                                         state_.hosts.done, port);
        state_.hosts.result = std::move(scan);
    });
}

void PortScout::stopScan() {
    scanning_.request_stop();
}

void PortScout::work(const std::stop_token& stop) {
    while (!stop.stop_requested()) {
        auto ports = findSerialPorts(root_);
        auto inputs = findKernelInputs(root_);
        std::string asked;
        std::stop_token end;
        {
            Lock lock(mutex_);
            state_.looked = true;
            state_.ports = std::move(ports);
            state_.inputs = std::move(inputs);
            if (asked_.empty())
                changed_.wait_for(lock, stop, std::chrono::seconds(1),
                                  [&]() HOLDING(mutex_) { return !asked_.empty(); });
            if (stop.stop_requested()) return;
            asked = std::exchange(asked_, {});
            if (asked.empty()) continue;
            end = listening_.emplace().get_token();
            state_.listening = asked;
            state_.tried = 0;
            state_.heard.erase(asked);
        }
        hear(asked, end);
    }
}

void PortScout::hear(const std::string& path, const std::stop_token& stop) {
    SerialSettings line;
    line.port = path;
    const LineFormat any;
    const SpeedFound found =
        findSpeed(line, any, {1'500'000'000}, stop, [this](unsigned, std::size_t tried, std::size_t all) {
            const Lock lock(mutex_);
            state_.tried = tried;
            state_.speeds = all;
        });
    Heard heard;
    heard.baud = found.baud;
    heard.bytesNoText = found.anything && !found.baud;
    if (found.baud) {
        std::vector<LineSplitter::Line> lines;
        LineSplitter splitter;
        splitter.feed(found.sample, lines);
        if (!lines.empty()) heard.line = lines.back().text.substr(0, 120);
        std::vector<std::string> texts;
        for (const auto& l : lines) texts.push_back(l.text);
        heard.labelled = likelyKind(texts) == LineFormat::Kind::labelled;
        heard.sentence = text(CRUSCOTTO_TEXT("Lines of text at {0} baud."), *found.baud);
    } else if (found.refused) {
        heard.sentence = found.refused->sentence;
    } else if (found.anything) {
        heard.sentence = text(CRUSCOTTO_TEXT("Bytes arrive, but are lines of text at no usual speed."));
    } else {
        heard.sentence = text(CRUSCOTTO_TEXT("Nothing arrives. Is the board powered, and does its program run?"));
    }
    const Lock lock(mutex_);
    listening_.reset();
    state_.listening.clear();
    if (!found.stopped) state_.heard[path] = std::move(heard);
}

}  // namespace cruscotto
