#pragma once

#include <span>

namespace cruscotto {

struct Extremes {
    double least = 0, most = 0;
};
/// The least and the greatest of these, NaN left aside; plus and minus infinity where there are none.
Extremes extremesOf(std::span<const double> values);

}  // namespace cruscotto
