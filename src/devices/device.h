#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <stop_token>
#include <string>
#include <vector>

#include "core/base/result.h"
#include "core/bench/bench.h"
#include "core/chain/chain.h"
#include "core/signal/block.h"
#include "devices/wire.h"

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

/// Where a device hands over what it measures. May be called from the device's thread only.
class DeviceSink {
public:
    virtual ~DeviceSink() = default;
    /// Blocks of one group come in time order. Never blocks when the bench runs in real time; may wait for the rest of
    /// the pipeline when it runs as fast as possible.
    virtual void deliver(BlockPtr block) = 0;
    virtual void report(DeviceStatus status) = 0;
    /// Nothing of this group is read any more; its last value is old until its next block comes.
    virtual void quiet(const std::shared_ptr<const ScanGroup>& /*group*/) {}
    /// Now, on the bench's time axis.
    [[nodiscard]] virtual Instant now() const = 0;
};

enum class Pace { realTime, asFastAsPossible };

struct DeviceContext {
    std::string id;  ///< in the bench
    Pace pace = Pace::realTime;
    /// Deliver exactly what lies before this instant and then stop by itself (for devices that make their own time).
    std::optional<Instant> until;
    /// What passes on the link is told here while it is open. Never null where an engine runs the device.
    std::shared_ptr<WireTap> wire{};
    /// Nothing is driven, and nothing is sent but what reading needs.
    bool atRest = false;
};

/// What a bench asks of one terminal.
struct TerminalRequest {
    std::string terminal;
    std::optional<Scale> range;
};

/// One connected thing. Constructed from its settings; run() is called once, on a thread of its own.
class Device {
public:
    virtual ~Device() = default;
    /// Measures until stopped (or, in a context with an end, until that). What it throws ends the device, not the
    /// program.
    virtual void run(DeviceSink& sink, std::stop_token stop) = 0;
    /// Any thread. A value out of the output's range is clamped to it; an unknown terminal is ignored.
    virtual void setOutput(const std::string& terminal, double value) = 0;
    /// Any thread, first before run(): what each output is put to when nobody watches over it. A device that has been
    /// told this puts its outputs there by itself when its link fails, and then takes no setOutput() until
    /// allowOutputs(): what was decided before the failure was known must not reach it afterwards.
    virtual void setSafeValues(const std::map<std::string, double>& /*byTerminal*/) {}
    /// Any thread: whoever sets the outputs knows of the first `fellSafe` failures (DeviceStatus).
    virtual void allowOutputs(std::uint64_t /*fellSafe*/) {}
    /// The thread of run(), behind it, where that was ended by an exception: sends what is kept ready for a crash.
    virtual void sendSafe() {}
    /// Any thread. Writes a parameter of the device's own; how that went is said with the parameter.
    virtual void setParameter(const std::string& /*key*/, const std::string& /*value*/) {}
    /// Any thread. Takes new settings over without a stop; false if the device must be made anew for them.
    virtual bool reconfigure(const JsonText& settings, const std::vector<TerminalRequest>& terminals) = 0;
    /// Any thread. The bench asks for other terminals, or other ranges, than before; false if the device must be made
    /// anew for them. What delivers all it has need not care.
    virtual bool request(const std::vector<TerminalRequest>& /*terminals*/) { return true; }
};

/// One value of a kind's settings, from which editors are built.
struct SettingInfo {
    enum class Type {
        text,
        number,
        choice,
        flag,
        pairs  ///< an object of names and texts, edited one a line: name = text
    };
    std::string key;
    Text label;
    Type type = Type::text;
    std::vector<std::string> choices;  ///< suggestions for a text, all there is for a choice
    std::string otherwise;             ///< the value when the key is missing
    Text help;
    /// Where it names files: what their names end in, as in ".dbc". Pairs have one each as their text.
    std::string files{};
};

/// What a person who selects bytes of a frame may mean by them.
struct FieldProposal {
    std::size_t start = 0, length = 0;
    std::string words;         ///< as the kind's setting of fields has it
    double value = 0;          ///< in the newest frame
    double low = 0, high = 0;  ///< over all of them
};

struct DeviceKind {
    std::string key;
    Text title;
    Text name;  ///< short: what one is called until a person names it
    /// It makes its own time, and can be run as fast as possible.
    bool simulated = false;
    /// Its driver tells what passes on its link.
    bool hasWire = false;
    /// An output can be used as an analog or as a digital one.
    bool looseOutputs = false;
    /// A pin can be but one of the terminals that are offered for it.
    bool choices = false;
    std::vector<SettingInfo> settings;
    /// Terminals that are known before the device runs, with these settings.
    std::vector<TerminalInfo> (*terminals)(const JsonText& settings) = nullptr;
    Result<void> (*check)(const JsonText& settings) = nullptr;
    /// Signals of the bench whose newest readings the device wants, and the terminal that each is set at; null: none.
    std::map<std::string, std::string> (*publishes)(const JsonText& settings) = nullptr;
    /// What the settings say is sent at the beginning may do more than reading needs; null: nothing is.
    bool (*commands)(const JsonText& settings) = nullptr;
    /// The setting, of the type pairs, that says which bytes of a frame are which value; empty: there is none.
    std::string fieldsKey{};
    /// What these bytes of such frames (newest last) may be, likeliest first; with a length of 0: what values the
    /// frames seem to be made of. Null where there is no setting of fields.
    std::vector<FieldProposal> (*proposals)(const JsonText& settings, const std::vector<std::string>& frames,
                                            std::size_t start, std::size_t length) = nullptr;
    /// Precondition: check() was fine.
    std::unique_ptr<Device> (*make)(const DeviceContext&, const JsonText& settings,
                                    const std::vector<TerminalRequest>&) = nullptr;
};

/// All kinds that this build knows.
const std::vector<DeviceKind>& deviceKinds();
/// Null if there is none of that key.
const DeviceKind* deviceKind(const std::string& key);
/// Some device of the bench that is not simulated is driven, or sent more than reading needs.
bool drivesOutside(const Bench& bench);
/// All devices of the bench make their own time.
bool allSimulated(const Bench& bench);
/// The bench fits the devices it names: kinds, settings, terminals. One sentence for each thing that does not.
std::vector<Problem> checkDevices(const Bench& bench);

}  // namespace cruscotto
