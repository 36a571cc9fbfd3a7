#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/base/result.h"
#include "core/bench/bench.h"

/// How a terminal can be set up: what a driver declares of it, and what the bench asks for.
namespace cruscotto {

/// What a bench asks of one terminal.
struct TerminalRequest {
    std::string terminal;
    std::optional<Scale> range{};
    TerminalSetup setup{};
    bool operator==(const TerminalRequest&) const = default;
};

/// What the bench asks of all terminals of a device, one for each signal.
std::vector<TerminalRequest> requestsOf(const Bench& bench, const std::string& device);

/// One thing that can be set at a terminal: a choice, or a number with limits.
struct TerminalSetting {
    struct Choice {
        std::string key;  ///< in files; frozen
        Text title;
        Text blocked{};  ///< why the hardware's rules forbid it now; empty: it can be chosen
    };
    std::string key;  ///< in files; frozen
    Text label;
    std::vector<Choice> choices{};  ///< empty: a number
    std::string otherwise{};        ///< the choice where the bench says nothing
    double number = 0;              ///< the number where the bench says nothing
    double low = 0, high = 0;       ///< of a number
    std::string unit{};             ///< UCUM, of a number
    /// A load that can be switched on for a moment, to see whether anything holds the input: this choice pulls it
    /// towards so many volts through so many ohms.
    struct Probe {
        std::string choice;
        double volts = 0, ohms = 0;
    };
    std::optional<Probe> probe{};
    Text note{};  ///< what comes of it in truth, as the nearest that the hardware can do
};

/// The setting of an input by which its connection can be checked now; null: none, as where a load is on already.
const TerminalSetting* probeAmong(const std::vector<TerminalSetting>& settings, const TerminalSetup& setup);
/// What the setup says, or what holds where it does not.
std::string chosen(const TerminalSetup& setup, const TerminalSetting& setting);
double numberSet(const TerminalSetup& setup, const TerminalSetting& setting);

/// Where what a bench asks for breaks the rules: the key of the setting, and a sentence with the remedy. `settings` are
/// those of this terminal.
struct SetupProblem {
    std::string key;
    Text sentence;
};
std::vector<SetupProblem> problemsOf(const TerminalRequest& request, const std::vector<TerminalSetting>& settings);

}  // namespace cruscotto
