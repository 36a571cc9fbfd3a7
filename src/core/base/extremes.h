#pragma once

#include <span>

#include "core/base/pair.h"

namespace cruscotto {

/// The least and the greatest of these, NaN left aside; plus and minus infinity where there are none.
Extremes extremesOf(std::span<const double> values);

}  // namespace cruscotto
