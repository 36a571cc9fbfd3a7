#pragma once

#include "core/bench/bench.h"
#include "core/evidence/evidence_watch.h"

namespace cruscotto {

/// What a signal's raw samples are worth at its terminal, from the first stage of its chain where that makes volts.
RawWorth rawWorthOf(const SignalSpec& spec, SampleType type);

}  // namespace cruscotto
