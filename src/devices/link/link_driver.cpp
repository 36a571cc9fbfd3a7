#include "devices/link/link_driver.h"

#include "core/guarded.h"

#include <algorithm>

namespace cruscotto {

namespace {
constexpr Duration firstRetry = milliseconds(5), longestRetry = milliseconds(500), reportEvery = milliseconds(250);
constexpr std::size_t mostWaitingParameters = 1000;
}  // namespace

LinkDriver::LinkDriver(DeviceContext context, std::set<std::string> outputs)
    : context_(std::move(context)), outputNames_(std::move(outputs)), retry_(firstRetry) {}

void LinkDriver::run(DeviceSink& sink, std::stop_token stop) {
    sink_ = &sink;
    stop_ = stop;
    const std::stop_callback ends(stop, [this] { wake(); });
    while (!stop.stop_requested()) {
        if (auto refused = open()) {
            if (!stop.stop_requested()) setState(refused->state, refused->sentence);
            pause(stop, retry_);
            retry_ = std::min(retry_ + retry_, longestRetry);
            continue;
        }
        {
            // A device that was away, or has just started, does not know what it stands at.
            const Lock lock(outputMutex_);
            for (auto& [terminal, output] : outputs_) output.waits = true;
        }
        const End end = talk(stop);
        deliver();
        if (end == End::stopped) {
            finish();
        } else {
            const Instant gone = lostSince();
            if (end == End::lost) setState(LinkState::lost, lostSentence());
            for (ScanBuffer& scan : scans_) scan.away(gone, context_.id + " was away.");
        }
        close();
        if (end != End::stopped) {
            pause(stop, retry_);
            retry_ = std::min(retry_ + retry_, longestRetry);
        }
    }
    setState(LinkState::stopped, text(CRUSCOTTO_TEXT("Stopped.")));
}

void LinkDriver::setOutput(const std::string& terminal, double value) {
    if (!outputNames_.contains(terminal)) return;
    {
        const Lock lock(outputMutex_);
        outputs_[terminal] = {value, true};
    }
    wake();
}

void LinkDriver::setParameter(const std::string& key, const std::string& value) {
    {
        const Lock lock(outputMutex_);
        if (parameters_.size() < mostWaitingParameters) parameters_.emplace_back(key, value);
    }
    wake();
}

std::vector<std::pair<std::string, double>> LinkDriver::dueOutputs() {
    std::vector<std::pair<std::string, double>> due;
    const Lock lock(outputMutex_);
    for (auto& [terminal, output] : outputs_)
        if (std::exchange(output.waits, false)) due.emplace_back(terminal, output.value);
    return due;
}

std::vector<std::pair<std::string, std::string>> LinkDriver::dueParameters() {
    const Lock lock(outputMutex_);
    return std::exchange(parameters_, {});
}

void LinkDriver::owe(const std::string& terminal, double value) {
    const Lock lock(outputMutex_);
    if (Output& output = outputs_[terminal]; !output.waits) output = {value, true};
}

void LinkDriver::setState(LinkState state, Text sentence, std::vector<DeviceStatus::Suggestion> suggestions) {
    if (state == status_.state && sentence == status_.sentence && suggestions == status_.suggestions) return;
    status_.state = state;
    status_.sentence = std::move(sentence);
    status_.suggestions = std::move(suggestions);
    sink_->report(status_);
}

void LinkDriver::setLive(Text sentence, std::vector<DeviceStatus::Suggestion> suggestions) {
    retry_ = firstRetry;
    setState(LinkState::live, std::move(sentence), std::move(suggestions));
}

void LinkDriver::reportSometimes() {
    const Instant t = now();
    if (t - lastReport_ < reportEvery) return;
    lastReport_ = t;
    sink_->report(status_);
}

void LinkDriver::reject(std::string_view bytes, Text reason) {
    ++status_.rejected;
    if (status_.lastRejected.size() == 20) status_.lastRejected.erase(status_.lastRejected.begin());
    status_.lastRejected.push_back({now(), std::string(bytes.substr(0, 200)), std::move(reason)});
}

ScanBuffer& LinkDriver::addScan(std::string name, std::vector<Channel> channels) {
    return scans_.emplace_back(context_.id, std::move(name), std::move(channels));
}

void LinkDriver::deliver() {
    for (ScanBuffer& scan : scans_) scan.deliver(*sink_);
}

void LinkDriver::tell(WireMessage::Way way, std::string bytes, std::vector<WireField> fields, Text problem) {
    if (!wireOpen()) return;
    WireMessage message;
    message.at = now();
    message.way = way;
    message.bytes = std::move(bytes);
    message.fields = std::move(fields);
    message.problem = std::move(problem);
    context_.wire->add(std::move(message));
}

void LinkDriver::pause(const std::stop_token& stop, Duration d) {
    Lock lock(sleepMutex_);
    sleeper_.wait_for(lock, stop, std::chrono::nanoseconds(d.ns), [] { return false; });
}

}  // namespace cruscotto
