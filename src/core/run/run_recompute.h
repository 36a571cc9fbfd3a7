#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "core/base/progress.h"
#include "core/run/run_reader.h"

/// The computed signals of a run, and the measured ones that take others, worked out again: their readings were
/// recorded, and come from those of others.
namespace cruscotto {

/// Such a signal of a run, with what it comes from: its chain as it is worked out.
struct Recomputed {
    const RunSignal* signal = nullptr;
    std::shared_ptr<const SignalSpec> spec;
};

/// Those of the run that need one of `changed` (ids in the bench), directly or through others, each behind
/// those that it needs. `left` gets a sentence for each that cannot be worked out again: where it or what it comes from
/// was thinned, or was not recorded at all.
std::vector<Recomputed> computedFrom(const RunInfo& run, const std::vector<std::string>& changed,
                                     std::vector<Text>& left);

/// The new readings of one block of the run, by the block's number of its first sample.
struct RecomputedBlock {
    std::uint64_t firstIndex = 0;
    std::vector<Instant> times;
    Readings readings;
};
/// Hands out the readings of such a signal, block by block, with the chains of `corrected` where those name a
/// signal. What it gives is what the engine gave live, as far as all inputs lie in the run. Errors: chains or units
/// that do not hold; a computation that needs itself; cancelled.
Result<void> recompute(RunReader& reader, const Recomputed& what, const std::map<std::string, SignalSpec>& corrected,
                       const std::function<void(RecomputedBlock)>& take, Progress& progress);

}  // namespace cruscotto
