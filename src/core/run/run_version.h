#pragma once

#include <string>
#include <vector>

#include "core/base/progress.h"
#include "core/run/run_reader.h"

namespace cruscotto {

/// What of `bench` would make other readings of the run's raw samples than those it has now: signals of the run, with
/// the chain that the bench gives them.
std::vector<SignalSpec> correctedSignals(const RunInfo& run, const Bench& bench);

/// Works the readings of these signals out again from the raw samples, with the chains given here, over the whole run,
/// and adds them as a new version: raw samples, earlier readings and earlier versions stay as they are. Returns the
/// version's number, from 1. Computed signals that need them, or others that do, are worked out again with them; `left`
/// gets a sentence for each that cannot be. Errors: a signal that the run has not, or whose raw samples were not kept;
/// a chain that does not hold; cancelled; a file that cannot be written. Then the run is as it was.
Result<int> addRunVersion(const std::string& path, const std::vector<SignalSpec>& corrected, const std::string& words,
                          std::int64_t unixNs, Progress& progress, std::vector<Text>* left = nullptr);

/// What a version changed by how much, a sentence for each of its signals. Nothing where it does not read.
std::vector<Text> whatChanged(const std::string& path, int version);

}  // namespace cruscotto
