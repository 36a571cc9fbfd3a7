#include <algorithm>
#include <set>

#include "core/guarded.h"
#include "core/log.h"
#include "engine/engine_state.h"

namespace cruscotto {

namespace {

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

void Engine::State::note(const std::string& device, DeviceStatus status) {
    bool changed = false;
    {
        const Lock lock(mutex);
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
        if (state == LinkState::lost || state == LinkState::failed) {
            if (!away.contains(device)) away[device] = outputsNow();
            safeOutputs(device);
        }
        if (state == LinkState::live)
            if (const auto before = away.extract(device)) restoreOutputs(device, before.mapped());
        if (state == LinkState::live)
            unreached.erase(device);
        else if (state != LinkState::starting)
            unreached.insert(device);
        markOutputs(device);
    });
}

void Engine::State::safeOutputs(const std::string& device) {
    const Lock lock(devicesMutex);
    for (const auto& spec : bench.signals)
        if (spec->output && (device.empty() || spec->device == device)) drive(*spec, spec->output->safe);
}

std::map<std::string, double> Engine::State::outputsNow() const {
    const Lock lock(mutex);
    return outputs;
}

void Engine::State::restoreOutputs(const std::string& device, const std::map<std::string, double>& before) {
    const Lock lock(devicesMutex);
    const auto now = outputsNow();
    for (const auto& spec : bench.signals) {
        if (!spec->output || spec->device != device || spec->output->onReturn == OutputSpec::OnReturn::safe) continue;
        // Who has set it meanwhile has the last word.
        const auto stands = now.find(spec->id);
        if (stands != now.end() && stands->second != spec->output->safe) continue;
        const auto was = before.find(spec->id);
        drive(*spec, spec->output->onReturn == OutputSpec::OnReturn::before && was != before.end()
                         ? was->second
                         : spec->output->start);
    }
}

void Engine::State::drive(const SignalSpec& spec, double value) {
    const auto it = devices.find(spec.device);
    if (it == devices.end() || !it->second->device) return;
    it->second->device->setOutput(spec.terminal, value);
    {
        const Lock lock(mutex);
        outputs[spec.id] = value;
    }
    emitOutput(spec, value);
}

std::shared_ptr<WireTap> Engine::State::wire(const std::string& device) {
    const Lock lock(mutex);
    std::shared_ptr<WireTap>& tap = taps[device];
    if (!tap) tap = std::make_shared<WireTap>();
    return tap;
}

void Engine::State::launch(const DeviceSpec& spec) {
    auto running = std::make_unique<Running>(*this, spec);
    const DeviceContext context{
        spec.id, options.pace, options.until ? std::optional(Instant{options.until->ns}) : std::nullopt, wire(spec.id)};
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
    std::erase_if(published, [&](const auto& p) { return p.second.device == spec.id; });
    if (!r->device) return;
    if (const DeviceKind* kind = deviceKind(spec.kind); kind && kind->publishes)
        for (const auto& [signal, terminal] : kind->publishes(spec.settings))
            published.insert({signal, {spec.id, terminal, {}}});
    for (const auto& signal : bench.signals)
        if (signal->device == spec.id && signal->output) drive(*signal, signal->output->start);
    r->thread = std::jthread([r](std::stop_token stop) { r->device->run(*r, stop); });
}

void Engine::State::take(const Bench& next) {
    const Bench before = std::exchange(bench, next);
    const Lock lock(devicesMutex);
    if (stopped) return;
    std::set<std::string> kept;
    for (const auto& spec : bench.devices) {
        kept.insert(spec->id);
        const auto it = devices.find(spec->id);
        if (it != devices.end()) {
            Running& running = *it->second;
            const auto requests = requestsFor(bench, spec->id);
            if (running.device) leaveOutputs(before, *running.device, spec->id);
            const bool same = running.spec.settings == spec->settings;
            const bool goesOn =
                same ? sameRequests(before, bench, spec->id) || !running.device || running.device->request(requests)
                     : running.device && running.device->reconfigure(spec->settings, requests);
            if (running.spec.kind == spec->kind && goesOn) {
                running.spec.settings = spec->settings;
                continue;
            }
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
            const Lock inner(mutex);
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
    noteBench(now());
}

void Engine::State::leaveOutputs(const Bench& before, Device& device, const std::string& id) {
    for (const auto& old : before.signals)
        if (old->device == id && old->output && std::ranges::none_of(bench.signals, [&](const auto& s) {
                return s->device == id && s->terminal == old->terminal && s->output;
            }))
            device.setOutput(old->terminal, old->output->safe);
}

void Engine::State::retire(std::unique_ptr<Running>& running, bool onEngineThread) {
    if (running->thread.joinable()) {
        running->thread.request_stop();
        if (onEngineThread) {
            const Lock lock(queueMutex);
            running->leaving = true;
            queueChanged.notify_all();
        }
        running->thread.join();
    }
}

}  // namespace cruscotto
