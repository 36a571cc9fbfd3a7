#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/csv_export.h"

/// The headless commands. Each prints its result to standard output, what goes wrong to standard error, and returns the
/// program's exit code. SIGINT and SIGTERM end them in order: outputs safe, the run closed.
namespace cruscotto::cli {

/// Documented in the README; frozen.
enum ExitCode : int {
    ok = 0,
    failed = 1,        ///< could not be done: the message says why
    wrongUsage = 2,    ///< the command line does not read
    badFile = 3,       ///< a bench or run cannot be opened, or is not valid
    lostSamples = 4,   ///< a recording ended with samples missing
    deviceTrouble = 5  ///< measured, but a device did not deliver
};

struct RecordOptions {
    std::string bench, out;
    std::optional<Duration> length;  ///< until a signal where empty
    std::vector<std::string> outputs;  ///< "signal=value": start values other than the bench's
    bool asFastAsPossible = false;
    std::optional<std::int64_t> beginsAtUnix;  ///< seconds; as fast as possible only: the time of day that it pretends
};
int record(const RecordOptions& options);

struct WatchOptions {
    std::string bench;
    std::optional<Duration> length;
    Duration every = milliseconds(500);
};
int watch(const WatchOptions& options);

int info(const std::string& run, bool json);
int exportRun(const std::string& run, const std::string& out, const CsvOptions& options);
int check(const std::string& bench, bool write);

struct StandInOptions {
    std::string format = "delimited";
    double linesPerSecond = 5;
    std::uint64_t seed = 1;
    std::string link;
    bool nonsense = false;
};
int beehive(const StandInOptions& options);

/// SIGINT and SIGTERM end a command in order from now on; SIGUSR1 sets a mark in a recording.
void handleSignals();
bool interrupted();

}  // namespace cruscotto::cli
