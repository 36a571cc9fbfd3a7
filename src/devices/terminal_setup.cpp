#include "devices/terminal_setup.h"

#include <algorithm>
#include <cmath>

#include "core/base/number_text.h"
#include "core/base/units.h"

namespace cruscotto {

std::vector<TerminalRequest> requestsOf(const Bench& bench, const std::string& device) {
    std::vector<TerminalRequest> out;
    for (const auto& s : bench.signals)
        if (s->device == device && !s->computed) out.push_back({s->terminal, s->range, s->setup});
    return out;
}

const TerminalSetting* probeAmong(const std::vector<TerminalSetting>& settings, const TerminalSetup& setup) {
    for (const TerminalSetting& s : settings) {
        if (!s.probe || chosen(setup, s) != s.otherwise) continue;
        for (const TerminalSetting::Choice& c : s.choices)
            if (c.key == s.probe->choice && c.blocked.empty()) return &s;
    }
    return nullptr;
}

std::string chosen(const TerminalSetup& setup, const TerminalSetting& setting) {
    const auto it = setup.find(setting.key);
    const auto* words = it == setup.end() ? nullptr : std::get_if<std::string>(&it->second);
    return words ? *words : setting.otherwise;
}

double numberSet(const TerminalSetup& setup, const TerminalSetting& setting) {
    const auto it = setup.find(setting.key);
    const auto* number = it == setup.end() ? nullptr : std::get_if<double>(&it->second);
    return number ? *number : setting.number;
}

std::vector<SetupProblem> problemsOf(const TerminalRequest& request, const std::vector<TerminalSetting>& settings) {
    std::vector<SetupProblem> out;
    for (const auto& [key, value] : request.setup) {
        const auto setting = std::ranges::find(settings, key, &TerminalSetting::key);
        if (setting == settings.end()) {
            std::string all;
            for (const TerminalSetting& s : settings) all += (all.empty() ? "" : ", ") + s.key;
            out.push_back({key, all.empty() ? text(CRUSCOTTO_TEXT("Nothing can be set at {0}. Take \"{1}\" out."),
                                                   request.terminal, key)
                                            : text(CRUSCOTTO_TEXT("{0} has no setting \"{1}\" now. It has: {2}."),
                                                   request.terminal, key, all)});
            continue;
        }
        if (setting->choices.empty()) {
            const auto* number = std::get_if<double>(&value);
            if (!number || !(*number >= setting->low && *number <= setting->high))
                out.push_back({key, text(CRUSCOTTO_TEXT("{0} of {1}: a number from {2} to {3} {4} is expected here."),
                                         setting->label.english(), request.terminal, shortNumber(setting->low),
                                         shortNumber(setting->high), unitText(setting->unit))});
            continue;
        }
        const std::string key2 = chosen(request.setup, *setting);
        const auto choice = std::ranges::find(setting->choices, key2, &TerminalSetting::Choice::key);
        if (choice == setting->choices.end() || !std::holds_alternative<std::string>(value)) {
            std::string all;
            for (const auto& c : setting->choices) all += (all.empty() ? "" : ", ") + c.key;
            out.push_back({key, text(CRUSCOTTO_TEXT("{0} of {1} can be: {2}."), setting->label.english(),
                                     request.terminal, all)});
        }
    }
    // What is not written holds too, and can break a rule as well.
    for (const TerminalSetting& setting : settings) {
        const auto choice =
            std::ranges::find(setting.choices, chosen(request.setup, setting), &TerminalSetting::Choice::key);
        if (choice != setting.choices.end() && !choice->blocked.empty())
            out.push_back({setting.key, text(CRUSCOTTO_TEXT("{0} cannot be {1}: {2}"), request.terminal,
                                             choice->title.english(), choice->blocked.english())});
    }
    return out;
}

}  // namespace cruscotto
