#pragma once

#include <optional>
#include <string_view>

namespace cruscotto::stages {

/// How far a sensor of this class may be off at a temperature, in degC: limits of error (IEC 60584-1:2013, table 12,
/// for the letters of thermocouples and classes 1 and 2; IEC 60751:2022, 6.2, for "Pt" and classes AA, A, B, C).
/// Nothing where there is no such class, or it does not hold there.
std::optional<double> toleranceOf(std::string_view sensor, std::string_view tolerance, double degrees);

}  // namespace cruscotto::stages
