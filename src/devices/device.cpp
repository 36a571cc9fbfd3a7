#include "core/base/number_text.h"
#include "devices/device_kind.h"

#include <algorithm>
#include <array>

namespace cruscotto {

const char* linkStateWord(LinkState state) {
    constexpr std::array words{"starting", "live",   "absent", "no permission", "busy",
                               "nonsense", "silent", "lost",   "failed",        "stopped"};
    return words.at(static_cast<std::size_t>(state));
}

const DeviceKind* DeviceKinds::find(const std::string& key) const {
    const auto it = std::ranges::find(kinds_, key, &DeviceKind::key);
    return it == kinds_.end() ? nullptr : &*it;
}

bool isTrouble(const DeviceStatus& status) {
    switch (status.state) {
        case LinkState::starting:
        case LinkState::live:
        case LinkState::stopped:
            return false;
        case LinkState::silent:
            return status.silenceIsFault;
        case LinkState::absent:
        case LinkState::noPermission:
        case LinkState::busy:
        case LinkState::nonsense:
        case LinkState::lost:
        case LinkState::failed:
            return true;
    }
    return true;
}

bool drivesOutside(const Bench& bench) {
    return std::ranges::any_of(bench.devices, [&](const auto& d) {
        const DeviceKind* kind = deviceKind(d->kind);
        if (!kind || kind->simulated) return false;
        return std::ranges::any_of(bench.signals, [&](const auto& s) { return s->output && s->device == d->id; }) ||
               (kind->publishes && !kind->publishes(d->settings).empty()) ||
               (kind->writesSetup &&
                std::ranges::any_of(bench.signals,
                                    [&](const auto& s) { return s->device == d->id && !s->setup.empty(); })) ||
               (kind->commands && kind->commands(d->settings));
    });
}

bool allSimulated(const Bench& bench) {
    return std::all_of(bench.devices.begin(), bench.devices.end(), [](const auto& d) {
        const DeviceKind* kind = deviceKind(d->kind);
        return kind && kind->simulated;
    });
}

/// "a, b, c", of many the first ones.
template <class Items, class Name>
static std::string listed(const Items& items, Name&& name) {
    std::string out;
    std::size_t left = 16;
    for (const auto& item : items) {
        if (left-- == 0) return out + ", …";
        out += (out.empty() ? "" : ", ") + name(item);
    }
    return out;
}

std::vector<Scale> rangesOf(const DeviceKind& kind, const TerminalInfo& terminal,
                            const std::vector<TerminalRequest>& all) {
    return kind.ranges ? kind.ranges(terminal.terminal, all) : terminal.ranges;
}

std::vector<Problem> checkDevices(const Bench& bench) {
    std::vector<Problem> out;
    const std::string known = listed(deviceKinds(), [](const DeviceKind& kind) { return kind.key; });
    for (std::size_t i = 0; i < bench.devices.size(); ++i) {
        const DeviceSpec& device = *bench.devices[i];
        const std::string where = "/devices/" + std::to_string(i);
        const DeviceKind* kind = deviceKind(device.kind);
        if (!kind) {
            out.push_back(
                {where + "/kind", 0,
                 text(CRUSCOTTO_TEXT("No device of the kind \"{0}\" is known. Use one of: {1}."), device.kind, known)});
            continue;
        }
        if (auto checked = kind->check(device.settings); !checked) {
            out.push_back({where + "/settings", 0, checked.error().message});
            continue;
        }
        const auto terminals = kind->terminals(device.settings);
        const auto requests = requestsOf(bench, device.id);
        const bool inputsKnown =
            std::any_of(terminals.begin(), terminals.end(), [](const TerminalInfo& t) { return !isOutput(t.kind); });
        for (std::size_t k = 0; k < bench.signals.size(); ++k) {
            const SignalSpec& s = *bench.signals[k];
            if (s.device != device.id || s.computed) continue;
            const auto settings =
                kind->setup ? kind->setup(device.settings, s.terminal, requests) : std::vector<TerminalSetting>{};
            // What a device offers that is not known yet, or not plugged in, cannot be judged.
            if (terminals.empty() && settings.empty()) continue;
            for (const SetupProblem& p : problemsOf({s.terminal, s.range, s.setup}, settings)) {
                const std::string setup = "/signals/" + std::to_string(k) + "/setup";
                out.push_back({s.setup.contains(p.key) ? setup + "/" + p.key
                               : s.setup.empty()       ? "/signals/" + std::to_string(k) + "/terminal"
                                                       : setup,
                               0, p.sentence});
            }
            if (terminals.empty()) continue;  // they turn up while it runs
            const auto it = std::find_if(terminals.begin(), terminals.end(),
                                         [&](const TerminalInfo& t) { return t.terminal == s.terminal; });
            const std::string at = "/signals/" + std::to_string(k);
            if (it == terminals.end() && !inputsKnown && !isOutput(s.kind)) continue;
            if (it == terminals.end()) {
                std::vector<std::string> alike;
                for (const TerminalInfo& t : terminals)
                    if (t.kind == s.kind) alike.push_back(t.terminal);
                out.push_back({at + "/terminal", 0,
                               alike.empty()
                                   ? text(CRUSCOTTO_TEXT("{0} has no terminal {1}, and none of the kind {2}."),
                                          device.name, s.terminal, channelKindName(s.kind))
                                   : text(CRUSCOTTO_TEXT("{0} has no terminal {1}. Of the kind {2} it has: {3}."),
                                          device.name, s.terminal, channelKindName(s.kind),
                                          listed(alike, [](const std::string& name) { return name; }))});
            } else if (it->kind != s.kind && !(kind->looseOutputs && isOutput(it->kind) && isOutput(s.kind)))
                out.push_back(
                    {at + "/kind", 0,
                     text(CRUSCOTTO_TEXT("Terminal {0} is of the kind {1}. Write that kind, or another terminal."),
                          s.terminal, channelKindName(it->kind))});
            else if (s.range && rangesOf(*kind, *it, requests).empty())
                out.push_back({at + "/range", 0,
                               text(CRUSCOTTO_TEXT("Terminal {0} has no ranges to choose from. Leave \"range\" out."),
                                    s.terminal)});
            else if (const auto ranges = rangesOf(*kind, *it, requests);
                     s.range && std::ranges::find(ranges, *s.range) == ranges.end())
                out.push_back(
                    {at + "/range", 0,
                     text(CRUSCOTTO_TEXT("Terminal {0} has no range from {1} to {2} V. It has, in volts: {3}."),
                          s.terminal, shortNumber(s.range->low), shortNumber(s.range->high),
                          listed(ranges, [](const Scale& range) {
                              return shortNumber(range.low) + " to " + shortNumber(range.high);
                          }))});
        }
    }
    return out;
}

}  // namespace cruscotto
