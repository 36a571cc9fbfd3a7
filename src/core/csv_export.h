#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/progress.h"
#include "core/result.h"
#include "core/time.h"

namespace cruscotto {

struct CsvOptions {
    std::vector<std::string> signals;  ///< ids, names or tags; empty: all
    std::optional<Duration> from, to;  ///< since the run's first sample, half open
    bool qualityColumns = false;       ///< one more column a signal with the quality's word
};

struct CsvResult {
    std::uint64_t rows = 0;
    std::vector<std::pair<std::string, std::uint64_t>> samples;  ///< signal id, samples written
    std::uint64_t damagedBlocks = 0;
};

/// Writes the readings of a run as CSV (RFC 4180, decimal points, shortest numbers that read back as the same double):
/// a column "time [s]" since the run's first sample, then a column a signal, headed by name and unit. Signals with
/// different clocks share a row where their samples have the same time; a cell is empty where a signal has no sample or
/// no reading. The file appears under its name only when it is whole. A file that is there already is replaced.
Result<CsvResult> exportCsv(const std::string& runPath, const std::string& csvPath, const CsvOptions& options,
                            Progress& progress);

}  // namespace cruscotto
