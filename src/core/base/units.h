#pragma once

#include <optional>
#include <span>
#include <string>
#include <vector>

namespace cruscotto {

/// Units are stored as UCUM codes (The Unified Code for Units of Measure, version 2.1, case sensitive) and shown as
/// people write them.

/// "Cel" -> "°C", "L/min" -> "L/min", "[g]" -> "g", "{rpm}" -> "rpm", "m/s2" -> "m/s²", "1" -> "". A code that is
/// not known is shown with its braces and brackets taken off.
std::string unitText(const std::string& ucum);
/// The code for what a person typed: a code, the way it is shown ("°C", "rpm"), or what keyboards without its sign make
/// of it ("degC", "ohm", "l/min", "m^3/h"). Any other text is returned in braces, as UCUM's annotations are, so that
/// nothing typed is lost.
std::string unitFromTyped(const std::string& typed);

/// y = factor * x + offset takes a number in one unit to another.
struct UnitConversion {
    double factor = 1;
    double offset = 0;
};
/// Nothing when the two do not measure the same kind of quantity, or when one of them is not known.
std::optional<UnitConversion> convertUnit(const std::string& from, const std::string& to);
/// The codes that `ucum` can be converted to, itself included, in the order to offer them; empty if it is not known.
std::vector<std::string> compatibleUnits(const std::string& ucum);

struct UnitPower {
    std::string unit;
    int power = 1;
};
struct UnitProduct {
    std::string unit;
    double factor = 1;  ///< the product of the numbers times this is in `unit`
};
/// Of a product of powers: V and A make W; bar and L/min make W, with a factor of 1.667; A over A makes 1. What has no
/// unit of its own here is written as a product ("bar.s"), with a factor of 1.
UnitProduct unitProduct(std::span<const UnitPower> powers);

}  // namespace cruscotto
