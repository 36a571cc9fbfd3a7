#pragma once

#include <cstddef>
#include <span>

#include "core/base/time.h"

namespace cruscotto {

/// How a stretch of readings stood: for a point that is captured, and for the noise behind a stage.
struct Steadiness {
    std::size_t samples = 0;
    double mean = 0;
    double noise = 0;       ///< standard deviation about the straight line through them
    double peakToPeak = 0;  ///< of all of them
    double drift = 0;       ///< the line's rise from the first to the last
    /// Of the mean (type A, GUM 4.2), with what neighbouring readings have in common taken into account: their number
    /// counts for as many as are independent, by the correlation of the first lags.
    double standardUncertainty = 0;
    /// The drift is both more than the noise and more than chance gives it.
    bool settled = true;
};
/// NaN are left out. Of fewer than three readings no noise is told.
Steadiness steadinessOf(std::span<const double> values, std::span<const Instant> times);

}  // namespace cruscotto
