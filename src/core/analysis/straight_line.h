#pragma once

#include <cstddef>
#include <span>
#include <vector>

namespace cruscotto {

/// The straight line of least squares through points. Of fewer than two places of x it is level.
struct StraightLine {
    std::size_t points = 0;
    double x = 0, y = 0;  ///< the means, through which it goes
    double slope = 0;
    double spread = 0;   ///< sum of the squared deviations of x from its mean
    double squares = 0;  ///< the same of y
    double rest = 0;     ///< sum of the squared deviations of y from the line
    [[nodiscard]] double at(double where) const { return y + slope * (where - x); }
    /// Its share of the squares, 0 to 1; 0 where y does not move.
    [[nodiscard]] double explained() const { return squares > 0 ? 1 - rest / squares : 0; }
};
/// Precondition: as many of both, all finite.
StraightLine straightLine(std::span<const double> x, std::span<const double> y);
/// With x = 0, 1, 2 ...
StraightLine straightLine(std::span<const double> y);

/// The middle one by size, the upper of two; 0 of none.
double medianOf(std::vector<double> values);

}  // namespace cruscotto
