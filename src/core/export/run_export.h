#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/base/new_file.h"
#include "core/base/progress.h"
#include "core/run/run_reader.h"

namespace cruscotto {

struct ExportOptions {
    std::vector<std::string> signals;  ///< ids, names or tags; empty: all
    std::optional<Duration> from, to;  ///< since the run's first sample, half open
    bool qualityColumns = false;       ///< CSV: one more column a signal with the quality's word
    std::optional<int> version;        ///< of the readings; the newest where it is left out
    NewFile::Existing existing = NewFile::Existing::replace;
};

struct ExportResult {
    std::uint64_t rows = 0;                                      ///< CSV: lines below the heading
    std::vector<std::pair<std::string, std::uint64_t>> samples;  ///< signal id, samples written
    std::uint64_t damagedBlocks = 0;
};

/// In the bench's order, then what it no longer had at the end; or as they were asked for.
Result<std::vector<const RunSignal*>> chosenSignals(const RunInfo& info, const std::vector<std::string>& names);
/// Names the signals in the result, with no samples yet; returns how many samples they have in all.
std::uint64_t beginResult(const std::vector<const RunSignal*>& chosen, ExportResult& result);
/// What the options say, on the bench's axis.
Span chosenSpan(const RunInfo& info, const ExportOptions& options);

/// Writes the readings of a run as CSV (RFC 4180, decimal points, shortest numbers that read back as the same double):
/// a column "time [s]" since the run's first sample, then a column a signal, headed by name and unit. Signals with
/// different clocks share a row where their samples have the same time; a cell is empty where a signal has no sample or
/// no reading. Written as a NewFile.
Result<ExportResult> exportCsv(const std::string& runPath, const std::string& csvPath, const ExportOptions& options,
                               Progress& progress);

/// Writes the readings as HDF5: a group for each clock, with attributes device, rate_hz, t0_ns (of its first sample,
/// since the run's first), t0_unix_ns and dt (s; 0: see the dataset "time", seconds since the run's first sample); in
/// it a dataset "pieces" (sample number, t0_ns since the run's first sample, dt_ns) where the clock was not one
/// straight line, and a dataset of doubles for each signal, with attributes name, tag, unit (as people write it),
/// unit_ucum, chain (JSON), calibration (words), t0 and dt. Written as a NewFile.
Result<ExportResult> exportHdf5(const std::string& runPath, const std::string& path, const ExportOptions& options,
                                Progress& progress);

/// By the ending of the name: .h5 and .hdf5 are HDF5, all others CSV.
Result<ExportResult> exportRun(const std::string& runPath, const std::string& path, const ExportOptions& options,
                               Progress& progress);

}  // namespace cruscotto
