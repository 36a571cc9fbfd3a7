#include "devices/replay/replay_device.h"

#include <condition_variable>
#include <nlohmann/json.hpp>
#include <thread>

#include "core/base/guarded.h"
#include "core/base/json_text.h"
#include "core/run/run_reader.h"
#include "devices/settings_reader.h"

namespace cruscotto {

namespace {

struct ReplaySettings {
    std::string run, device;
    double speed = 1;
    bool loop = false;
};

Result<ReplaySettings> replaySettings(const JsonText& json) {
    ReplaySettings out;
    SettingsReader settings(json);
    out.run = settings.word("run");
    out.device = settings.word("device");
    if (out.run.empty()) return failure("\"run\" is missing: say which recorded run is played.");
    out.speed = settings.number("speed", 1, 0.001, 1000);
    out.loop = settings.flag("loop");
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

ChannelKind asInput(ChannelKind kind) {
    if (kind == ChannelKind::analogOutput) return ChannelKind::analogInput;
    if (kind == ChannelKind::digitalOutput) return ChannelKind::digitalInput;
    return kind;
}

class ReplayDevice : public Device {
public:
    ReplayDevice(DeviceContext context, ReplaySettings settings)
        : context_(std::move(context)), settings_(std::move(settings)) {}

    void run(DeviceSink& sink, std::stop_token stop) override {
        auto opened = RunReader::open(settings_.run, 0);
        if (!opened) {
            sink.report({LinkState::absent, opened.error().message, 0, 0, 0, {}});
            return;
        }
        RunReader& reader = *opened.value();
        const RunInfo& info = reader.info();
        const Span span = info.span;
        std::vector<Track> tracks = tracksOf(info);
        if (tracks.empty() || span.to <= span.from) {
            sink.report(
                {LinkState::failed,
                 text(CRUSCOTTO_TEXT(
                          "{0} holds nothing of the device \"{1}\". Choose another run, or leave the device empty."),
                      settings_.run, settings_.device),
                 0,
                 0,
                 0,
                 {}});
            return;
        }
        const Duration period = fromNs(static_cast<double>((span.to - span.from).ns) / settings_.speed);
        const Instant began = context_.pace == Pace::realTime ? sink.now() : Instant{0};
        for (std::int64_t lap = 0; !stop.stop_requested(); ++lap) {
            sink.report({LinkState::live,
                         settings_.loop ? text(CRUSCOTTO_TEXT("Plays {0}, round {1}, {2} times as fast as it was."),
                                               settings_.run, lap + 1, settings_.speed)
                                        : text(CRUSCOTTO_TEXT("Plays {0}, {1} times as fast as it was."), settings_.run,
                                               settings_.speed),
                         0,
                         0,
                         0,
                         {}});
            const Instant lapBegan{began.ns + lap * period.ns};
            for (Track& t : tracks) {
                t.blocks.emplace(reader.blocks(t.group));
                t.next = t.blocks->next();
                t.base = t.end;
                t.first.reset();
            }
            if (!play(sink, stop, tracks, span.from, lapBegan)) return;
            if (!settings_.loop) break;
            if (!waitUntil(sink, stop, lapBegan + period)) return;
        }
        sink.report({LinkState::stopped,
                     stop.stop_requested() ? text(CRUSCOTTO_TEXT("Stopped."))
                                           : text(CRUSCOTTO_TEXT("{0} has been played to its end."), settings_.run),
                     0,
                     0,
                     0,
                     {}});
    }
    void setOutput(const std::string&, double) override {}
    bool reconfigure(const JsonText&, const std::vector<TerminalRequest>&) override { return false; }

private:
    struct Track {
        std::int64_t group = 0;
        std::shared_ptr<const ScanGroup> scan;
        std::optional<RunReader::Blocks> blocks{};
        BlockPtr next{};
        std::size_t at = 0;                    // of it, what has been played
        std::optional<std::uint64_t> first{};  // number of the lap's first sample in the run
        std::uint64_t base = 0, end = 0;       // numbers that are given out
    };

    std::vector<Track> tracksOf(const RunInfo& info) const {
        std::vector<Track> out;
        for (const RunGroup& g : info.groups) {
            if (!settings_.device.empty() && g.device != settings_.device) continue;
            auto scan = std::make_shared<ScanGroup>();
            scan->device = context_.id;
            scan->name = g.device + "/" + g.name;
            scan->rateHz = g.rateHz * settings_.speed;
            for (const RunSignal& s : info.signals)
                if (s.group == g.id) {
                    const SignalSpec& spec = s.current();
                    scan->channels.push_back({settings_.device.empty() ? g.device + "/" + spec.terminal : spec.terminal,
                                              s.type, asInput(spec.kind)});
                }
            if (!scan->channels.empty()) out.push_back({g.id, std::move(scan)});
        }
        return out;
    }

    Instant mapped(Instant t, Instant from, Instant lapBegan) const {
        return lapBegan + fromNs(static_cast<double>((t - from).ns) / settings_.speed);
    }

    /// Samples come at their own times, a few milliseconds' worth together; as fast as possible whole blocks, the one
    /// that ends first before the others. Of what has no clock, as what outputs were set to, a block may span minutes:
    /// its samples come before what was measured behind them. False if stopped, or where the context ends.
    bool play(DeviceSink& sink, std::stop_token& stop, std::vector<Track>& tracks, Instant from, Instant lapBegan) {
        constexpr Duration together = milliseconds(5);
        const bool fast = context_.pace == Pace::asFastAsPossible;
        while (true) {
            Track* best = nullptr;
            Instant bestTime;
            std::optional<Instant> second;
            for (Track& t : tracks) {
                if (!t.next) continue;
                const Instant time = t.next->timeOf(fast && t.next->times.empty() ? t.next->size() - 1 : t.at);
                if (best && time >= bestTime) {
                    second = second ? std::min(*second, time) : time;
                    continue;
                }
                if (best) second = bestTime;
                best = &t;
                bestTime = time;
            }
            if (!best) return true;
            if (fast) {
                if (stop.stop_requested()) return false;
                Instant last = bestTime;
                if (!best->next->times.empty()) last = second ? *second : best->next->times.back();
                Instant until = mapped(last, from, lapBegan) + nanoseconds(1);
                if (context_.until) until = std::min(until, Instant{context_.until->ns});
                const std::uint64_t before = best->end;
                deliverBefore(sink, *best, until, from, lapBegan);
                const bool clocked = !best->next || best->next->times.empty();
                if (best->next && (best->end == before || (clocked && best->at > 0)))
                    return false;  // the rest lies behind the end
                continue;
            }
            const bool goesOn = waitUntil(sink, stop, mapped(bestTime, from, lapBegan) + together);
            const Instant now = sink.now();
            for (Track& t : tracks) deliverBefore(sink, t, now, from, lapBegan);
            if (!goesOn) return false;
        }
    }

    /// Those of its samples whose time has come.
    void deliverBefore(DeviceSink& sink, Track& track, Instant end, Instant from, Instant lapBegan) {
        while (track.next) {
            std::size_t low = track.at, high = track.next->size();
            while (low < high) {
                const std::size_t middle = low + (high - low) / 2;
                if (mapped(track.next->timeOf(middle), from, lapBegan) < end)
                    low = middle + 1;
                else
                    high = middle;
            }
            if (low == track.at) return;
            auto block = std::make_shared<Block>(*partOf(track.next, track.at, low));
            track.at = low;
            const bool whole = low == track.next->size();
            if (whole) {
                track.next = track.blocks->next();
                track.at = 0;
            }
            block->group = track.scan;
            if (!track.first) track.first = block->firstIndex;
            block->firstIndex = track.base + (block->firstIndex - *track.first);
            track.end = block->firstIndex + block->size();
            block->t0 = mapped(block->t0, from, lapBegan);
            block->dtNs /= settings_.speed;
            for (Instant& t : block->times) t = mapped(t, from, lapBegan);
            if (block->gapBefore) {
                block->gapBefore->from = mapped(block->gapBefore->from, from, lapBegan);
                block->gapBefore->to = mapped(block->gapBefore->to, from, lapBegan);
            }
            sink.deliver(std::move(block));
            if (!whole) return;
        }
    }

    bool waitUntil(DeviceSink& sink, std::stop_token& stop, Instant t) {
        if (context_.pace == Pace::asFastAsPossible) return !stop.stop_requested();
        Lock lock(mutex_);
        while (!stop.stop_requested()) {
            const Duration left = t - sink.now();
            if (left.ns <= 0) return true;
            sleeper_.wait_for(lock, stop, std::chrono::nanoseconds(left.ns), [] { return false; });
        }
        return false;
    }

    const DeviceContext context_;
    const ReplaySettings settings_;
    Mutex mutex_;
    std::condition_variable_any sleeper_;
};

}  // namespace

Bench replayBench(const RunInfo& run, const std::string& runPath, const ReplayOptions& options) {
    Bench out = run.benchThatComputes();
    out.name = run.bench.name + ", played again";
    for (auto& device : out.devices) {
        DeviceSpec spec = *device;
        spec.kind = "recorded-run";
        spec.settings = jsonText(
            nlohmann::json{{"run", runPath}, {"device", device->id}, {"speed", options.speed}, {"loop", options.loop}});
        device = std::make_shared<DeviceSpec>(std::move(spec));
    }
    for (auto& signal : out.signals) {
        SignalSpec spec = *signal;
        // Readings that were recorded are played, not the raw samples beside them.
        if (const RunSignal* recorded = run.signal(spec.id); recorded && recorded->raw)
            spec.chain = recorded->current().chain;
        // What was set is read now, in the unit that it was set in.
        if (spec.output && spec.kind == ChannelKind::analogOutput)
            spec.chain = {Stage::of("slope-offset", {{"slope", 1.0}, {"offset", 0.0}, {"unit", spec.output->unit}})};
        spec.kind = asInput(spec.kind);
        spec.output.reset();
        spec.range.reset();
        signal = std::make_shared<SignalSpec>(std::move(spec));
    }
    // There is nothing to drive: rules look on and tell.
    out.controls.clear();
    out.procedures.clear();
    for (auto& rule : out.rules) {
        RuleSpec spec = *rule;
        for (auto* actions : {&spec.then, &spec.otherwise})
            std::erase_if(*actions,
                          [](const Action& a) { return isOfOutput(a.kind) || a.kind == ActionKind::command; });
        rule = std::make_shared<const RuleSpec>(std::move(spec));
    }
    return out;
}

DeviceKind replayKind() {
    DeviceKind kind;
    kind.key = "recorded-run";
    kind.title = CRUSCOTTO_TEXT("Recorded run, played again");
    kind.name = CRUSCOTTO_TEXT("Replayed run");
    kind.simulated = true;
    using Type = SettingInfo::Type;
    kind.settings = {
        {"run", CRUSCOTTO_TEXT("Run"), Type::text, {}, "", CRUSCOTTO_TEXT("The path of a .run file."), ".run"},
        {"device",
         CRUSCOTTO_TEXT("Device in the run"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("Its name there; empty: all of them.")},
        {"speed", CRUSCOTTO_TEXT("Times as fast"), Type::number, {"0.1", "1", "10"}, "1", {}},
        {"loop", CRUSCOTTO_TEXT("Again and again"), Type::flag, {}, "false", {}},
    };
    kind.terminals = [](const JsonText&) { return std::vector<TerminalInfo>{}; };
    kind.check = checkedBy<replaySettings>;
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>&) -> std::unique_ptr<Device> {
        return std::make_unique<ReplayDevice>(context, settingsBy<replaySettings>(json));
    };
    return kind;
}

}  // namespace cruscotto
