#include "core/chain/stages/tolerance.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace cruscotto::stages {

namespace {

struct ToleranceClass {
    std::string_view sensor, name;
    double a, b;  ///< thermocouples: the larger of a and b |t|; Pt: a + b |t|
    double from, to;
};
constexpr std::array<ToleranceClass, 19> classes{{{"K", "1", 1.5, 0.004, -40, 1000},
                                                  {"K", "2", 2.5, 0.0075, -40, 1200},
                                                  {"N", "1", 1.5, 0.004, -40, 1000},
                                                  {"N", "2", 2.5, 0.0075, -40, 1200},
                                                  {"J", "1", 1.5, 0.004, -40, 750},
                                                  {"J", "2", 2.5, 0.0075, -40, 750},
                                                  {"E", "1", 1.5, 0.004, -40, 800},
                                                  {"E", "2", 2.5, 0.0075, -40, 900},
                                                  {"T", "1", 0.5, 0.004, -40, 350},
                                                  {"T", "2", 1.0, 0.0075, -40, 350},
                                                  {"R", "1", 1.0, 0, 0, 1600},
                                                  {"R", "2", 1.5, 0.0025, 0, 1600},
                                                  {"S", "1", 1.0, 0, 0, 1600},
                                                  {"S", "2", 1.5, 0.0025, 0, 1600},
                                                  {"B", "2", 1.5, 0.0025, 600, 1700},
                                                  {"Pt", "AA", 0.1, 0.0017, -50, 250},
                                                  {"Pt", "A", 0.15, 0.002, -100, 450},
                                                  {"Pt", "B", 0.3, 0.005, -196, 600},
                                                  {"Pt", "C", 0.6, 0.01, -196, 600}}};

}  // namespace

std::optional<double> toleranceOf(std::string_view sensor, std::string_view tolerance, double degrees) {
    const auto c = std::ranges::find_if(
        classes, [&](const ToleranceClass& k) { return k.sensor == sensor && k.name == tolerance; });
    if (c == classes.end() || !(degrees >= c->from && degrees <= c->to)) return {};
    const double size = std::fabs(degrees);
    if (sensor == "Pt") return c->a + c->b * size;
    if ((sensor == "R" || sensor == "S") && tolerance == "1")
        return degrees <= 1100 ? c->a : 1 + 0.003 * (degrees - 1100);
    return std::max(c->a, c->b * size);
}

}  // namespace cruscotto::stages
