#include "engine/engine.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <condition_variable>
#include <deque>
#include <future>
#include <set>
#include <thread>

#include "core/log.h"

namespace cruscotto {

namespace {

constexpr std::size_t queueBlocks = 8192;
constexpr Duration anchorEvery = milliseconds(60'000);

std::int64_t systemWallClock() {
    return std::chrono::duration_cast<std::chrono::nanoseconds>(std::chrono::system_clock::now().time_since_epoch())
        .count();
}

std::vector<TerminalRequest> requestsFor(const Bench& bench, const std::string& device) {
    std::vector<TerminalRequest> out;
    for (const auto& s : bench.signals)
        if (s->device == device) out.push_back({s->terminal, s->range});
    return out;
}

bool sameRequests(const Bench& a, const Bench& b, const std::string& device) {
    const auto x = requestsFor(a, device), y = requestsFor(b, device);
    return std::equal(x.begin(), x.end(), y.begin(), y.end(), [](const TerminalRequest& p, const TerminalRequest& q) {
        return p.terminal == q.terminal && p.range == q.range;
    });
}

}  // namespace

struct Engine::State {
    using Command = std::function<void()>;
    struct Item {
        BlockPtr block;
        Command command;
    };

    /// A device on its thread.
    struct Running : DeviceSink {
        State& engine;
        DeviceSpec spec;
        std::unique_ptr<Device> device;
        std::map<const ScanGroup*, Gap> dropped;  // the device thread's own
        std::atomic<bool> leaving{false};         // nobody takes its blocks any more
        std::jthread thread;

        Running(State& e, DeviceSpec s) : engine(e), spec(std::move(s)) {}
        void deliver(BlockPtr block) override { engine.enqueue(*this, std::move(block)); }
        void report(DeviceStatus status) override { engine.note(spec.id, std::move(status)); }
        [[nodiscard]] Instant now() const override { return engine.now(); }
    };

    /// A signal tied to a column of a scan group.
    struct Bound {
        std::size_t column = 0;
        std::shared_ptr<const SignalSpec> spec;
        std::optional<ChainEvaluator> evaluator;
        std::shared_ptr<SignalHistory> history;
    };
    struct Group {
        std::shared_ptr<const ScanGroup> group;
        std::shared_ptr<Timeline> timeline;
        std::vector<Bound> bound;
        std::uint64_t samples = 0;
    };

    // fixed after construction
    EngineOptions options;
    std::chrono::steady_clock::time_point began = std::chrono::steady_clock::now();
    WallAnchor startAnchor;

    // the engine thread's own
    Bench bench;
    std::map<std::pair<std::string, std::string>, Group> groups;
    std::unique_ptr<Recorder> recorder;
    std::vector<double> rawScratch;
    Instant lastAnchor;
    std::map<std::string, std::shared_ptr<const ScanGroup>> outputGroups;
    std::map<std::string, std::uint64_t> outputSamples;

    HistorySource source;
    std::atomic<std::int64_t> reached{0};  // as fast as possible: end of what has been measured
    std::atomic<std::uint64_t> lost{0};
    std::atomic<std::uint64_t> measured{0};  // bytes

    // guarded by queueMutex
    std::mutex queueMutex;
    std::condition_variable queueChanged;
    std::deque<Item> queue;
    std::size_t queuedBlocks = 0;
    bool quitting = false;

    // guarded by mutex
    mutable std::mutex mutex;
    std::map<std::string, DeviceStatus> statuses;
    std::map<std::string, double> outputs;
    std::vector<SeenTerminal> seen;
    std::vector<Mark> marks;
    std::vector<Span> recorded;
    RecordingStatus lastRecording;
    bool recordingNow = false;

    // guarded by devicesMutex: the set of devices; held while they are started or stopped
    std::mutex devicesMutex;
    std::map<std::string, std::unique_ptr<Running>> devices;
    bool stopped = false;

    std::thread thread;

    [[nodiscard]] Instant now() const {
        if (options.pace == Pace::asFastAsPossible) return {reached.load(std::memory_order_acquire)};
        return {std::chrono::duration_cast<std::chrono::nanoseconds>(std::chrono::steady_clock::now() - began).count()};
    }
    [[nodiscard]] std::int64_t wallNow() const { return options.wallClock ? options.wallClock() : systemWallClock(); }

    // ---- queue

    void enqueue(Running& from, BlockPtr block) {
        std::unique_lock lock(queueMutex);
        if (queuedBlocks >= queueBlocks) {
            if (options.pace == Pace::asFastAsPossible) {
                queueChanged.wait(lock, [&] { return queuedBlocks < queueBlocks || from.leaving; });
            } else {
                auto [it, fresh] = from.dropped.try_emplace(
                    block->group.get(), Gap{block->timeOf(0), {}, 0, "The computer could not follow."});
                it->second.lostSamples += block->size();
                lost.fetch_add(block->size() * block->columns.size(), std::memory_order_relaxed);
                return;
            }
        }
        if (const auto it = from.dropped.find(block->group.get()); it != from.dropped.end()) {
            auto marked = std::make_shared<Block>(*block);
            it->second.to = block->timeOf(0);
            marked->gapBefore = it->second;
            block = std::move(marked);
            from.dropped.erase(it);
        }
        ++queuedBlocks;
        queue.push_back({std::move(block), {}});
        queueChanged.notify_all();
    }

    void post(Command command) {
        const std::lock_guard lock(queueMutex);
        queue.push_back({nullptr, std::move(command)});
        queueChanged.notify_all();
    }
    /// Runs on the engine thread, behind everything that is queued now; waits for it.
    /// Does nothing once the engine has stopped.
    void call(const Command& command) {
        std::promise<void> done;
        {
            const std::lock_guard lock(queueMutex);
            if (quitting) return;
            queue.push_back({nullptr, [&] {
                                 command();
                                 done.set_value();
                             }});
            queueChanged.notify_all();
        }
        done.get_future().wait();
    }

    void work() {
        std::deque<Item> items;
        while (true) {
            {
                std::unique_lock lock(queueMutex);
                queueChanged.wait(lock, [&] { return !queue.empty() || quitting; });
                if (queue.empty() && quitting) return;
                items.swap(queue);
                queuedBlocks = 0;
                queueChanged.notify_all();
            }
            for (Item& item : items) {
                if (item.block) process(item.block);
                if (item.command) item.command();
            }
            items.clear();
            const Instant t = now();
            source.setExtent({{0}, t});
            if (recorder && t - lastAnchor >= anchorEvery) {
                lastAnchor = t;
                recorder->note([anchor = WallAnchor{t, wallNow()}](RunWriter& w) { w.addAnchor(anchor); });
            }
        }
    }

    // ---- on the engine thread

    Group& groupFor(const std::shared_ptr<const ScanGroup>& scan) {
        Group& group = groups[{scan->device, scan->name}];
        if (group.group == scan) return group;
        // A device that was made anew comes with a new object; the same channels go on in the same histories.
        const bool sameShape = group.group && group.group->channels == scan->channels;
        group.group = scan;
        if (!group.timeline)
            group.timeline = std::make_shared<Timeline>(
                scan->clocked() ? std::max<std::size_t>(4096, options.history.samples / 16) : options.history.samples);
        if (!sameShape) {
            group.bound.clear();
            const std::lock_guard lock(mutex);
            for (const Channel& channel : scan->channels) {
                const SeenTerminal terminal{scan->device, channel};
                if (std::find(seen.begin(), seen.end(), terminal) == seen.end()) seen.push_back(terminal);
            }
        }
        bind(group);
        return group;
    }

    void bind(Group& group) {
        std::vector<Bound> now;
        for (std::size_t i = 0; i < group.group->channels.size(); ++i) {
            const Channel& channel = group.group->channels[i];
            for (const auto& spec : bench.signals) {
                if (spec->device != group.group->device || spec->terminal != channel.terminal) continue;
                Bound b;
                b.column = i;
                b.spec = spec;
                const auto old = std::find_if(group.bound.begin(), group.bound.end(),
                                              [&](const Bound& o) { return o.spec->id == spec->id && o.column == i; });
                if (old != group.bound.end()) {
                    b.history = old->history;
                    if (old->spec->chain == spec->chain && old->spec->kind == spec->kind)
                        b.evaluator = std::move(old->evaluator);
                }
                if (!b.history) b.history = std::make_shared<SignalHistory>(group.timeline, options.history);
                if (!b.evaluator) {
                    auto made = ChainEvaluator::make(spec->chain, spec->kind);
                    if (!made) {
                        logWarning(spec->id + ": " + made.error().english());
                        made = ChainEvaluator::make({}, spec->kind);
                    }
                    b.evaluator.emplace(std::move(made.value()));
                }
                source.set(spec->id, b.history, spec->chain, spec->kind);
                now.push_back(std::move(b));
            }
        }
        group.bound = std::move(now);
    }

    void process(const BlockPtr& block) {
        Group& group = groupFor(block->group);
        if (block->size() == 0) return;
        group.timeline->append(*block);
        std::vector<RecordedColumn> columns;
        for (Bound& b : group.bound) {
            auto readings = std::make_shared<Readings>();
            b.evaluator->process(*block, b.column, *readings);
            measured.fetch_add(bytesOf(block->columns[b.column]).size(), std::memory_order_relaxed);
            rawScratch.clear();
            appendAsDouble(block->columns[b.column], rawScratch);
            b.history->append(rawScratch, *readings);
            if (recorder) columns.push_back({b.column, b.spec->id, std::move(readings)});
        }
        group.samples += block->size();
        if (options.pace == Pace::asFastAsPossible) {
            const Instant end = block->times.empty() ? block->timeOf(block->size()) : block->times.back();
            if (end.ns > reached.load(std::memory_order_relaxed)) reached.store(end.ns, std::memory_order_release);
        }
        if (recorder) recorder->add(block, std::move(columns));
    }

    /// An output's value as a sample of its own, so that it is shown and recorded like any other signal.
    void emitOutput(const SignalSpec& spec, double value) {
        auto& scan = outputGroups[spec.id];
        if (!scan || scan->channels.front().terminal != spec.terminal) {
            auto made = std::make_shared<ScanGroup>();
            made->device = spec.device;
            made->name = "output " + spec.id;
            made->channels = {{spec.terminal, SampleType::float64, spec.kind}};
            scan = std::move(made);
        }
        auto block = std::make_shared<Block>();
        block->group = scan;
        block->firstIndex = outputSamples[spec.id]++;
        block->t0 = now();
        block->times = {block->t0};
        block->columns.emplace_back(std::vector<double>{value});
        process(block);
    }

    void markLost(const std::string& device, Quality quality) {
        for (auto& [key, group] : groups)
            if (key.first == device && !key.second.starts_with("output "))
                for (Bound& b : group.bound) b.history->markLost(now(), quality);
    }

    // ---- devices and outputs, any thread

    void note(const std::string& device, DeviceStatus status) {
        bool changed = false;
        {
            const std::lock_guard lock(mutex);
            DeviceStatus& known = statuses[device];
            changed = known.state != status.state;
            known = status;
        }
        if (!changed) return;
        logInfo(device + ": " + linkStateWord(status.state) + ": " + status.sentence.english());
        const LinkState state = status.state;
        post([this, device, state, words = status.sentence.english()] {
            if (state == LinkState::silent) markLost(device, Quality::stale);
            if (state == LinkState::lost || state == LinkState::failed || state == LinkState::nonsense ||
                state == LinkState::absent || state == LinkState::stopped)
                markLost(device, Quality::gap);
            if (recorder)
                recorder->note([at = now(), state, device, words](RunWriter& w) {
                    w.addEvent(at, std::string("device ") + linkStateWord(state), device + ": " + words);
                });
            // Nobody watches over what a device drives while it cannot be read.
            if (state == LinkState::lost || state == LinkState::failed) safeOutputs(device);
        });
    }

    /// Engine thread, or with the engine thread gone.
    void safeOutputs(const std::string& device) {
        const std::lock_guard lock(devicesMutex);
        for (const auto& spec : bench.signals)
            if (spec->output && (device.empty() || spec->device == device)) drive(*spec, spec->output->safe);
    }

    /// devicesMutex held; engine thread.
    void drive(const SignalSpec& spec, double value) {
        const auto it = devices.find(spec.device);
        if (it == devices.end() || !it->second->device) return;
        it->second->device->setOutput(spec.terminal, value);
        {
            const std::lock_guard lock(mutex);
            outputs[spec.id] = value;
        }
        emitOutput(spec, value);
    }

    /// devicesMutex held; engine thread.
    void launch(const DeviceSpec& spec) {
        auto running = std::make_unique<Running>(*this, spec);
        const DeviceContext context{spec.id, options.pace,
                                    options.until ? std::optional(Instant{options.until->ns}) : std::nullopt};
        const auto requests = requestsFor(bench, spec.id);
        if (options.makeDevice) {
            running->device = options.makeDevice(spec, context, requests);
        } else if (const DeviceKind* kind = deviceKind(spec.kind)) {
            if (auto checked = kind->check(spec.settings); !checked)
                note(spec.id, {LinkState::failed, checked.error().message, 0, 0, 0, {}});
            else
                running->device = kind->make(context, spec.settings, requests);
        } else {
            note(spec.id, {LinkState::failed,
                           text(CRUSCOTTO_TEXT("No device of the kind \"{0}\" is known."), spec.kind),
                           0,
                           0,
                           0,
                           {}});
        }
        Running* r = running.get();
        devices[spec.id] = std::move(running);
        if (!r->device) return;
        for (const auto& signal : bench.signals)
            if (signal->device == spec.id && signal->output) drive(*signal, signal->output->start);
        r->thread = std::jthread([r](std::stop_token stop) { r->device->run(*r, stop); });
    }

    /// Engine thread.
    void take(const Bench& next) {
        const Bench before = std::exchange(bench, next);
        const std::lock_guard lock(devicesMutex);
        if (stopped) return;
        std::set<std::string> kept;
        for (const auto& spec : bench.devices) {
            kept.insert(spec->id);
            const auto it = devices.find(spec->id);
            if (it != devices.end() && it->second->spec.kind == spec->kind &&
                ((it->second->spec.settings == spec->settings && sameRequests(before, bench, spec->id)) ||
                 (it->second->device &&
                  it->second->device->reconfigure(spec->settings, requestsFor(bench, spec->id))))) {
                it->second->spec.settings = spec->settings;
                continue;
            }
            if (it != devices.end()) {
                if (it->second->spec.kind == spec->kind && it->second->spec.settings == spec->settings) continue;
                retire(it->second, true);
            }
            launch(*spec);
        }
        for (auto it = devices.begin(); it != devices.end();) {
            if (kept.contains(it->first)) {
                ++it;
                continue;
            }
            for (const auto& signal : before.signals)
                if (signal->device == it->first && signal->output && it->second->device)
                    it->second->device->setOutput(signal->terminal, signal->output->safe);
            retire(it->second, true);
            {
                const std::lock_guard inner(mutex);
                statuses.erase(it->first);
            }
            it = devices.erase(it);
        }
        for (auto& [key, group] : groups)
            if (group.group) bind(group);
        for (const auto& old : before.signals)
            if (!bench.signal(old->id)) source.remove(old->id);
        for (const auto& signal : bench.signals) {
            const SignalSpec* old = before.signal(signal->id);
            if (signal->output && (!old || old->device != signal->device || old->terminal != signal->terminal))
                drive(*signal, signal->output->start);
        }
        if (recorder) {
            recorder->note([at = now(), next](RunWriter& w) {
                for (const auto& signal : next.signals) w.define(*signal, at);
                w.addBench(next, at);
            });
        }
    }

    /// Ends a device's thread. It may still hand over blocks meanwhile: they queue up behind.
    void retire(std::unique_ptr<Running>& running, bool onEngineThread) {
        if (running->thread.joinable()) {
            running->thread.request_stop();
            if (onEngineThread) {
                const std::lock_guard lock(queueMutex);
                running->leaving = true;
                queueChanged.notify_all();
            }
            running->thread.join();
        }
    }
};

Engine::Engine(std::unique_ptr<State> state) : state_(std::move(state)) {}

std::unique_ptr<Engine> Engine::begin(const Bench& bench, EngineOptions options) {
    auto state = std::make_unique<State>();
    State& s = *state;
    s.options = std::move(options);
    s.startAnchor = {{0}, s.wallNow()};
    s.source.setAnchor(s.startAnchor);
    s.bench = bench;
    s.thread = std::thread([&s] { s.work(); });
    return std::unique_ptr<Engine>(new Engine(std::move(state)));
}

void Engine::launchDevices() {
    State& s = *state_;
    s.call([&s] {
        const std::lock_guard lock(s.devicesMutex);
        for (const auto& spec : s.bench.devices) s.launch(*spec);
    });
}

std::unique_ptr<Engine> Engine::start(const Bench& bench, EngineOptions options) {
    auto engine = begin(bench, std::move(options));
    engine->launchDevices();
    return engine;
}

Result<std::unique_ptr<Engine>> Engine::startRecorded(const Bench& bench, const std::string& path,
                                                      EngineOptions options) {
    auto engine = begin(bench, std::move(options));
    if (auto started = engine->startRecording(path); !started) return started.error();
    engine->launchDevices();
    return engine;
}

Engine::~Engine() {
    stop();
}

void Engine::stop() {
    State& s = *state_;
    if (!s.thread.joinable()) return;
    s.call([&s] { s.safeOutputs({}); });
    {
        const std::lock_guard lock(s.devicesMutex);
        s.stopped = true;
        for (auto& [id, running] : s.devices) running->thread.request_stop();
        for (auto& [id, running] : s.devices) s.retire(running, false);
    }
    stopRecording();
    s.call([] {});
    {
        const std::lock_guard lock(s.queueMutex);
        s.quitting = true;
        s.queueChanged.notify_all();
    }
    s.thread.join();
}

void Engine::wait() {
    State& s = *state_;
    std::vector<std::jthread*> threads;
    {
        const std::lock_guard lock(s.devicesMutex);
        for (auto& [id, running] : s.devices) threads.push_back(&running->thread);
    }
    for (std::jthread* t : threads)
        if (t->joinable()) t->join();
    s.call([] {});
}

void Engine::interrupt() {
    const std::lock_guard lock(state_->devicesMutex);
    for (auto& [id, running] : state_->devices) running->thread.request_stop();
}

const Source& Engine::source() const {
    return state_->source;
}
Instant Engine::now() const {
    return state_->now();
}

void Engine::apply(const Bench& bench) {
    state_->post([this, bench] { state_->take(bench); });
}

bool Engine::setOutput(const std::string& signal, double value) {
    bool found = false;
    state_->call([&] {
        State& s = *state_;
        const SignalSpec* spec = s.bench.signal(signal);
        if (!spec || !spec->output || !std::isfinite(value)) return;
        const std::lock_guard lock(s.devicesMutex);
        const double v = isDigital(spec->kind) ? (value > 0.5 ? 1.0 : 0.0)
                                               : std::clamp(value, spec->output->low, spec->output->high);
        s.drive(*spec, v);
        found = true;
    });
    return found;
}

std::map<std::string, DeviceStatus> Engine::deviceStatus() const {
    const std::lock_guard lock(state_->mutex);
    return state_->statuses;
}

std::vector<SeenTerminal> Engine::seenTerminals() const {
    const std::lock_guard lock(state_->mutex);
    return state_->seen;
}

std::uint64_t Engine::lostSamples() const {
    return state_->lost.load(std::memory_order_relaxed);
}

std::uint64_t Engine::measuredBytes() const {
    return state_->measured.load(std::memory_order_relaxed);
}

Result<void> Engine::startRecording(const std::string& path) {
    State& s = *state_;
    Result<void> result;
    s.call([&] {
        if (s.recorder) {
            result = failure("A recording is going on already. Stop it first.");
            return;
        }
        const Instant at = s.now();
        auto writer = RunWriter::create(path, s.bench, {at, s.wallNow()});
        if (!writer) {
            result = writer.error();
            return;
        }
        s.lastAnchor = at;
        s.recorder =
            std::make_unique<Recorder>(std::move(writer.value()), path, at, s.options.pace, s.options.recorder);
        logInfo("recording to " + path);
        std::map<std::string, double> outputs;
        {
            const std::lock_guard lock(s.mutex);
            s.recorded.push_back({at, at});
            s.recordingNow = true;
            outputs = s.outputs;
        }
        for (const auto& spec : s.bench.signals)
            if (spec->output && outputs.contains(spec->id)) s.emitOutput(*spec, outputs[spec->id]);
    });
    return result;
}

RecordingStatus Engine::stopRecording() {
    State& s = *state_;
    std::unique_ptr<Recorder> ended;
    s.call([&] { ended = std::move(s.recorder); });
    if (!ended) return recording();
    ended->close();
    const RecordingStatus status = ended->status();
    logInfo(fmt::format("recorded {} samples to {}, {} lost", status.samples, status.path, status.lost));
    const std::lock_guard lock(s.mutex);
    s.recorded.back().to = s.now();
    s.recordingNow = false;
    s.lastRecording = status;
    return status;
}

RecordingStatus Engine::recording() const {
    State& s = *state_;
    // The recorder belongs to the engine thread; it is looked at in passing there and the last look kept here.
    s.post([&s] {
        if (!s.recorder) return;
        const RecordingStatus status = s.recorder->status();
        const std::lock_guard lock(s.mutex);
        s.lastRecording = status;
    });
    const std::lock_guard lock(s.mutex);
    RecordingStatus status = s.lastRecording;
    status.active = s.recordingNow;
    if (s.recordingNow) status.since = s.recorded.back().from;
    return status;
}

std::vector<Span> Engine::recordedSpans() const {
    State& s = *state_;
    const std::lock_guard lock(s.mutex);
    std::vector<Span> out = s.recorded;
    if (s.recordingNow) out.back().to = s.now();
    return out;
}

void Engine::mark(Instant at, const std::string& words) {
    State& s = *state_;
    {
        const std::lock_guard lock(s.mutex);
        s.marks.push_back({at, words});
    }
    s.post([&s, at, words] {
        if (s.recorder) s.recorder->note([at, words](RunWriter& w) { w.addMark(at, words); });
    });
}

std::vector<Mark> Engine::marks() const {
    const std::lock_guard lock(state_->mutex);
    return state_->marks;
}

}  // namespace cruscotto
