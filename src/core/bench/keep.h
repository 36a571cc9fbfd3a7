#pragma once

#include <string_view>
#include <vector>

#include "core/bench/bench.h"

namespace cruscotto {

/// The policy with "raw or reading" decided: summaries are of readings, and so is a thinned signal whose chain looks at
/// several samples (a mean, a counter), since its readings could not be worked out from a few of them. A reading that
/// takes other signals is kept together with its raw sample.
KeepSpec resolvedKeep(const SignalSpec& signal);
/// The bench with every signal's policy resolved.
Bench withResolvedKeep(Bench bench);
/// The bench with every sample of every signal kept.
Bench keepingEverything(Bench bench);

/// The signals of a run that a signal of the bench becomes; its policy is taken as resolved. A summary becomes three:
/// the mean under the signal's own id, and its extremes under ids that end in "-min" and "-max". A kept reading comes
/// with a chain that only says its unit; raw samples beside it, under an id that ends in "-raw", with the chain that it
/// comes by.
inline constexpr std::string_view rawEnding = "-raw";
std::vector<SignalSpec> asRecorded(const SignalSpec& signal);

/// Raw samples are recorded, so that its readings can be worked out again; of a resolved policy.
inline bool keepsRaw(const KeepSpec& keep) {
    return !keep.asReadings || keep.rawBeside;
}

/// One plain sentence: what of the signal is recorded.
Text describeKeep(const SignalSpec& signal);

/// About how many bytes are recorded for each raw byte of the signal at this rate (samples a second; 0 where they have
/// no clock); at most one sample for each that comes, so what changes seldom takes less.
double keptShare(const SignalSpec& signal, SampleType raw, double rateHz);

}  // namespace cruscotto
