#include <algorithm>
#include <set>

#include "core/base/crash_send.h"
#include "core/base/guarded.h"
#include "core/base/log.h"
#include "devices/device_kind.h"
#include "engine/engine_state.h"

namespace cruscotto {

namespace {

bool sameRequests(const Bench& a, const Bench& b, const std::string& device) {
    return requestsOf(a, device) == requestsOf(b, device);
}

}  // namespace

void Engine::State::note(const std::string& device, DeviceStatus status) {
    bool changed = false, outputsChanged = false;
    {
        const Lock lock(mutex);
        DeviceStatus& known = statuses[device];
        changed = known.state != status.state;
        if (known.rejected != status.rejected)
            post([this, device, n = status.rejected,
                  last = status.lastRejected.empty() ? std::string() : status.lastRejected.back().reason.english()] {
                Skips& s = skips[device];
                if (n < s.before) s.before = s.noted = 0;  // the device was made anew, and counts anew
                s.now = n;
                s.last = last;
                noteSkips(false);
            });
        outputsChanged = known.fellSafe != status.fellSafe || known.fallen != status.fallen;
        for (const auto& [terminal, refusal] : status.outputProblems) {
            const auto before = known.outputProblems.find(terminal);
            if (before != known.outputProblems.end() && before->second == refusal) continue;
            post([this, device, terminal = terminal,
                  words = fmt::format("{}: {}: {}", device, terminal, refusal.english())] {
                logWarning("output refused: " + words);
                if (recorder)
                    recorder->note([at = now(), words](RunWriter& w) { w.addEvent(at, "output refused", words); });
                const Lock devicesLock(devicesMutex);
                listRefused(device, terminal);
            });
        }
        known = status;
    }
    if (!changed && !outputsChanged) return;
    if (changed) logInfo(device + ": " + linkStateWord(status.state) + ": " + status.sentence.english());
    post([this, device, changed, status = std::move(status)] {
        const LinkState state = status.state;
        if (isTrouble(status)) troubles[device] = status.sentence.english();
        if (changed) {
            if (state == LinkState::silent) markLost(device, Quality::stale);
            if (state == LinkState::lost || state == LinkState::failed || state == LinkState::nonsense ||
                state == LinkState::absent || state == LinkState::stopped)
                markLost(device, Quality::gap);
            if (recorder)
                recorder->note([at = now(), state, device, words = status.sentence.english()](RunWriter& w) {
                    w.addEvent(at, std::string("device ") + linkStateWord(state), device + ": " + words);
                });
        }
        if (changed && rules.evaluator) rules.evaluator->device(device, !reachable(state), now());
        if (changed && procedure) procedure->device(device, !reachable(state), now());
        lookAtFallen(device, status);
        if (state == LinkState::live)
            unreached.erase(device);
        else if (state != LinkState::starting)
            unreached.insert(device);
        markOutputs(device);
    });
}

void Engine::State::noteSkips(bool atTheEnd) {
    if (!recorder) return;
    constexpr Duration seldom = milliseconds(60'000);
    for (auto& [device, s] : skips) {
        if (s.now <= s.noted || (!atTheEnd && s.notedAt && now() - *s.notedAt < seldom)) continue;
        const std::string words =
            fmt::format("{}: {} did not fit and were skipped; the last: {}", device, s.now - s.noted, s.last);
        s.noted = s.now;
        s.notedAt = now();
        recorder->note([at = now(), words](RunWriter& w) { w.addEvent(at, "skipped", words); });
    }
}

void Engine::State::noteAccount() {
    RecordingStatus account;
    noteSkips(true);
    for (const auto& [device, s] : skips)
        if (s.now > s.before) account.skipped.push_back({device, s.now - s.before, s.last});
    account.troubles = troubles;
    std::set<std::string> came;
    for (const auto& [key, group] : groups)
        for (const Bound& b : group.bound)
            if (b.came) came.insert(b.spec->id);
    // Not said of shots: a signal may well have no sample in them.
    for (const auto& spec : bench.signals)
        if (!gate && !spec->output && !came.contains(spec->id)) {
            account.empty.push_back(spec->id);
            recorder->note(
                [at = now(), words = fmt::format("{}: nothing came of {} at {}", spec->device, spec->id,
                                                 spec->terminal)](RunWriter& w) { w.addEvent(at, "empty", words); });
        }
    const Lock lock(mutex);
    lastRecording.byShots = gate.has_value();
    lastRecording.shots = gate ? gate->shots() : 0;
    lastRecording.skipped = std::move(account.skipped);
    lastRecording.troubles = std::move(account.troubles);
    lastRecording.empty = std::move(account.empty);
}

void Engine::State::noteQuiet(const std::shared_ptr<const ScanGroup>& group) {
    post([this, group] {
        const auto it = groups.find({group->device, group->name});
        if (it == groups.end()) return;
        for (Bound& b : it->second.bound) b.history->markLost(now(), Quality::stale);
    });
}

void Engine::State::lookAtFallen(const std::string& device, const DeviceStatus& status) {
    const Lock lock(devicesMutex);
    auto& down = fallen[device];
    // A device that does not report its fallen outputs itself: all of them, until it is live again.
    const bool all = status.state == LinkState::lost || status.state == LinkState::failed;
    for (const auto& spec : bench.signals) {
        if (!spec->output || spec->device != device) continue;
        const bool isDown = all || status.fallen.contains(spec->terminal) ||
                            (down.contains(spec->terminal) && status.state != LinkState::live);
        if (isDown && !down.contains(spec->terminal)) {
            const auto was = arbiter.state(spec->id);
            down[spec->terminal] = was ? std::optional(was->value) : std::nullopt;
            if (!isDriven(*spec)) continue;
            arbiter.restart(spec->id, spec->output->safe);
            askAs(*spec, OutputHolder::interlock, rules.holds);  // is none the less in force
            ask(*spec, OutputHolder::safe, spec->output->safe,
                text(status.state == LinkState::live
                         ? CRUSCOTTO_TEXT("Nobody watched over the outputs of {0} for some seconds.")
                         : CRUSCOTTO_TEXT("{0} is out of reach, and nobody watches over its outputs."),
                     bench.device(device) ? bench.device(device)->name : device));
        } else if (!isDown && down.contains(spec->terminal)) {
            const std::optional<double> was = down.extract(spec->terminal).mapped();
            if (!isDriven(*spec)) continue;
            // What was set meanwhile is what it gets; else what the bench says.
            if (spec->output->onReturn != OutputSpec::OnReturn::safe)
                arbiter.ask(spec->id, OutputHolder::start,
                            spec->output->onReturn == OutputSpec::OnReturn::before && was ? *was : spec->output->start);
            send(*spec, arbiter.release(spec->id, OutputHolder::safe));
            rules.outputsToLook.insert(spec->id);  // rules that hold want it still
        }
    }
    // What was set before this was known has not reached it, and does not any more.
    if (const auto it = devices.find(device); it != devices.end())
        it->second->with([n = status.fellSafe](Device& d) { d.allowOutputs(n); });
}

void Engine::State::endOutputs() {
    const Lock lock(devicesMutex);
    if (std::exchange(outputsEnded, true) || stopped) return;
    // To the devices at once, whatever waits to be worked on; to whoever looks and records, in its turn.
    for (auto& [id, running] : devices)
        if (!rests(running->spec))
            for (const auto& [terminal, safe] : running->safe) running->setOutput(terminal, safe);
    post([this] {
        for (const auto& spec : bench.signals)
            if (spec->output && arbiter.state(spec->id)) {
                arbiter.ask(spec->id, OutputHolder::safe, spec->output->safe,
                            CRUSCOTTO_TEXT("The bench has ended; its outputs stay safe."));
                noteOutput(spec->id);
                emitOutput(*spec, spec->output->safe);
            }
    });
}

std::map<std::string, double> Engine::State::safeValues(const std::string& device) const {
    std::map<std::string, double> out;
    for (const auto& spec : bench.signals)
        if (spec->output && spec->device == device) out[spec->terminal] = spec->output->safe;
    return out;
}

bool Engine::State::rests(const DeviceSpec& spec) const {
    const DeviceKind* kind = kindOf(spec);
    return atRest && !(kind && kind->simulated);
}

bool Engine::State::isDriven(const SignalSpec& spec) {
    const auto it = devices.find(spec.device);
    return it != devices.end() && !it->second->none && !outputsEnded && !rests(it->second->spec);
}

bool Engine::State::ask(const SignalSpec& spec, OutputHolder holder, double value, Text why) {
    if (!isDriven(spec)) return false;
    send(spec, arbiter.ask(spec.id, holder, value, std::move(why)));
    return true;
}

void Engine::State::send(const SignalSpec& spec, std::optional<double> value) {
    noteOutput(spec.id);
    if (!value) return;
    if (!playsByItself(spec)) devices.at(spec.device)->setOutput(spec.terminal, *value);
    emitOutput(spec, *value);
}

void Engine::State::noteOutput(const std::string& signal) {
    const auto now = arbiter.state(signal);
    const Lock lock(mutex);
    if (now)
        outputs[signal] = *now;
    else
        outputs.erase(signal);
}

std::shared_ptr<WireTap> Engine::State::wire(const std::string& device) {
    const Lock lock(mutex);
    std::shared_ptr<WireTap>& tap = taps[device];
    if (!tap) tap = std::make_shared<WireTap>();
    return tap;
}

void Engine::State::Running::work(const std::stop_token& stop) {
    const CrashStack stack;
    run(stop);
    const Lock lock(engine.queueMutex);
    ended = true;
    --engine.alive;
    engine.queueChanged.notify_all();
}

std::unique_ptr<Device> Engine::State::Running::make() {
    const DeviceKind* kind = engine.kindOf(spec);
    DeviceStatus status;
    status.state = LinkState::failed;
    if (!kind) {
        status.sentence = text(CRUSCOTTO_TEXT("No device of the kind \"{0}\" is known."), spec.kind);
    } else if (auto checked = kind->check(spec.settings); !checked) {
        status.sentence = checked.error().message;
    } else {
        if (kind->publishes)
            engine.post([&e = engine, id = spec.id, all = kind->publishes(spec.settings)] {
                for (const auto& [signal, terminal] : all) e.published.insert({signal, {id, terminal, {}}});
            });
        return kind->make(context, spec.settings, requests);
    }
    report(std::move(status));
    return nullptr;
}

void Engine::State::Running::run(const std::stop_token& stop) {
    if (before) {
        // They may share a port, which only one of them can have.
        if (before->thread.joinable()) before->thread.join();
        before.reset();
    }
    std::string what;
    Device* running = nullptr;
    try {
        auto made = make();
        none = made == nullptr;
        {
            const Lock lock(deviceMutex);
            device = std::move(made);
            running = device.get();
            for (const auto& asked : std::exchange(waiting, {}))
                if (running) asked(*running);
        }
        if (running && !stop.stop_requested()) running->run(*this, stop);
        return;
    } catch (const std::exception& e) {
        what = e.what();
    } catch (...) {
        what = "?";
    }
    // It drives nothing any more and cannot be asked to: what it keeps for a crash is sent in its place.
    if (running) running->sendSafe();
    DeviceStatus status;
    status.state = LinkState::failed;
    status.sentence =
        text(CRUSCOTTO_TEXT("The driver has stopped because of a fault in itself ({0}). Change one of its "
                            "settings to start it anew; please report what happened."),
             what);
    broken = true;
    report(std::move(status));
}

void Engine::State::Running::with(std::function<void(Device&)> what) {
    const Lock lock(deviceMutex);
    if (device)
        what(*device);
    else if (!none)
        waiting.push_back(std::move(what));
}

std::size_t Engine::State::Running::mostPlayed(const std::string& terminal) {
    const Lock lock(deviceMutex);
    return device ? device->mostPlayed(terminal) : 0;
}

bool Engine::State::Running::playByItself(const std::string& terminal, const PlayedList& list) {
    const Lock lock(deviceMutex);
    return device && device->playByItself(terminal, list);
}

void Engine::State::Running::setOutput(const std::string& terminal, double value) {
    with([terminal, value](Device& d) { d.setOutput(terminal, value); });
}

bool Engine::State::Running::request(const std::vector<TerminalRequest>& terminals) {
    const Lock lock(deviceMutex);
    return none || (device && device->request(terminals));
}

bool Engine::State::Running::reconfigure(const JsonText& settings, const std::vector<TerminalRequest>& terminals) {
    const Lock lock(deviceMutex);
    return device && device->reconfigure(settings, terminals);
}

void Engine::State::tellSafeValues(Running& running) {
    running.safe = safeValues(running.spec.id);
    running.with([safe = running.safe](Device& d) { d.setSafeValues(safe); });
}

void Engine::State::launch(const DeviceSpec& spec, std::unique_ptr<Running> before) {
    auto running = std::make_unique<Running>(
        *this, spec,
        DeviceContext{spec.id, options.pace, options.until ? std::optional(Instant{options.until->ns}) : std::nullopt,
                      wire(spec.id), rests(spec), pulse},
        requestsOf(bench, spec.id));
    Running* r = running.get();
    devices[spec.id] = std::move(running);
    fallen.erase(spec.id);
    std::erase_if(published, [&](const auto& p) { return p.second.device == spec.id; });
    tellSafeValues(*r);
    for (const auto& signal : bench.signals)
        if (signal->device == spec.id) playing.erase(signal->id);  // of the device that was
    for (const auto& signal : bench.signals)
        if (signal->device == spec.id && signal->output) {
            arbiter.forget(signal->id);
            askRules(*signal);  // first: what is held must not be driven for a moment
            ask(*signal, OutputHolder::start, signal->output->start);
        }
    r->before = std::move(before);
    {
        const Lock lock(queueMutex);
        ++alive;
    }
    r->thread = std::jthread([r](const std::stop_token& stop) { r->work(stop); });
}

void Engine::State::take(const Bench& next) {
    endProbing();  // what is asked of the terminals may be another from here on
    const Bench before = std::exchange(bench, next);
    indexSignals();
    arrangeComputed();
    arrangeRules();
    arrangeControls();
    keepInStep();
    const Lock lock(devicesMutex);
    if (stopped) return;
    reap();
    std::set<std::string> kept;
    for (const auto& spec : bench.devices) {
        kept.insert(spec->id);
        const auto it = devices.find(spec->id);
        if (it == devices.end()) {
            launch(*spec);
            continue;
        }
        Running& running = *it->second;
        const auto requests = requestsOf(bench, spec->id);
        tellSafeValues(running);
        leaveOutputs(before, running);
        const bool same = running.spec.settings == spec->settings;
        const bool goesOn = same ? sameRequests(before, bench, spec->id) || running.request(requests)
                                 : running.reconfigure(spec->settings, requests);
        if (running.spec.kind == spec->kind && goesOn && !running.broken) {
            running.spec.settings = spec->settings;
            continue;
        }
        retire(running);
        launch(*spec, std::move(it->second));
    }
    for (auto it = devices.begin(); it != devices.end();) {
        if (kept.contains(it->first)) {
            ++it;
            continue;
        }
        for (const auto& [terminal, safe] : it->second->safe) it->second->setOutput(terminal, safe);
        retire(*it->second);
        retired.push_back(std::move(it->second));
        {
            const Lock inner(mutex);
            statuses.erase(it->first);
        }
        fallen.erase(it->first);
        it = devices.erase(it);
    }
    for (auto& [key, group] : groups)
        if (group.group) bind(group);
    for (const auto& old : before.signals) {
        if (!bench.signal(old->id)) source.remove(old->id);
        const SignalSpec* now = bench.signal(old->id);
        if (old->output && (!now || now->device != old->device || now->terminal != old->terminal)) {
            arbiter.forget(old->id);
            noteOutput(old->id);
        }
    }
    for (const auto& signal : bench.signals) {
        const SignalSpec* old = before.signal(signal->id);
        if (signal->output && (!old || old->device != signal->device || old->terminal != signal->terminal)) {
            askRules(*signal);
            ask(*signal, OutputHolder::start, signal->output->start);
        }
    }
    noteBench(now());
}

void Engine::State::leaveOutputs(const Bench& before, Running& running) {
    for (const auto& old : before.signals)
        if (old->device == running.spec.id && old->output && std::ranges::none_of(bench.signals, [&](const auto& s) {
                return s->device == running.spec.id && s->terminal == old->terminal && s->output;
            }))
            running.setOutput(old->terminal, old->output->safe);
}

void Engine::State::retire(Running& running) {
    {
        const Lock lock(queueMutex);
        running.leaving = true;
        queueChanged.notify_all();
    }
    running.thread.request_stop();
}

void Engine::State::reap() {
    std::erase_if(retired, [](const auto& running) { return running->ended || !running->thread.joinable(); });
}

}  // namespace cruscotto
