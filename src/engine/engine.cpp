#include "engine/engine.h"

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <future>

#include "core/base/crash_send.h"
#include "core/base/guarded.h"
#include "core/base/log.h"
#include "engine/engine_state.h"

namespace cruscotto {

namespace {
constexpr std::size_t queueBytes = std::size_t{64} << 20;
}

std::int64_t Engine::State::wallNow() const {
    if (options.wallClock) return options.wallClock();
    return std::chrono::duration_cast<std::chrono::nanoseconds>(std::chrono::system_clock::now().time_since_epoch())
        .count();
}

namespace {

std::int64_t systemClockNs(clockid_t clock) {
    timespec t{};
    clock_gettime(clock, &t);
    return static_cast<std::int64_t>(t.tv_sec) * 1'000'000'000 + t.tv_nsec;
}

}  // namespace

std::int64_t Engine::State::asleepNs() const {
    if (options.asleep) return options.asleep();
    return systemClockNs(CLOCK_BOOTTIME) - systemClockNs(CLOCK_MONOTONIC);
}

std::int64_t Engine::State::clockNs() const {
    return options.asleep ? systemClockNs(CLOCK_MONOTONIC) + options.asleep() : systemClockNs(CLOCK_BOOTTIME);
}

void Engine::State::enqueue(Running& from, BlockPtr block) {
    std::size_t bytes = 256 + block->times.size() * sizeof(Instant);
    for (const Samples& column : block->columns) bytes += bytesOf(column).size();
    Lock lock(queueMutex);
    if (from.leaving) return;  // the time since is the gap before what takes its place
    if (queuedBytes > 0 && queuedBytes + bytes > queueBytes) {
        if (options.pace == Pace::asFastAsPossible) {
            queueChanged.wait(lock, [&]() HOLDING(queueMutex) {
                return queuedBytes == 0 || queuedBytes + bytes <= queueBytes || from.leaving;
            });
        } else {
            auto [it, fresh] =
                from.dropped.try_emplace(block->group.get(), Gap{block->timeOf(0), {}, 0, couldNotFollow});
            it->second.lostSamples += block->size();
            noteLost(block->size() * block->columns.size(), couldNotFollow);
            if (const auto& gap = block->gapBefore) {  // goes with the block
                it->second.lostSamples += gap->lostSamples;
                noteLost(gap->lostSamples * block->columns.size(), gap->cause);
            }
            return;
        }
    }
    if (const auto it = from.dropped.find(block->group.get()); it != from.dropped.end()) {
        auto marked = std::make_shared<Block>(*block);
        it->second.to = block->timeOf(0);
        if (const auto& gap = block->gapBefore) {
            it->second.lostSamples += gap->lostSamples;
            noteLost(gap->lostSamples * block->columns.size(), gap->cause);
        }
        marked->gapBefore = it->second;
        block = std::move(marked);
        from.dropped.erase(it);
    }
    queuedBytes += bytes;
    const bool sleeps = put({std::move(block), {}});
    const std::uint64_t ticket = ++handed;
    if (inStep) {
        queueChanged.notify_all();
        queueChanged.wait(lock, [&]() HOLDING(queueMutex) { return worked >= ticket || from.leaving || quitting; });
        return;
    }
    lock.unlock();
    if (sleeps) queueChanged.notify_all();
}

void Engine::State::noteLost(std::uint64_t samples, const std::string& cause) {
    if (samples == 0) return;
    lost.fetch_add(samples, std::memory_order_relaxed);
    lostTo = cause;
}

bool Engine::State::put(Item item) {
    const bool sleeps = queue.empty();
    queue.push_back(std::move(item));
    return sleeps;
}

void Engine::State::post(Command command) {
    Lock lock(queueMutex);
    const bool sleeps = put({nullptr, std::move(command)});
    lock.unlock();
    if (sleeps) queueChanged.notify_all();
}

void Engine::State::call(const Command& command) {
    // Shared: set_value() may still be running when the caller, woken by it, has returned.
    const auto done = std::make_shared<std::promise<void>>();
    {
        Lock lock(queueMutex);
        if (quitting) return;
        const bool sleeps = put({nullptr, [this, &command, done] {
                                     guarded(command);  // the caller is woken in any case
                                     done->set_value();
                                 }});
        lock.unlock();
        if (sleeps) queueChanged.notify_all();
    }
    done->get_future().wait();
}

void Engine::State::beat() {
    if (pulse) *pulse = std::chrono::nanoseconds(std::chrono::steady_clock::now().time_since_epoch()).count();
}

void Engine::State::work() {
    const CrashStack stack;
    std::deque<Item> items;
    while (true) {
        {
            Lock lock(queueMutex);
            const auto something = [&]() HOLDING(queueMutex) { return !queue.empty() || quitting; };
            beat();
            // Devices that drive outputs want to know that it goes on though nothing comes.
            auto rest = untilRules();
            if (pulse) rest = std::min(rest.value_or(pulseEvery), pulseEvery);
            if (rest)
                queueChanged.wait_for(lock, std::chrono::nanoseconds(rest->ns), something);
            else
                queueChanged.wait(lock, something);
            if (queue.empty() && quitting) return;
            items.swap(queue);
            queuedBytes = 0;
            queueChanged.notify_all();
        }
        noticeSleep();
        for (Item& item : items) {
            beat();
            if (item.block && !brokenDown)
                guarded([&] {
                    process(item.block);
                    handOverPublished();
                    const Instant at = now();
                    if (options.pace == Pace::asFastAsPossible && rules.evaluator) rules.evaluator->advance(at);
                    driveRules();
                    driveControls(at);
                    driveProcedure(at);
                });
            if (!item.command) continue;
            source.setExtent({{0}, now()});  // whoever waits for the command sees all that came before it
            guarded(item.command);
        }
        const auto blocks = std::ranges::count_if(items, [](const Item& item) { return item.block != nullptr; });
        items.clear();
        const Instant t = now();
        source.setExtent({{0}, t});
        guarded([&] {
            if (gate && gate->plan().at && t >= *gate->plan().at && gate->shots() == 0) gate->trigger(*gate->plan().at);
            if (recorder && !brokenDown) anchorRecording(t);
            if (!brokenDown) passRules(t);
        });
        const Lock lock(queueMutex);
        workedAwaiting += static_cast<std::uint64_t>(blocks);
        if (requestsAwaited) continue;
        worked += workedAwaiting;
        if (inStep && workedAwaiting) queueChanged.notify_all();
        workedAwaiting = 0;
    }
}

/// The engines that exist. exit() destroys no local objects: a handler stops these engines instead.
struct Engine::Living {
    Mutex mutex;
    std::set<Engine*> engines GUARDED_BY(mutex);
    static Living& all() {
        static Living living;
        // Registered after the set was made, so that it runs before the set is destroyed.
        static const int registered = std::atexit([] {
            for (Engine* engine : all().taken()) engine->stop();
        });
        (void)registered;
        return living;
    }
    std::set<Engine*> taken() {
        const Lock lock(mutex);
        return engines;
    }
    static void add(Engine& engine) {
        Living& living = all();
        const Lock lock(living.mutex);
        living.engines.insert(&engine);
    }
    static void remove(Engine& engine) {
        Living& living = all();
        const Lock lock(living.mutex);
        living.engines.erase(&engine);
    }
};

void Engine::State::guarded(const Command& what) {
    try {
        what();
    } catch (const std::bad_alloc&) {
        breakDown(
            CRUSCOTTO_TEXT("There is not enough memory to go on measuring. The outputs are safe and what was recorded "
                           "is whole. Close other programs, or measure fewer signals or at lower rates."));
    } catch (const std::exception& e) {
        breakDown(
            text(CRUSCOTTO_TEXT("Measuring has ended because of a fault in the program ({0}). The outputs are safe and "
                                "what was recorded is whole. Please report what happened."),
                 e.what()));
    }
}

void Engine::State::breakDown(Text why) {
    if (std::exchange(brokenDown, true)) return;
    endOutputs();
    logWarning(why.english());
    const Lock lock(mutex);
    problem = std::move(why);
}

Text Engine::problem() const {
    const Lock lock(state_->mutex);
    return state_->problem;
}

Engine::Engine(std::unique_ptr<State> state) : state_(std::move(state)) {}

std::unique_ptr<Engine> Engine::begin(const Bench& bench, EngineOptions options) {
    auto state = std::make_unique<State>();
    State& s = *state;
    s.options = std::move(options);
    if (s.options.pace == Pace::realTime) s.pulse = std::make_shared<std::atomic<std::int64_t>>(0);
    s.beat();
    s.began = s.clockNs();
    s.sleptNs = s.asleepNs();
    s.startAnchor = {{0}, s.wallNow()};
    s.source.setAnchor(s.startAnchor);
    s.bench = bench;
    s.indexSignals();
    s.arrangeComputed();
    s.arrangeRules();
    s.arrangeControls();
    s.keepInStep();
    {
        const Lock lock(s.devicesMutex);
        s.atRest = s.options.outputsAtRest;
    }
    s.thread = std::thread([&s] { s.work(); });
    std::unique_ptr<Engine> engine(new Engine(std::move(state)));
    Living::add(*engine);
    return engine;
}

void Engine::launchDevices() {
    State& s = *state_;
    s.call([&s] {
        {
            const Lock lock(s.devicesMutex);
            for (const auto& spec : s.bench.devices) s.launch(*spec);
        }
        if (s.options.procedure) s.beginProcedure(*s.options.procedure);
    });
}

std::unique_ptr<Engine> Engine::start(const Bench& bench, EngineOptions options) {
    auto engine = begin(bench, std::move(options));
    engine->launchDevices();
    return engine;
}

Result<std::unique_ptr<Engine>> Engine::startRecorded(const Bench& bench, const std::string& path,
                                                      EngineOptions options, std::optional<ShotPlan> plan) {
    auto engine = begin(bench, std::move(options));
    if (auto started = engine->startRecording(path, std::move(plan)); !started) return started.error();
    engine->launchDevices();
    return engine;
}

Engine::~Engine() {
    stop();
    Living::remove(*this);
}

void Engine::stop() {
    State& s = *state_;
    if (!s.thread.joinable()) return;
    s.endOutputs();
    std::vector<std::unique_ptr<State::Running>> ending;
    {
        const Lock lock(s.devicesMutex);
        s.stopped = true;
        for (auto& [id, running] : s.devices) running->thread.request_stop();
        for (auto& [id, running] : s.devices) ending.push_back(std::move(running));
        for (auto& running : s.retired) ending.push_back(std::move(running));
        s.devices.clear();
        s.retired.clear();
    }
    for (const auto& running : ending)
        if (running->thread.joinable()) running->thread.join();
    s.call([&s] { s.finishComputed(); });
    stopRecording();
    s.call([] {});
    {
        const Lock lock(s.queueMutex);
        s.quitting = true;
        s.queueChanged.notify_all();
    }
    s.thread.join();
}

void Engine::endOutputs() {
    state_->endOutputs();
}

bool Engine::outputsAtRest() const {
    const Lock lock(state_->devicesMutex);
    return state_->atRest;
}

void Engine::driveOutputs() {
    state_->post([this] {
        State& s = *state_;
        const Lock lock(s.devicesMutex);
        if (!s.atRest || s.stopped) return;
        std::vector<std::string> anew;
        for (const auto& spec : s.bench.devices)
            if (s.rests(*spec)) anew.push_back(spec->id);
        s.atRest = false;
        for (const auto& spec : s.bench.devices) {
            if (std::ranges::find(anew, spec->id) == anew.end()) continue;
            auto& running = s.devices[spec->id];
            if (running) s.retire(*running);
            s.launch(*spec, std::move(running));
        }
    });
}

void Engine::wait() {
    State& s = *state_;
    {
        Lock lock(s.queueMutex);
        s.queueChanged.wait(lock, [&]() HOLDING(s.queueMutex) { return s.alive == 0; });
    }
    s.call([&s] { s.finishComputed(); });
}

void Engine::interrupt() {
    const Lock lock(state_->devicesMutex);
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

void Engine::setParameter(const std::string& device, const std::string& key, const std::string& value) {
    state_->post([this, device, key, value] {
        const Lock lock(state_->devicesMutex);
        const auto it = state_->devices.find(device);
        if (it != state_->devices.end()) it->second->with([key, value](Device& d) { d.setParameter(key, value); });
    });
}

bool Engine::setOutput(const std::string& signal, double value) {
    bool found = false;
    state_->call([&] {
        State& s = *state_;
        const SignalSpec* spec = s.bench.signal(signal);
        if (!spec || !spec->output || !std::isfinite(value)) return;
        const Lock lock(s.devicesMutex);
        const double v = isDigital(spec->kind) ? (value > 0.5 ? 1.0 : 0.0)
                                               : std::clamp(value, spec->output->low, spec->output->high);
        found = s.ask(*spec, OutputHolder::hand, v);
    });
    return found;
}

std::optional<OutputState> Engine::outputState(const std::string& signal) const {
    const Lock lock(state_->mutex);
    const auto it = state_->outputs.find(signal);
    return it == state_->outputs.end() ? std::nullopt : std::optional(it->second);
}

std::map<std::string, DeviceStatus> Engine::deviceStatus() const {
    const Lock lock(state_->mutex);
    return state_->statuses;
}

Text Engine::outputProblem(const std::string& device, const std::string& terminal) const {
    const Lock lock(state_->mutex);
    const auto status = state_->statuses.find(device);
    if (status == state_->statuses.end()) return {};
    const auto it = status->second.outputProblems.find(terminal);
    return it == status->second.outputProblems.end() ? Text{} : it->second;
}

std::vector<SeenTerminal> Engine::seenTerminals() const {
    const Lock lock(state_->mutex);
    return state_->seen;
}

std::shared_ptr<WireTap> Engine::wire(const std::string& device) const {
    return state_->wire(device);
}

std::uint64_t Engine::lostSamples() const {
    return state_->lost.load(std::memory_order_relaxed);
}

std::string Engine::lostTo() const {
    const Lock lock(state_->queueMutex);
    return state_->lostTo;
}

std::uint64_t Engine::measuredBytes() const {
    return state_->measured.load(std::memory_order_relaxed);
}

}  // namespace cruscotto
