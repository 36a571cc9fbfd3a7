#pragma once

#include <optional>
#include <span>

namespace cruscotto {

/// A cos(2 pi f t + phase) + offset, t from the first sample (IEEE 1057-2017, 4.5 and 4.6).
struct SineFit {
    double amplitude = 0, hz = 0, phase = 0, offset = 0;
    double residualRms = 0;  ///< of what the sine leaves
    /// Standard uncertainties, from the residual as white noise (GUM 5.1.2 on the fit's covariance).
    double uAmplitude = 0, uHz = 0, uPhase = 0, uOffset = 0;
};

/// Least squares at a known frequency (three parameters). Precondition: as many values as seconds, three at least.
SineFit sineAt(std::span<const double> values, std::span<const double> seconds, double hz);

/// Least squares with the frequency found too (four parameters), begun at the tallest line of the spectrum. Nothing for
/// fewer than eight samples, for less than one period, or where nothing moves.
std::optional<SineFit> sineThrough(std::span<const double> values, std::span<const double> seconds);

/// Amplitudes of the harmonics 2 to `last` of a fitted sine, all of them fitted to what it leaves; those above half of
/// the rate are left out.
double harmonicsRms(std::span<const double> values, std::span<const double> seconds, const SineFit& sine, int last);

}  // namespace cruscotto
