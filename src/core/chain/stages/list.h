#pragma once

#include "core/chain/stage_kind.h"

/// One line for each kind of stage, in the order in which they are offered. Each is a function of that name in a file
/// of its own.
#define CRUSCOTTO_STAGES(ONE)  \
    ONE(combine)               \
    ONE(calculate)             \
    ONE(efficiency)            \
    ONE(humidAir)              \
    ONE(measure)               \
    ONE(countsToVolts)         \
    ONE(pulseCounter)          \
    ONE(invert)                \
    ONE(debounce)              \
    ONE(movingMean)            \
    ONE(median)                \
    ONE(lowPass)               \
    ONE(butterworth)           \
    ONE(notch)                 \
    ONE(movingRms)             \
    ONE(slopeOffset)           \
    ONE(twoPoints)             \
    ONE(formula)               \
    ONE(thermocouple)          \
    ONE(resistance)            \
    ONE(resistanceThermometer) \
    ONE(thermistor)            \
    ONE(bridge)                \
    ONE(currentLoop)           \
    ONE(shunt)                 \
    ONE(ratiometric)           \
    ONE(total)                 \
    ONE(pulseTimes)            \
    ONE(quadrature)            \
    ONE(reciprocal)            \
    ONE(squareRoot)            \
    ONE(exponential)           \
    ONE(logarithmic)           \
    ONE(polynomial)            \
    ONE(table)                 \
    ONE(calibration)           \
    ONE(derivative)            \
    ONE(integral)              \
    ONE(delay)                 \
    ONE(overTime)              \
    ONE(level)                 \
    ONE(events)                \
    ONE(tare)                  \
    ONE(otherUnit)             \
    ONE(accuracy)              \
    ONE(validRange)

namespace cruscotto::stages {

#define CRUSCOTTO_DECLARE(name) const StageKind& name();
CRUSCOTTO_STAGES(CRUSCOTTO_DECLARE)
#undef CRUSCOTTO_DECLARE

}  // namespace cruscotto::stages
