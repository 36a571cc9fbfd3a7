#pragma once

#include <cstddef>
#include <span>
#include <vector>

namespace cruscotto {

/// How often readings lie where: bars of one width from `low` on.
struct Histogram {
    double low = 0, width = 0;
    std::vector<std::size_t> counts;
    std::size_t all = 0;
    double mean = 0, deviation = 0;  ///< of a sample (n - 1)
    /// Below which so much of them lies, 0 to 1: by straight lines between neighbours.
    double p5 = 0, median = 0, p95 = 0;
};
/// NaN are left out. As many bars as Freedman and Diaconis' rule asks for, 5 to `mostBars`; where readings come in
/// steps (counts), a bar is a whole number of them. Nothing read: no bars.
Histogram histogramOf(std::span<const double> values, std::size_t mostBars = 100);

}  // namespace cruscotto
