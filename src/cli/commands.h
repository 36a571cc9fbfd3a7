#pragma once

#include <atomic>
#include <optional>
#include <string>
#include <vector>

#include "core/bench/bench.h"
#include "core/export/run_export.h"
#include "core/run/run_card.h"

/// The headless commands. Each prints its result to standard output, what goes wrong to standard error, and returns the
/// program's exit code. All that asks them to end (core/base/endings.h) ends them in order: outputs safe, the run
/// closed.
namespace cruscotto::cli {

/// Documented in the README; frozen.
enum ExitCode : int {
    ok = 0,
    failed = 1,         ///< could not be done: the message says why
    wrongUsage = 2,     ///< the command line does not read
    badFile = 3,        ///< a bench or run cannot be opened, or is not valid
    lostSamples = 4,    ///< a recording ended with samples missing
    deviceTrouble = 5,  ///< measured, but a device did not deliver
    verdictFailed = 6,  ///< a procedure went through, and something was not as it should be
    notFinished = 7     ///< a procedure ended before its last step
};

struct RecordOptions {
    std::string bench, out;
    std::optional<Duration> length;    ///< until a signal where empty
    std::vector<std::string> outputs;  ///< "signal=value": start values other than the bench's
    /// Only shots: "ID>NUMBER" or "ID<NUMBER" (a level crossed upwards or downwards), or "mark". Empty: everything.
    std::string when;
    double hysteresis = 0;
    Duration before = seconds(1), after = seconds(1);
    int shots = 1;
    bool asFastAsPossible = false;
    bool force = false;                        ///< a file that is there may be replaced
    std::optional<std::int64_t> beginsAtUnix;  ///< seconds; as fast as possible only: the time of day that it pretends
};
int record(const RecordOptions& options);

struct WatchOptions {
    std::string bench;
    std::optional<Duration> length;
    Duration every = milliseconds(500);
};
int watch(const WatchOptions& options);

struct WireOptions {
    std::string bench;
    std::string device;  ///< its id; may be empty where only one device has a wire
    std::string out;     ///< a capture to write; empty: each message is printed with what it means
    bool force = false;  ///< a file that is there may be replaced
    std::optional<Duration> length;
};
/// What passes on a device's link.
int wire(const WireOptions& options);

/// `version`: see RunReader::open.
int info(const std::string& run, bool json, std::optional<int> version);
struct RecomputeOptions {
    std::string run, bench;
    std::vector<std::string> signals;  ///< ids; all whose chain differs where empty
    std::string words;
};
/// The run's readings, worked out again with the chains of a bench, as a new version of the run.
int recompute(const RecomputeOptions& options);
int exportRun(const std::string& run, const std::string& out, const ExportOptions& options);
/// What is empty stays as it is; marks are added, "SECONDS=WORDS" from the run's start.
struct DescribeOptions {
    std::string run;
    std::optional<std::string> title, person, specimen, notes, verdict;
    std::vector<std::string> marks;
};
int describe(const DescribeOptions& options);
struct CheckOptions {
    std::string bench;
    bool write = false;
    bool live =
        false;  ///< measure for `length` too, with outputs at rest, and tell what to look after before it counts
    Duration length = milliseconds(5000);
    bool json = false;
};
int check(const CheckOptions& options);
/// What each stage of a signal's chain makes of raw samples. Needs no device.
struct ChainOptions {
    std::string bench, signal;
    std::vector<double> raw;
    std::vector<std::string> given;  ///< "NAME=NUMBER": what other signals read, by the field's key or the signal's id
    Duration every = milliseconds(1000);
    bool json = false;
};
int chain(const ChainOptions& options);

/// The calibration sheet of a signal: in words, as data, or as a page.
struct CalibrationOptions {
    std::string bench, signal, out;
    bool json = false;
    NewFile::Existing existing = NewFile::Existing::refuse;
};
int calibration(const CalibrationOptions& options, int argc, char** argv);

/// What a stretch of a run, or of what a bench measures from now on, comes to. Seconds count from the beginning.
struct MeasureOptions {
    std::string file, signal, against;
    std::optional<Duration> from, to;
    std::vector<std::string> measures;  ///< all where empty
    bool json = false;
};
int measure(const MeasureOptions& options);

/// Runs laid over each other: what differs between two; with `signal` its measures in all of them; with `band` how the
/// last lies to the band of those before it.
struct CompareOptions {
    std::vector<std::string> runs;
    std::string signal, against;
    std::vector<std::string> measures;  ///< all where empty
    std::string align = "beginning";    ///< or mark, crossing, time-of-day
    std::string crossingOf;
    double level = 0;
    bool falls = false;
    Duration shift{};  ///< later, on top of that
    bool band = false;
    double spreads = 3, allowance = 0, outsidePercent = 1;
    bool json = false;
};
int compareRuns(const CompareOptions& options);
/// What the rules of a bench would have done over a run; no output is touched.
struct RehearseOptions {
    std::string bench, run;
    bool json = false;
};
int rehearseRules(const RehearseOptions& options);
/// Works a procedure of a bench through, and records it.
struct ProcedureOptions {
    std::string bench, procedure, out, answers, junit;
    bool asFastAsPossible = false, force = false, json = false;
    std::optional<std::int64_t> beginsAtUnix;
};
int runProcedure(const ProcedureOptions& options);
struct RunsOptions {
    std::string folder = ".";
    RunSearch search;
    bool json = false;
};
int listRuns(const RunsOptions& options);

/// Where a reading of a run comes from, at a moment from its beginning; its last, where none is given.
struct ExplainOptions {
    std::string run, signal;
    std::optional<Duration> at;
    bool json = false;
    std::string out;  ///< a page, .pdf or .png, instead; empty: printed
    NewFile::Existing existing = NewFile::Existing::refuse;
};
int explain(const ExplainOptions& options, int argc, char** argv);
/// As 2026-11-29, by the computer's clock.
std::string today();

/// The signal of this id, tag or name; null: there is none.
const SignalSpec* namedSignal(const Bench& bench, const std::string& name);
/// The bench in this file; what is wrong with it is said.
std::optional<Bench> openBench(const std::string& path);

struct StandInOptions {
    std::string format = "delimited";
    double linesPerSecond = 5;
    std::uint64_t seed = 1;
    std::string link;
    bool asked = false;
    unsigned baud = 0;
    std::vector<std::string> faults;  ///< that are on from the beginning
};
int beehive(const StandInOptions& options);

/// The stand-ins that wait on a pseudo terminal or on the loopback address, until they are stopped.
struct HostedOptions {
    std::string link;                 ///< a symbolic link to the pseudo terminal
    std::optional<unsigned> port;     ///< a TCP port on the loopback address instead; 0: any
    double times = 1;                 ///< of a bus: as many frames
    std::vector<std::string> faults;  ///< that are on from the beginning
};
/// What can be made to go wrong with that stand-in, with commas between; empty where there is none of that name.
std::string standInFaults(const std::string& name);
int rack(const HostedOptions& options);
int meter(const HostedOptions& options);
int weather(const HostedOptions& options);
int sensors(const HostedOptions& options);
int tone(const HostedOptions& options);
int pumpBus(const HostedOptions& options);
int pinBoard(const HostedOptions& options);
struct CabinetOptions {
    std::string folder;
    std::vector<std::string> faults;
};
/// The small computer in the pump bench's cabinet: makes a tree with what Linux shows of it, until it is stopped.
int cabinet(const CabinetOptions& options);

/// Writes the description of what the bench publishes on a CAN bus.
int writeBusDescription(const std::string& bench, const std::string& device, const std::string& out, bool force);
/// Writes a bench that plays a run as if it was measured now.
struct ReplayCommand {
    std::string run, out;
    double speed = 1;
    bool loop = false;
    bool force = false;  ///< a file that is there may be replaced
};
int replay(const ReplayCommand& command);

/// For what grows under its own name while it is written: what is there goes, where that is wanted.
Result<void> makeWay(const std::string& path, bool force);
/// What asks a command to end (core/base/endings.h) ends it in order from now on; SIGUSR1 sets a mark in a recording.
void handleSignals();
/// As such a signal does.
void askToStop();
bool interrupted();
/// The same, for what watches a flag.
const std::atomic<bool>& stopFlag();

}  // namespace cruscotto::cli
