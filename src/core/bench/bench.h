#pragma once

#include <map>
#include <memory>
#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "core/base/new_file.h"
#include "core/base/result.h"
#include "core/bench/tile_kinds.h"
#include "core/chain/chain.h"
#include "core/control/control.h"
#include "core/procedure/procedure.h"
#include "core/rules/rule.h"
#include "core/signal/scale.h"

/// The bench document: what is connected, what the signals mean and how they are shown. A value: copies share their
/// parts, and a part is never changed in place, so that two versions can be compared part by part by address.
/// The file format is documented in docs/bench-format.md.
namespace cruscotto {

using JsonText = std::string;  ///< a JSON object, serialised; empty for none

struct DeviceSpec {
    std::string id;
    std::string name;
    std::string kind;   ///< a key of the device registry: "sim-io-box", "serial-line-board"
    JsonText settings;  ///< what the kind's driver understands
    JsonText extra;     ///< keys of the file that this version does not know
    bool operator==(const DeviceSpec&) const = default;
};

/// Limits of a reading, in its unit; a reading that equals a limit is within it.
struct Limits {
    std::optional<double> low, high;
    bool operator==(const Limits&) const = default;
};
enum class Verdict { none, within, low, high };
Verdict verdictOf(const Limits& limits, double reading);

/// What an output is allowed to do, in its unit (digital: 0 and 1).
struct OutputSpec {
    double low = 0, high = 10;
    double start = 0;  ///< applied before measurement begins
    double safe = 0;   ///< applied whenever the bench stops, fails or closes, and when the device is lost
    /// What it is brought to when a device that was lost is back.
    enum class OnReturn { safe, start, before };
    OnReturn onReturn = OnReturn::safe;
    std::string unit = "V";  ///< of an analog output's values (UCUM)
    bool operator==(const OutputSpec&) const = default;
};

/// What of a signal is recorded. See core/bench/keep.h.
struct KeepSpec {
    enum class What {
        everything,
        oneInN,   ///< every n-th sample
        summary,  ///< mean, minimum and maximum of every interval
        changes,  ///< where the reading has left the dead band around the last one kept, and the sample before that
    };
    What what = What::everything;
    int every = 10;              ///< one in so many; 1 to 1,000,000
    double intervalSeconds = 1;  ///< 0.001 to 86400
    double deadBand = 0;         ///< in the reading's unit, 0 or more
    double atLeastEvery = 60;    ///< seconds; a sample is kept that often even without a change; 0: not
    bool asReadings = false;     ///< else as raw samples, where that is possible
    bool rawBeside = false;      ///< with readings: the raw samples too, from which they can be worked out again
    bool operator==(const KeepSpec&) const = default;
};

inline constexpr double slowestComputedHz = 0.001, fastestComputedHz = 10'000, oldestInputSeconds = 1e9;
/// When a computed signal is worked out, and what its inputs are taken to be in between their samples. Its chain begins
/// with the computation.
struct ComputedSpec {
    std::string clock;   ///< the signal with each of whose samples it is worked out; empty: at a rate of its own
    double rateHz = 10;  ///< of its own; slowestComputedHz to fastestComputedHz
    enum class Between { held, interpolated };
    Between between = Between::held;
    /// Inputs whose newest sample is older are stale, in seconds; 0: they may be of any age.
    double oldestSeconds = 10;
    bool operator==(const ComputedSpec&) const = default;
};

/// Another signal that should read the same, within so much; for less than so many seconds they may differ.
struct AgreesSpec {
    std::string with;
    double within = 0;  ///< in the reading's unit, above 0
    double forSeconds = 1;
    bool operator==(const AgreesSpec&) const = default;
};

/// How a terminal is set up, by the keys that its device's driver declares: the key of a choice, or a number.
using TerminalSetup = std::map<std::string, std::variant<double, std::string>>;

/// A signal's limits are alarms.
struct LimitAlarm {
    int priority = 2;                        ///< 1 is the most urgent of 3
    double deadband = 0;                     ///< in the reading's unit; so far inside it must be to return
    double onDelay = 0, offDelay = 0;        ///< seconds
    std::optional<Condition> suppress = {};  ///< while it holds, the alarm is suppressed by design
    bool operator==(const LimitAlarm&) const = default;
};

struct SignalSpec {
    std::string id;
    std::string name;
    std::string tag;  ///< short, as on the wire's label: "P1"
    int colour = 0;   ///< 0 to 7, into the theme's palette
    std::string device;
    std::string terminal;
    ChannelKind kind = ChannelKind::analogInput;
    std::optional<Scale> range;  ///< analog terminals: the range that is asked of the hardware, in volts
    TerminalSetup setup;
    ChainSpec chain;
    std::optional<Scale> scale;  ///< where its readings are expected; tiles begin with it
    Limits limits;
    std::optional<LimitAlarm> alarm{};
    std::optional<int> decimals{};  ///< of its readings, fixed by hand; empty: as many as are known
    std::optional<OutputSpec> output;
    std::optional<ComputedSpec> computed;  ///< of kind computed: such a signal has no device and no terminal
    std::optional<AgreesSpec> agrees;
    std::string onWord, offWord;  ///< digital: what to call the two states
    KeepSpec keep;
    JsonText extra;
    [[nodiscard]] std::string unit() const {
        return output && kind == ChannelKind::analogOutput ? output->unit : readingUnit(chain, kind);
    }
    /// It reads on or off, and no number.
    [[nodiscard]] bool isState() const { return readsState(chain, kind); }
    bool operator==(const SignalSpec&) const = default;
};
/// Whether it stands where it was until it is read or set again, and is drawn so.
inline bool holds(const SignalSpec& s) {
    return s.isState() || isOutput(s.kind);
}

struct TileSpec {
    std::string id;
    TileKind kind = TileKind::number;
    int x = 0, y = 0, w = 3, h = 2;  ///< in cells of the page's grid
    std::vector<std::string> signals;
    std::map<std::string, Scale> scales;  ///< by UCUM unit; overrides the signal's own
    JsonText extra{};
    bool plusMinus = false;                         ///< the uncertainty stands beside the number
    std::map<std::string, std::string> settings{};  ///< what is chosen of its kind's; see tile_settings.h
    bool operator==(const TileSpec&) const = default;
};

inline constexpr int pageColumns = 12;
inline constexpr int pageRows = 8;

struct PageSpec {
    std::string id;
    std::string name;
    std::vector<TileSpec> tiles;
    JsonText extra;
    bool operator==(const PageSpec&) const = default;
};

/// What people write about a run.
struct RunNotes {
    std::string title, person, specimen, words;  ///< person: who ran it
    /// What was found of it, once it is over: "good", "bad", or other words.
    std::string verdict = {};
    bool operator==(const RunNotes&) const = default;
};

/// Where they stand in a run's table of facts.
inline constexpr std::pair<const char*, std::string RunNotes::*> runNoteKeys[] = {{"title", &RunNotes::title},
                                                                                  {"person", &RunNotes::person},
                                                                                  {"specimen", &RunNotes::specimen},
                                                                                  {"notes", &RunNotes::words},
                                                                                  {"verdict", &RunNotes::verdict}};
/// And in a bench's "recording", where nothing is found yet.
inline constexpr std::span benchNoteKeys = std::span(runNoteKeys).first<4>();

/// How runs of the bench are named, cut into files and described.
struct RecordingSpec {
    std::string name = "{bench}-{date}-{time}";   ///< see checkRunName()
    double splitMinutes = 0, splitMegabytes = 0;  ///< a new file after so much; 0: never
    double keepFreeMegabytes = 256;               ///< a recording ends in order before the disk has less free
    bool preflight = false;                       ///< what is to be looked after is shown before one begins
    RunNotes notes;                               ///< written into every run, until they are changed
    JsonText extra;
    bool operator==(const RecordingSpec&) const = default;
};

/// What a bench may hold, and a run of one; files that claim more are refused.
inline constexpr std::size_t mostSignals = 10'000, mostDevices = 500, mostPages = 200;
inline constexpr std::size_t mostTiles = 1000;       ///< of all pages together
inline constexpr std::size_t mostTileSignals = 100;  ///< of one tile
inline constexpr std::size_t mostExpected = 1000;
inline constexpr std::size_t mostStages = 50;  ///< of one chain
/// Samples that all chains together remember (rememberedSamples()): 128 MiB.
inline constexpr std::size_t mostRemembered = std::size_t{1} << 24;

/// What a measure should come to over a stretch of a signal.
struct ExpectedMeasure {
    std::string signal, against = {};  ///< ids; of one signal `against` is empty
    std::string measure;               ///< the name of one of measureKinds()
    double value = 0, within = 0;      ///< may be off by so much
    std::string unit = {};             ///< UCUM, of both
    JsonText extra = {};
    bool operator==(const ExpectedMeasure&) const = default;
};

inline constexpr double leastCoverage = 1, mostCoverage = 4;
struct Bench {
    std::string name;
    std::string notes;
    RecordingSpec recording;
    std::vector<std::shared_ptr<const DeviceSpec>> devices;
    std::vector<std::shared_ptr<const SignalSpec>> signals;
    std::vector<std::shared_ptr<const PageSpec>> pages;
    std::vector<std::shared_ptr<const RuleSpec>> rules;  ///< of two that want different things, the first prevails
    std::vector<std::shared_ptr<const ControlSpec>> controls;  ///< one for an output at most
    std::vector<std::shared_ptr<const ProcedureSpec>> procedures;
    std::vector<ExpectedMeasure> expected;  ///< one for a measure at most
    std::string ribbonSignal;
    double windowSeconds = 30;  ///< how much time the traces show
    double coverage = 2;        ///< the factor k of expanded uncertainties (GUM 6.2); 1 to 4
    JsonText extra;

    [[nodiscard]] const SignalSpec* signal(const std::string& id) const;
    [[nodiscard]] const DeviceSpec* device(const std::string& id) const;
    [[nodiscard]] const PageSpec* page(const std::string& id) const;
    [[nodiscard]] const RuleSpec* rule(const std::string& id) const;
    [[nodiscard]] const ProcedureSpec* procedure(const std::string& id) const;
    [[nodiscard]] const ControlSpec* control(const std::string& id) const;
};
/// Compares the contents, not the addresses.
bool sameBench(const Bench& a, const Bench& b);

/// Of this measure; nullptr where nothing is.
const ExpectedMeasure* expectedOf(const Bench& bench, const std::string& signal, const std::string& against,
                                  const std::string& measure);
/// With this one instead of that for the same measure.
Bench withExpected(Bench bench, const ExpectedMeasure& expected);
/// Nothing is expected of the same measure any more.
Bench withoutExpected(Bench bench, const ExpectedMeasure& like);

/// Something in a bench file that is not right.
struct Problem {
    std::string where;  ///< JSON pointer (RFC 6901)
    int line = 0;       ///< in the file, from 1; 0 where unknown
    Text message;
    /// "line 12, /signals/0/chain/1/bits: ..."
    [[nodiscard]] std::string english() const;
};

struct BenchReading {
    std::optional<Bench> bench;     ///< nothing if there is any problem
    std::vector<Problem> problems;  ///< in the order of the file's parts
};
/// What else must hold of a bench that is right in itself, such as checkDevices().
using BenchCheck = std::vector<Problem> (*)(const Bench&);
/// Never throws. Refuses what a newer format version wrote.
BenchReading readBench(const std::string& fileText, BenchCheck also = nullptr);
/// Two-space indented, keys in a fixed order, a line break at the end: fit for a diff.
std::string writeBench(const Bench& bench);

/// All the problems' sentences in one Error.
Result<Bench> loadBench(const std::string& path, BenchCheck also = nullptr);
/// By a NewFile, so that the old one is whole until the new one is.
Result<void> saveBench(const Bench& bench, const std::string& path,
                       NewFile::Existing existing = NewFile::Existing::replace);

/// One signal as it stands in the bench file: for the run store, and for the clipboard. Two-way.
std::string signalToJson(const SignalSpec& signal);
Result<SignalSpec> signalFromJson(const std::string& json);

/// New versions of a bench; `id` must exist where one is replaced or removed, else the bench comes back unchanged.
Bench withSignal(Bench bench, SignalSpec signal);  ///< replaces the one of that id, or adds it
/// And takes it off the pages. Stages of others that needed it take their kind's first value instead.
Bench withoutSignal(Bench bench, const std::string& id);
Bench withDevice(Bench bench, DeviceSpec device);
Bench withoutDevice(Bench bench, const std::string& id);  ///< its signals, and what was computed from them alone
Bench withPage(Bench bench, PageSpec page);
Bench withoutPage(Bench bench, const std::string& id);
Bench withTile(Bench bench, const std::string& page, TileSpec tile);
Bench withoutTile(Bench bench, const std::string& page, const std::string& tile);
/// "name", or "name-2", "name-3" ... whatever none of `taken` is; only a-z, 0-9 and '-' are kept of `name`.
std::string freshId(const std::string& name, const std::vector<std::string>& taken);

/// The signal reads in another unit of its kind from now on: by a stage that converts, or that stage changed or taken
/// out. Limits and scale go with it. False, and nothing changed, where the two are not of one kind.
bool showIn(SignalSpec& signal, const std::string& unit);
/// The signal with the chain of another one, in its own range. False, and nothing changed, where that does not hold.
bool takeChain(SignalSpec& signal, const SignalSpec& of);

/// The UCUM unit that each signal of neededSignals() reads in, in this bench; of one that is not there the wanted one.
std::vector<std::string> neededUnits(const Bench& bench, const SignalSpec& signal);
/// The signals that the signal's chain needs are there, read in such units, and do not need it themselves.
Result<void> checkNeeded(const Bench& bench, const SignalSpec& signal);
/// The signal that it should agree with is there, is another one, and measures the same kind of quantity.
Result<void> checkAgrees(const Bench& bench, const SignalSpec& signal);
/// The signals whose chains need this one.
std::vector<std::shared_ptr<const SignalSpec>> dependentsOf(const Bench& bench, const std::string& id);

}  // namespace cruscotto
