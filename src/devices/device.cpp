#include "devices/device.h"

#include <algorithm>
#include <array>

namespace cruscotto {

const char* linkStateWord(LinkState state) {
    constexpr std::array words{"starting", "live",   "absent", "no permission", "busy",
                               "nonsense", "silent", "lost",   "failed",        "stopped"};
    return words.at(static_cast<std::size_t>(state));
}

const DeviceKind* deviceKind(const std::string& key) {
    for (const DeviceKind& kind : deviceKinds())
        if (kind.key == key) return &kind;
    return nullptr;
}

bool allSimulated(const Bench& bench) {
    return std::all_of(bench.devices.begin(), bench.devices.end(), [](const auto& d) {
        const DeviceKind* kind = deviceKind(d->kind);
        return kind && kind->simulated;
    });
}

std::vector<Problem> checkDevices(const Bench& bench) {
    std::vector<Problem> out;
    std::string known;
    for (const DeviceKind& kind : deviceKinds()) known += (known.empty() ? "" : ", ") + kind.key;
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
        if (terminals.empty()) continue;  // they turn up while it runs
        const bool inputsKnown =
            std::any_of(terminals.begin(), terminals.end(), [](const TerminalInfo& t) { return !isOutput(t.kind); });
        for (std::size_t k = 0; k < bench.signals.size(); ++k) {
            const SignalSpec& s = *bench.signals[k];
            if (s.device != device.id) continue;
            const auto it = std::find_if(terminals.begin(), terminals.end(),
                                         [&](const TerminalInfo& t) { return t.terminal == s.terminal; });
            const std::string at = "/signals/" + std::to_string(k);
            if (it == terminals.end() && !inputsKnown && !isOutput(s.kind)) continue;
            if (it == terminals.end())
                out.push_back(
                    {at + "/terminal", 0, text(CRUSCOTTO_TEXT("{0} has no terminal {1}."), device.name, s.terminal)});
            else if (it->kind != s.kind && !(kind->looseOutputs && isOutput(it->kind) && isOutput(s.kind)))
                out.push_back(
                    {at + "/kind", 0,
                     text(CRUSCOTTO_TEXT("Terminal {0} is of the kind {1}."), s.terminal, channelKindName(it->kind))});
            else if (s.range && std::find(it->ranges.begin(), it->ranges.end(), *s.range) == it->ranges.end())
                out.push_back({at + "/range", 0,
                               text(CRUSCOTTO_TEXT("Terminal {0} has no range from {1} to {2} V."), s.terminal,
                                    shortNumber(s.range->low), shortNumber(s.range->high))});
        }
    }
    return out;
}

}  // namespace cruscotto
