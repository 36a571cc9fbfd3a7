#pragma once

#include "core/bench/bench.h"

namespace cruscotto {

/// A new computed signal: the difference of `first` and another that reads in the same kind of unit, on the clock of
/// `first`; where there is no such signal, of what there is. Its id is put into `id`.
Bench withNewComputed(Bench bench, const std::string& first, const std::string& name, std::string* id);
/// A new computed signal that keeps a measure of `signal` running, against another where one is named.
Bench withKeptMeasure(Bench bench, const std::string& signal, const std::string& against, const std::string& measure,
                      double timeSeconds, std::string* id);
/// A stage of another kind of computation, over as many of the same signals as it takes.
Stage otherComputation(const Bench& bench, const Stage& now, const StageKind& kind);
/// One more source for a computation of `signal` that has these: a signal that it does not have yet.
StageSource nextSource(const Bench& bench, const SignalSpec& signal, const StageSources& has);

}  // namespace cruscotto
