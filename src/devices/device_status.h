#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "core/base/result.h"
#include "core/chain/chain.h"
#include "core/signal/scale.h"

namespace cruscotto {

/// How it stands with the link to a device.
enum class LinkState {
    starting,
    live,
    absent,  ///< no such port, no answer at that address
    noPermission,
    busy,      ///< another program has it
    nonsense,  ///< something arrives and makes no sense
    silent,    ///< open, and nothing arrives
    lost,      ///< it was there and went away
    failed,    ///< its settings are wrong, or it broke
    stopped
};
/// One or two lower-case English words.
const char* linkStateWord(LinkState state);

/// A line or frame that did not fit, kept for looking at.
struct Rejected {
    Instant at;
    std::string bytes;  ///< at most 200 of them
    Text reason;
};

/// A terminal that a kind of device has, with what can be chosen there.
struct TerminalInfo {
    std::string terminal;
    ChannelKind kind = ChannelKind::analogInput;
    SampleType type = SampleType::float64;
    std::vector<Scale> ranges{};  ///< in volts, smallest first; empty where there is none to choose
    int bits = 0;                 ///< of the converter; 0 where the value comes ready made
    Text title{};                 ///< what is there, where the device or its description says so
    ChainSpec chain{};            ///< how to read it, where that is known: a new signal begins with it
    std::string place{};          ///< the pin that it is, where one can be used in several ways; else empty
    Text use{};                   ///< the way: "with pull-up"
    std::string name{};           ///< as somebody has called what is measured there: a new signal is called so too
    bool operator==(const TerminalInfo&) const = default;
};

/// A setting that lies in the device itself: read from it, written to it, and compared with what the bench wants.
struct DeviceParameter {
    std::string key;  ///< unique within the device
    Text title;
    std::string unit{};                   ///< as people write it
    std::vector<std::string> choices{};   ///< all there are; empty: a number
    std::optional<Scale> limits{};        ///< of a number
    std::optional<std::string> there{};   ///< as the device has it; empty: not read yet
    std::optional<std::string> wanted{};  ///< as the bench has it; empty: the bench does not care
    bool writable = true;
    Text problem{};  ///< why it could not be read or written
    /// Choices that cost something, and what: asked about before they are written.
    std::vector<std::string> warned{};
    Text warning{};
    bool readable = true;  ///< false: it can only be written, as a command is
    /// What the device did when it was last written, where that went well; and when that, or the problem, was known.
    Text done{};
    std::optional<Instant> answered{};
    [[nodiscard]] bool differs() const { return there && wanted && *there != *wanted; }
    bool operator==(const DeviceParameter&) const = default;
};

/// Everything there is to say about a link now. Immutable once reported.
struct DeviceStatus {
    LinkState state = LinkState::starting;
    Text sentence;  ///< what happened, why, what to do next
    std::uint64_t bytes = 0;
    std::uint64_t lines = 0;
    std::uint64_t rejected = 0;
    std::vector<Rejected> lastRejected;  ///< newest last, at most 20
    /// How much of what the link can carry has been used over the last seconds, 0 to 1 (above: it is asked for more
    /// than it can carry); empty where the link has no limit that is known.
    std::optional<double> linkShare{};
    Text linkAdvice{};  ///< what that means for the rate; empty: nothing to say
    /// Changes of the settings that would help now, for a button each.
    struct Suggestion {
        Text label;
        std::string key, value;  ///< of a setting
        bool operator==(const Suggestion&) const = default;
    };
    std::vector<Suggestion> suggestions{};
    std::vector<DeviceParameter> parameters{};
    /// What is behind the link that no terminal tells of: modules, sensors, messages, with what each says it is.
    struct Part {
        std::string place;
        Text what;
        bool operator==(const Part&) const = default;
    };
    std::vector<Part> parts{};
    /// Terminals that were found while it runs, as the device says; inputs that deliver are known without.
    std::vector<TerminalInfo> found{};
    /// Outputs, by terminal, that the device has put to their safe values by itself and that are not within reach
    /// again: its link was lost, talked nonsense or was silent where that is a fault, or the part that they belong to
    /// was.
    std::set<std::string> fallen{};
    /// How often that has happened. See Device::allowOutputs().
    std::uint64_t fellSafe = 0;
    /// The device is asked, or says something all the time: that it is silent is a fault.
    bool silenceIsFault = false;
    /// Outputs, by terminal, that the device refused or changed when they were last set, and how; until they are set
    /// again and it goes through.
    std::map<std::string, Text> outputProblems{};
};

/// It does not deliver what it should.
bool isTrouble(const DeviceStatus& status);

}  // namespace cruscotto
