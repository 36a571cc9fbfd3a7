#pragma once

#include <array>
#include <map>
#include <optional>
#include <string>

#include "core/base/text.h"

namespace cruscotto {

/// Who may decide what an output is; a later one prevails over those before it.
enum class OutputHolder {
    start,      ///< the bench: the value to begin with, or to come back to
    rule,       ///< what reacts to readings, or follows them
    procedure,  ///< what is done in order, as a person wanted it
    hand,       ///< a person
    safe,       ///< nobody watches over it: its device cannot be reached, the bench ends
    interlock,  ///< what must never be otherwise
};

/// What an output is to be, and why.
struct OutputState {
    double value = 0;
    OutputHolder holder = OutputHolder::start;
    Text why;                     ///< of the holder; empty: there is nothing to say
    std::optional<double> waits;  ///< what it becomes when the holder lets go, where that is another value
    bool operator==(const OutputState&) const = default;
};

/// The one place that decides about outputs, by the ids of their signals. Everybody who wants something asks here and
/// may withdraw it; the value of the one who prevails is what is sent. Confined to one thread at a time.
class OutputArbiter {
public:
    /// Instead of what the same holder asked for before. Returns the value to be sent now, also where it was that
    /// already; nothing where another one prevails.
    std::optional<double> ask(const std::string& output, OutputHolder holder, double value, Text why = {});
    /// Withdraws it. Returns the value to be sent, if it is another now.
    std::optional<double> release(const std::string& output, OutputHolder holder);
    /// Everybody's wishes are forgotten; it starts anew from this value.
    void restart(const std::string& output, double value);
    void forget(const std::string& output) { outputs_.erase(output); }
    /// Nothing where nobody has asked for anything.
    [[nodiscard]] std::optional<OutputState> state(const std::string& output) const;
    [[nodiscard]] bool asks(const std::string& output, OutputHolder holder) const;

private:
    struct Wish {
        double value;
        Text why;
    };
    using Wishes = std::array<std::optional<Wish>, 6>;  // by holder
    std::map<std::string, Wishes> outputs_;
};

}  // namespace cruscotto
