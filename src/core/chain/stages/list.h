#pragma once

#include "core/chain/stage_kind.h"

/// One line for each kind of stage, in the order in which they are offered. Each is a function of that name in a file
/// of its own.
#define CRUSCOTTO_STAGES(ONE) \
    ONE(countsToVolts)        \
    ONE(pulseCounter)         \
    ONE(invert)               \
    ONE(movingMean)           \
    ONE(median)               \
    ONE(slopeOffset)          \
    ONE(twoPoints)            \
    ONE(formula)              \
    ONE(convertUnit)          \
    ONE(validRange)

namespace cruscotto::stages {

#define CRUSCOTTO_DECLARE(name) const StageKind& name();
CRUSCOTTO_STAGES(CRUSCOTTO_DECLARE)
#undef CRUSCOTTO_DECLARE

}  // namespace cruscotto::stages
