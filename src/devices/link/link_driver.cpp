#include "devices/link/link_driver.h"

#include "core/base/guarded.h"

#include <algorithm>
#include <chrono>

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
        ready_.clear();
        failedParts_.clear();
        const End end = talk(stop);
        {
            const Lock lock(outputMutex_);
            plays_.clear();
            live_ = false;
        }
        deliver();
        if (end == End::stopped) {
            finish();
        } else {
            const Instant gone = lostSince();
            fallSafe();
            if (end == End::lost) setState(LinkState::lost, lostSentence());
            sink_->report(status_);
            for (ScanBuffer& scan : scans_) scan.away(gone, context_.id + " was away.");
        }
        crash_.disarm();
        close();
        if (end != End::stopped) {
            pause(stop, retry_);
            retry_ = std::min(retry_ + retry_, longestRetry);
        }
    }
    setState(LinkState::stopped, text(CRUSCOTTO_TEXT("Stopped.")));
}

void LinkDriver::setOutput(const std::string& terminal, double value) {
    {
        const Lock lock(outputMutex_);
        if (!outputNames_.contains(terminal) || held_.contains(terminal)) return;
        Output& output = outputs_[terminal];
        output.value = value;
        output.waits = true;
        plays_.erase(terminal);
    }
    wake();
}

bool LinkDriver::playByItself(const std::string& terminal, const PlayedList& list) {
    {
        const Lock lock(outputMutex_);
        if (!live_ || atRest() || held_.contains(terminal) || list.empty() || list.size() > mostPlayed(terminal))
            return false;
        plays_[terminal] = list;
    }
    wake();
    return true;
}

std::map<std::string, PlayedList> LinkDriver::duePlays() {
    const Lock lock(outputMutex_);
    for (const auto& [terminal, list] : plays_)
        if (const auto it = outputs_.find(terminal); it != outputs_.end()) it->second.sent = true;
    return std::exchange(plays_, {});
}

void LinkDriver::setSafeValues(const std::map<std::string, double>& byTerminal) {
    const Lock lock(outputMutex_);
    safe_ = byTerminal;
}

void LinkDriver::allowOutputs(std::uint64_t fellSafe) {
    const Lock lock(outputMutex_);
    if (fellSafe == fell_) held_.clear();
}

void LinkDriver::fallSafe(const std::set<std::string>* only) {
    const Lock lock(outputMutex_);
    bool drives = false;
    for (auto& [terminal, output] : outputs_) {
        const auto safe = safe_.find(terminal);
        if (safe == safe_.end() || (only && !only->contains(terminal)) || !std::exchange(output.sent, false)) continue;
        output.value = safe->second;
        output.waits = true;
        plays_.erase(terminal);
        held_.insert(terminal);
        status_.fallen.insert(terminal);
        drives = true;
    }
    if (drives) status_.fellSafe = ++fell_;
}

void LinkDriver::partFails(const std::set<std::string>& outputs) {
    failedParts_.insert(outputs.begin(), outputs.end());
    fallSafe(&outputs);
    sink_->report(status_);
}

void LinkDriver::partIsBack(const std::set<std::string>& outputs) {
    for (const std::string& terminal : outputs) {
        failedParts_.erase(terminal);
        status_.fallen.erase(terminal);
        const Lock lock(outputMutex_);
        if (const auto it = outputs_.find(terminal); it != outputs_.end()) it->second.waits = true;
    }
    sink_->report(status_);
}

void LinkDriver::checkPulse() {
    if (!context_.pulse || stop_.stop_requested()) return;
    const auto t = std::chrono::steady_clock::now().time_since_epoch();
    const bool lives = std::chrono::nanoseconds(t).count() - *context_.pulse <= DeviceContext::longestHang;
    if (std::exchange(engineAlive_, lives) == lives) return;
    if (lives) return partIsBack(std::exchange(unwatched_, {}));
    {
        const Lock lock(outputMutex_);
        std::ranges::set_difference(outputNames_, failedParts_, std::inserter(unwatched_, unwatched_.end()));
    }
    partFails(unwatched_);
}

void LinkDriver::setParameter(const std::string& key, const std::string& value) {
    {
        const Lock lock(outputMutex_);
        if (parameters_.size() < mostWaitingParameters) parameters_.emplace_back(key, value);
    }
    wake();
}

std::vector<std::pair<std::string, double>> LinkDriver::dueOutputs() {
    checkPulse();
    std::vector<std::pair<std::string, double>> due;
    std::map<std::string, double> ready;
    {
        const Lock lock(outputMutex_);
        for (auto& [terminal, output] : outputs_) {
            if (std::exchange(output.waits, false)) {
                due.emplace_back(terminal, output.value);
                output.sent = true;
            }
            if (const auto safe = safe_.find(terminal); output.sent && safe != safe_.end()) ready.insert(*safe);
        }
    }
    if (ready != ready_) {
        ready_ = std::move(ready);
        if (ready_.empty())
            crash_.disarm();
        else
            keepReady(crash_, ready_);
    }
    return due;
}

void LinkDriver::outputSent(const std::string& terminal, Text problem) {
    auto& problems = status_.outputProblems;
    const auto it = problems.find(terminal);
    if (problem.empty() ? it == problems.end() : it != problems.end() && it->second == problem) return;
    if (problem.empty())
        problems.erase(it);
    else
        problems[terminal] = std::move(problem);
    sink_->report(status_);
}

LinkDriver::Written LinkDriver::notTaken(const std::string& value) {
    return {{}, text(CRUSCOTTO_TEXT("\"{0}\" is not a value that it takes"), value)};
}
LinkDriver::Written LinkDriver::writtenAndRead() {
    return {CRUSCOTTO_TEXT("Written, and read back"), {}};
}

bool LinkDriver::writeWaiting(const std::function<std::optional<Written>(std::size_t, const std::string&)>& write) {
    std::vector<std::pair<std::string, std::string>> due;
    {
        const Lock lock(outputMutex_);
        due.swap(parameters_);
    }
    bool lost = false;
    for (const auto& [key, value] : due) {
        const auto it = std::ranges::find(status_.parameters, key, &DeviceParameter::key);
        if (it == status_.parameters.end()) continue;
        auto written = lost ? std::nullopt : write(static_cast<std::size_t>(it - status_.parameters.begin()), value);
        if (!written) {
            lost = true;
            written = {{}, text(CRUSCOTTO_TEXT("the link was lost before \"{0}\" was answered"), value)};
        }
        it->done = std::move(written->done);
        if (!written->problem.empty() || !it->readable) it->problem = std::move(written->problem);
        it->answered = now();
        sink_->report(status_);
    }
    return !lost;
}

void LinkDriver::requestLater(const std::vector<TerminalRequest>& terminals, const std::set<std::string>& outputs) {
    {
        const Lock lock(outputMutex_);
        outputNames_.insert(outputs.begin(), outputs.end());
    }
    {
        const Lock lock(sleepMutex_);
        requested_ = terminals;
    }
    sleeper_.notify_all();
    wake();
}

std::optional<std::vector<TerminalRequest>> LinkDriver::newRequests() {
    const Lock lock(sleepMutex_);
    return std::exchange(requested_, std::nullopt);
}

void LinkDriver::owe(const std::string& terminal, double value) {
    const Lock lock(outputMutex_);
    if (Output& output = outputs_[terminal]; !output.waits) {
        output.value = value;
        output.waits = true;
    }
}

void LinkDriver::setState(LinkState state, Text sentence, std::vector<DeviceStatus::Suggestion> suggestions) {
    if (state == status_.state && sentence == status_.sentence && suggestions == status_.suggestions) return;
    const bool fails = state == LinkState::nonsense || state == LinkState::failed || state == LinkState::lost ||
                       (state == LinkState::silent && silenceIsFault());
    // Nobody watches over what is driven while nothing is read that makes sense.
    if (fails && state != status_.state) fallSafe();
    // Nor is anything known of what happens meanwhile.
    if (state != status_.state &&
        (state == LinkState::nonsense || state == LinkState::silent || state == LinkState::failed)) {
        deliver();
        const Quality meanwhile = state == LinkState::silent ? Quality::stale : Quality::gap;
        for (ScanBuffer& scan : scans_) scan.away({}, sentence.english(), meanwhile);
        deliver();
    }
    status_.silenceIsFault = silenceIsFault();
    status_.state = state;
    {
        const Lock lock(outputMutex_);
        live_ = state == LinkState::live;
    }
    status_.sentence = std::move(sentence);
    status_.suggestions = std::move(suggestions);
    sink_->report(status_);
}

void LinkDriver::setLive(Text sentence, std::vector<DeviceStatus::Suggestion> suggestions) {
    retry_ = firstRetry;
    std::erase_if(status_.fallen, [this](const std::string& terminal) { return !failedParts_.contains(terminal); });
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
    tellAt(now(), way, std::move(bytes), std::move(fields), std::move(problem));
}

void LinkDriver::tellAt(Instant at, WireMessage::Way way, std::string bytes, std::vector<WireField> fields,
                        Text problem) {
    if (!wireOpen()) return;
    WireMessage message;
    message.at = at;
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

void LinkDriver::pauseUnlessAsked(const std::stop_token& stop, Duration d) {
    Lock lock(sleepMutex_);
    sleeper_.wait_for(lock, stop, std::chrono::nanoseconds(d.ns),
                      [this]() HOLDING(sleepMutex_) { return requested_.has_value(); });
}

}  // namespace cruscotto
