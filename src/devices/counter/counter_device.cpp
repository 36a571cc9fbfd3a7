#include "devices/counter/counter_device.h"

#include <linux/counter.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cmath>
#include <cstring>
#include <filesystem>
#include <sstream>

#include "core/base/parsed.h"
#include "core/chain/common_stages.h"
#include "devices/kernel_file.h"
#include "devices/link/access.h"
#include "devices/link/link_driver.h"
#include "devices/link/waker.h"

namespace cruscotto {

namespace {

constexpr std::size_t mostWatches = 32;
constexpr unsigned mostCounts = 64;
constexpr std::array<const char*, 7> eventNames{"overflow", "underflow", "turn-over", "threshold",
                                                "index",    "change",    "capture"};

class CounterEvents : public LinkDriver {
public:
    CounterEvents(DeviceContext context, CounterEventsSettings settings, KernelCalls calls)
        : LinkDriver(std::move(context), {}), settings_(std::move(settings)), calls_(calls) {
        for (const CounterWatch& w : settings_.watches)
            scans_.push_back(&addScan(w.name, {{w.name, SampleType::uint32, ChannelKind::counterInput}}));
    }
    ~CounterEvents() override { CounterEvents::close(); }

protected:
    std::optional<ByteLink::Failure> open() override {
        fd_ = calls_.open(settings_.device.c_str());
        if (fd_ < 0) return refused(errno);
        listCounts();
        if (settings_.watches.empty()) return std::nullopt;
        for (const CounterWatch& w : settings_.watches) {
            counter_watch watch = asked(w);
            if (calls_.control(fd_, COUNTER_ADD_WATCH_IOCTL, &watch) >= 0) continue;
            const int error = errno;
            close();
            if (error == ENOTTY)
                return ByteLink::Failure{LinkState::failed,
                                         text(CRUSCOTTO_TEXT("{0} is no counter."), settings_.device)};
            return ByteLink::Failure{
                LinkState::failed,
                text(CRUSCOTTO_TEXT("{0} cannot tell of \"{1}\" ({2}). What it has is in /sys/bus/counter/devices."),
                     settings_.device, w.name, std::string(std::strerror(error)))};
        }
        if (calls_.control(fd_, COUNTER_ENABLE_EVENTS_IOCTL, nullptr) < 0) {
            const int error = errno;
            close();
            return ByteLink::Failure{LinkState::failed, text(CRUSCOTTO_TEXT("{0} does not begin to watch ({1})."),
                                                             settings_.device, std::string(std::strerror(error)))};
        }
        return std::nullopt;
    }
    void close() override {
        if (fd_ < 0) return;
        (void)calls_.control(fd_, COUNTER_DISABLE_EVENTS_IOCTL, nullptr);
        ::close(fd_);
        fd_ = -1;
    }
    void wake() override { waker_.wake(); }
    [[nodiscard]] Text lostSentence() const override {
        return text(CRUSCOTTO_TEXT("{0} went away. It is looked for again; the gap is kept."), settings_.device);
    }

    End talk(const std::stop_token& stop) override {
        if (settings_.watches.empty()) return onlyLook(stop);
        setLive(
            text(CRUSCOTTO_TEXT("{0} is watched; what happens there is read at the kernel's time."), settings_.device));
        while (!stop.stop_requested()) {
            const bool something = waker_.waitFor(fd_, milliseconds(100));
            if (something && !take()) return End::lost;
            deliver();
            reportSometimes();
        }
        return End::stopped;
    }

private:
    /// What stands about it in the tree beside /dev.
    void listCounts() {
        namespace fs = std::filesystem;
        const fs::path node(settings_.device);
        const fs::path about = node.parent_path().parent_path() / "sys/bus/counter/devices" / node.filename();
        status().parts.clear();
        names_.clear();
        for (const char* of : {"count", "signal"})
            for (unsigned i = 0; i < mostCounts; ++i) {
                const fs::path folder = about / fmt::format("{}{}", of, i);
                std::error_code ec;
                if (!fs::is_directory(folder, ec)) break;
                const std::string name = kernelLine(folder / "name");
                status().parts.push_back({fmt::format("{} {}", of, i), name});
                if (of[0] == 'c') names_.push_back(name);
            }
    }
    /// Which of all events it would tell of. Nothing is watched yet by being asked about.
    End onlyLook(const std::stop_token& stop) {
        std::string words;
        std::size_t possible = 0;
        for (unsigned count = 0; count < std::max<std::size_t>(names_.size(), 1); ++count)
            for (std::uint8_t event = 0; event < eventNames.size() && possible < mostWatches; ++event) {
                counter_watch watch = asked({"", false, static_cast<std::uint8_t>(count), event});
                if (calls_.control(fd_, COUNTER_ADD_WATCH_IOCTL, &watch) < 0) {
                    if (errno != ENOTTY) continue;
                    setState(LinkState::failed, text(CRUSCOTTO_TEXT("{0} is no counter."), settings_.device));
                    return End::again;
                }
                std::string name = count < names_.size() ? names_[count] : std::string();
                name = pairName(name);
                if (name.empty() || std::ranges::count(names_, names_[count]) > 1) name = fmt::format("count{}", count);
                words += fmt::format("{}-{} = count {} on {}\n", name, eventNames[event], count, eventNames[event]);
                ++possible;
            }
        (void)calls_.control(fd_, COUNTER_DISABLE_EVENTS_IOCTL, nullptr);
        std::vector<DeviceStatus::Suggestion> suggestions;
        if (possible > 0)
            suggestions = {
                {text(CRUSCOTTO_TEXT("Watch all {0} things that it can tell of"), possible), "watches", words}};
        while (!stop.stop_requested()) {
            setLive(text(CRUSCOTTO_TEXT("{0} is there, and nothing of it is watched. Say under Watched what is read, "
                                        "and when."),
                         settings_.device),
                    suggestions);
            pause(stop, seconds(1));
            if (!stop.stop_requested() && calls_.control(fd_, COUNTER_DISABLE_EVENTS_IOCTL, nullptr) < 0)
                return End::lost;
        }
        return End::stopped;
    }
    static counter_watch asked(const CounterWatch& w) {
        counter_watch out{};
        out.component.type = w.ofSignal ? COUNTER_COMPONENT_SIGNAL : COUNTER_COMPONENT_COUNT;
        out.component.scope = w.ofSignal ? COUNTER_SCOPE_SIGNAL : COUNTER_SCOPE_COUNT;
        out.component.parent = w.number;
        out.event = w.event;
        out.channel = w.channel;
        return out;
    }
    static bool same(const counter_watch& a, const counter_watch& b) {
        return a.component.type == b.component.type && a.component.parent == b.component.parent && a.event == b.event &&
               a.channel == b.channel;
    }

    [[nodiscard]] ByteLink::Failure refused(int error) const {
        if (error == EACCES || error == EPERM)
            return {LinkState::noPermission, kernelPermissionSentence(settings_.device)};
        if (error == EBUSY)
            return {LinkState::busy, text(CRUSCOTTO_TEXT("{0} is in use by another program; the kernel lets one in."),
                                          settings_.device)};
        return {LinkState::absent,
                text(CRUSCOTTO_TEXT("There is no {0} ({1}). \"ls /dev/counter*\" lists what this computer has."),
                     settings_.device, std::string(std::strerror(error)))};
    }

    bool take() {
        std::array<counter_event, 64> events{};
        const ssize_t n = ::read(fd_, events.data(), sizeof events);
        if (n < 0) return errno == EAGAIN || errno == EINTR;
        if (n == 0) return false;
        kernelTime_.look([this] { return now(); });
        for (std::size_t i = 0; i < static_cast<std::size_t>(n) / sizeof events[0]; ++i) {
            const counter_event& e = events[i];
            status().bytes += sizeof e;
            for (std::size_t w = 0; w < settings_.watches.size(); ++w) {
                if (!same(asked(settings_.watches[w]), e.watch)) continue;
                ++status().lines;
                if (e.status != 0) {
                    reject({}, text(CRUSCOTTO_TEXT("{0} could not be read when it happened ({1})"),
                                    settings_.watches[w].name, std::string(std::strerror(e.status))));
                    continue;
                }
                // A counter that turns over is looked after by the chain, by 32 bits.
                const auto v = static_cast<double>(e.value & 0xFFFFFFFFU);
                scans_[w]->add(kernelTime_.at(static_cast<std::int64_t>(e.timestamp)), std::span(&v, 1));
            }
        }
        return true;
    }

    const CounterEventsSettings settings_;
    const KernelCalls calls_;
    Waker waker_;
    KernelTime kernelTime_;
    std::vector<ScanBuffer*> scans_;
    std::vector<std::string> names_;  // of its counts
    int fd_ = -1;
};

}  // namespace

Result<CounterWatch> counterWatch(const std::string& name, const std::string& words) {
    CounterWatch out;
    out.name = name;
    std::istringstream in(words);
    std::vector<std::string> w;
    for (std::string word; in >> word;) w.push_back(word);
    const bool shape = (w.size() == 4 || (w.size() == 6 && w[4] == "channel")) && w[2] == "on" &&
                       (w[0] == "count" || w[0] == "signal");
    const auto event = shape ? std::ranges::find(eventNames, w[3]) : eventNames.end();
    if (name.empty() || event == eventNames.end() || !parsed(w[1], out.number) ||
        (w.size() == 6 && !parsed(w[5], out.channel)))
        return failure(
            "\"{0}\": \"{1}\" is not understood. It is count or signal, its number, on, and overflow, underflow, "
            "turn-over, threshold, index, change or capture; then channel and a number, where there are several.",
            name, words);
    out.ofSignal = w[0] == "signal";
    out.event = static_cast<std::uint8_t>(event - eventNames.begin());
    return out;
}

Result<CounterEventsSettings> counterEventsSettings(const JsonText& json) {
    CounterEventsSettings out;
    SettingsReader settings(json);
    out.device = settings.word("device", out.device.c_str());
    if (out.device.empty()) settings.fail(failure("\"device\" must be a counter, as in /dev/counter0."));
    for (const auto& [name, words] : settings.pairs("watches", mostWatches)) {
        auto watch = counterWatch(name, words);
        if (!watch) return watch.error();
        out.watches.push_back(std::move(watch.value()));
    }
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

std::unique_ptr<Device> makeCounterEvents(const DeviceContext& context, CounterEventsSettings settings,
                                          KernelCalls calls) {
    return std::make_unique<CounterEvents>(context, std::move(settings), calls);
}

DeviceKind counterEventsKind() {
    DeviceKind kind;
    kind.key = "counter-events";
    kind.title = CRUSCOTTO_TEXT("Events of this computer's counters");
    kind.name = CRUSCOTTO_TEXT("Counters");
    using Type = SettingInfo::Type;
    kind.settings = {
        {"device", CRUSCOTTO_TEXT("Counter"), Type::text, {}, "/dev/counter0", {}},
        {"watches",
         CRUSCOTTO_TEXT("Watched"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT(
             "One a line: a name, =, and what is read when, as in turns = count 0 on index; stroke = count 1 "
             "on capture channel 1.")},
    };
    kind.terminals = [](const JsonText& json) {
        std::vector<TerminalInfo> out;
        const auto settings = counterEventsSettings(json);
        if (!settings) return out;
        for (const CounterWatch& w : settings.value().watches)
            out.push_back({w.name, ChannelKind::counterInput, SampleType::uint32, {}, 0, {}, {pulseCounter()}});
        return out;
    };
    kind.check = checkedBy<counterEventsSettings>;
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>&) -> std::unique_ptr<Device> {
        return makeCounterEvents(context, settingsBy<counterEventsSettings>(json), KernelCalls::system());
    };
    return kind;
}

}  // namespace cruscotto
