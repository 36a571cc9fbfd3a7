#include "devices/fastbox/fast_box.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <condition_variable>
#include <cstring>
#include <numbers>

#include "core/base/guarded.h"
#include "core/signal/clock_fit.h"
#include "devices/settings_reader.h"
#include "sim/pump_bench.h"

namespace cruscotto {

namespace {

constexpr std::size_t tableSamples = std::size_t{1} << 20;
constexpr Scale inputRange{-10, 10};

struct FastBoxSettings {
    double channels = 32, rate = 10'000, bufferMs = 1000, ppm = 0, busyFrom = 0, busyTo = 0;
};

struct Number {
    const char* key;
    double FastBoxSettings::*member;
    double low, high;
    const char* otherwise;
    Text label, help;
};
const std::vector<Number>& numbers() {
    static const std::vector<Number> all{
        {"channels", &FastBoxSettings::channels, 1, 64, "32", CRUSCOTTO_TEXT("Channels"), {}},
        {"rate-hz", &FastBoxSettings::rate, 1, 10'000'000, "10000", CRUSCOTTO_TEXT("Rate in Hz"),
         CRUSCOTTO_TEXT("Samples a second of each channel.")},
        {"buffer-ms", &FastBoxSettings::bufferMs, 1, 60'000, "1000", CRUSCOTTO_TEXT("Buffer in ms"),
         CRUSCOTTO_TEXT("What the box holds until it is fetched; what comes then is lost.")},
        {"clock-ppm", &FastBoxSettings::ppm, -1000, 1000, "0", CRUSCOTTO_TEXT("Clock too fast by, ppm"), {}},
        {"busy-from-s", &FastBoxSettings::busyFrom, 0, 1e9, "0", CRUSCOTTO_TEXT("Nobody fetches from, s"), {}},
        {"busy-to-s", &FastBoxSettings::busyTo, 0, 1e9, "0", CRUSCOTTO_TEXT("Nobody fetches until, s"), {}},
    };
    return all;
}

Result<FastBoxSettings> fastBoxSettings(const JsonText& json) {
    FastBoxSettings s;
    SettingsReader settings(json);
    for (const Number& n : numbers()) s.*n.member = settings.number(n.key, s.*n.member, n.low, n.high);
    if (auto read = settings.result(); !read) return read.error();
    return s;
}

/// What every box measures: a sine with some noise, a whole number of turns, so that it joins up with itself.
const std::vector<std::int16_t>& table() {
    static const std::vector<std::int16_t> once = [] {
        sim::Noise noise(1);
        std::vector<std::int16_t> out(tableSamples);
        for (std::size_t i = 0; i < tableSamples; ++i) {
            const double turn = static_cast<double>(i) / static_cast<double>(tableSamples) * 512;
            out[i] = static_cast<std::int16_t>(
                std::lround(8000 * std::sin(turn * 2 * std::numbers::pi) + 12 * noise.normal()));
        }
        return out;
    }();
    return once;
}

class FastBox : public Device {
public:
    FastBox(DeviceContext context, const FastBoxSettings& settings)
        : context_(std::move(context)), settings_(settings) {
        auto group = std::make_shared<ScanGroup>();
        group->device = context_.id;
        group->name = "analog";
        group->rateHz = settings_.rate;
        for (int c = 0; c < static_cast<int>(settings_.channels); ++c)
            group->channels.push_back({"AI" + std::to_string(c), SampleType::int16, ChannelKind::analogInput});
        group_ = std::move(group);
    }

    void run(DeviceSink& sink, std::stop_token stop) override {
        sink.report({LinkState::live, text(CRUSCOTTO_TEXT("The box answers and measures.")), 0, 0, 0, {}});
        if (context_.pace == Pace::realTime)
            fetch(sink, stop);
        else
            pour(sink, stop);
        if (stop.stop_requested()) sink.report({LinkState::stopped, text(CRUSCOTTO_TEXT("Stopped.")), 0, 0, 0, {}});
    }
    void setOutput(const std::string&, double) override {}
    bool reconfigure(const JsonText& json, const std::vector<TerminalRequest>&) override {
        const auto next = fastBoxSettings(json);
        return next && next.value().channels == settings_.channels && next.value().rate == settings_.rate &&
               next.value().bufferMs == settings_.bufferMs && next.value().ppm == settings_.ppm &&
               next.value().busyFrom == settings_.busyFrom && next.value().busyTo == settings_.busyTo;
    }

private:
    std::shared_ptr<Block> block(std::uint64_t first, std::size_t n) const {
        auto out = std::make_shared<Block>();
        out->group = group_;
        out->firstIndex = first;
        for (std::size_t c = 0; c < group_->channels.size(); ++c) {
            std::vector<std::int16_t> v(n);
            // Each channel goes through the same table from another place.
            std::size_t at = (first + c * 15'485'863) % tableSamples;
            for (std::size_t done = 0; done < n;) {
                const std::size_t part = std::min(n - done, tableSamples - at);
                std::memcpy(v.data() + done, table().data() + at, part * sizeof v[0]);
                done += part;
                at = 0;
            }
            out->columns.emplace_back(std::move(v));
        }
        return out;
    }

    /// As fast as the pipeline takes it.
    void pour(DeviceSink& sink, const std::stop_token& stop) {
        const std::uint64_t last =
            context_.until ? static_cast<std::uint64_t>(std::llround(context_.until->seconds() * settings_.rate))
                           : ~std::uint64_t{0};
        const auto most = static_cast<std::uint64_t>(std::clamp(settings_.rate / 10, 1.0, 4096.0));
        for (std::uint64_t next = 0; next < last && !stop.stop_requested();) {
            const std::uint64_t n = std::min(most, last - next);
            auto b = block(next, n);
            b->t0 = {std::llround(static_cast<double>(next) * 1e9 / settings_.rate)};
            b->dtNs = 1e9 / settings_.rate;
            sink.deliver(std::move(b));
            next += n;
        }
    }

    /// In real time, from a buffer that goes on filling by the box's own clock.
    void fetch(DeviceSink& sink, std::stop_token& stop) {
        const double trueRate = settings_.rate * (1 + settings_.ppm * 1e-6);
        const auto held =
            std::max<std::uint64_t>(1, static_cast<std::uint64_t>(settings_.rate * settings_.bufferMs / 1e3));
        const Instant began = sink.now();
        ClockFit clock(settings_.rate);
        // A fast box is fetched more often, so that no block is so long that others wait behind it; a slow one no more
        // often than it has something.
        const int pauseMs = settings_.rate * settings_.channels > 4e6 ? 1 : settings_.rate < 100 ? 100 : 10;
        std::uint64_t next = 0;
        std::optional<Gap> gap;
        Instant lastEnd = began;
        while (!stop.stop_requested()) {
            if (!pause(stop, pauseMs)) break;
            const Instant now = sink.now();
            const double t = (now - began).seconds();
            if (t >= settings_.busyFrom && t < settings_.busyTo) continue;
            const auto taken = static_cast<std::uint64_t>(t * trueRate);
            clock.observe(taken, now);
            if (taken - next > held) {
                const std::uint64_t lost = taken - next - held;
                gap = Gap{lastEnd, {}, lost, "The box's buffer ran over before it was fetched."};
                next += lost;
            }
            while (next < taken) {
                const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(taken - next, 4096));
                auto b = block(next, n);
                const auto placed = clock.place(next, n);
                b->t0 = placed.t0;
                b->dtNs = placed.dtNs;
                if (gap) gap->to = b->t0;
                b->gapBefore = std::exchange(gap, std::nullopt);
                lastEnd = b->timeOf(n);
                next += n;
                sink.deliver(std::move(b));
            }
        }
    }

    bool pause(std::stop_token& stop, int ms) {
        Lock lock(mutex_);
        sleeper_.wait_for(lock, stop, std::chrono::milliseconds(ms), [] { return false; });
        return !stop.stop_requested();
    }

    const DeviceContext context_;
    const FastBoxSettings settings_;
    std::shared_ptr<const ScanGroup> group_;
    Mutex mutex_;
    std::condition_variable_any sleeper_;
};

}  // namespace

DeviceKind fastBoxKind() {
    DeviceKind kind;
    kind.key = "sim-fast-box";
    kind.simulated = true;
    kind.title = CRUSCOTTO_TEXT("Simulated box with many fast channels");
    kind.rateKey = "rate-hz";
    kind.name = CRUSCOTTO_TEXT("Fast box");
    for (const Number& n : numbers())
        kind.settings.push_back({n.key, n.label, SettingInfo::Type::number, {}, n.otherwise, n.help});
    kind.terminals = [](const JsonText& json) {
        const auto settings = fastBoxSettings(json);
        std::vector<TerminalInfo> out;
        for (int c = 0; settings && c < static_cast<int>(settings.value().channels); ++c)
            out.push_back({"AI" + std::to_string(c), ChannelKind::analogInput, SampleType::int16, {inputRange}, 16});
        return out;
    };
    kind.check = checkedBy<fastBoxSettings>;
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>&) -> std::unique_ptr<Device> {
        return std::make_unique<FastBox>(context, settingsBy<fastBoxSettings>(json));
    };
    return kind;
}

}  // namespace cruscotto
