#include "core/analysis/straight_line.h"

#include <algorithm>

namespace cruscotto {

namespace {

template <class X>
StraightLine through(std::size_t n, const X& x, std::span<const double> y) {
    StraightLine out;
    out.points = n;
    for (std::size_t i = 0; i < n; ++i) {
        const double share = 1 / static_cast<double>(i + 1);
        out.x += (x(i) - out.x) * share;
        out.y += (y[i] - out.y) * share;
    }
    double product = 0;
    for (std::size_t i = 0; i < n; ++i) {
        const double dx = x(i) - out.x, dy = y[i] - out.y;
        out.spread += dx * dx;
        out.squares += dy * dy;
        product += dx * dy;
    }
    if (out.spread > 0) out.slope = product / out.spread;
    for (std::size_t i = 0; i < n; ++i) {
        const double d = y[i] - out.at(x(i));
        out.rest += d * d;
    }
    return out;
}

}  // namespace

StraightLine straightLine(std::span<const double> x, std::span<const double> y) {
    return through(
        y.size(), [&](std::size_t i) { return x[i]; }, y);
}

StraightLine straightLine(std::span<const double> y) {
    return through(
        y.size(), [](std::size_t i) { return static_cast<double>(i); }, y);
}

double medianOf(std::vector<double> values) {
    if (values.empty()) return 0;
    const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
    std::nth_element(values.begin(), middle, values.end());
    return *middle;
}

}  // namespace cruscotto
