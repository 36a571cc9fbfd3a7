#include "core/analysis/steadiness.h"

#include <algorithm>
#include <cmath>
#include <vector>

#include "core/analysis/straight_line.h"

namespace cruscotto {

namespace {

/// As many of n readings as are independent: n over 1 + 2 times the sum of the autocorrelation, up to the first lag at
/// which that is gone.
double independent(const std::vector<double>& rest, double variance) {
    const auto n = static_cast<double>(rest.size());
    if (!(variance > 0)) return n;
    double sum = 1;
    const std::size_t lags = std::min<std::size_t>(rest.size() / 4, 200);
    for (std::size_t lag = 1; lag <= lags; ++lag) {
        double product = 0;
        for (std::size_t i = 0; i + lag < rest.size(); ++i) product += rest[i] * rest[i + lag];
        const double correlation = product / (n * variance);
        if (correlation < 2 / std::sqrt(n)) break;  // what chance gives
        sum += 2 * correlation;
    }
    return std::max(1.0, n / sum);
}

}  // namespace

Steadiness steadinessOf(std::span<const double> values, std::span<const Instant> times) {
    std::vector<double> v, t;
    for (std::size_t i = 0; i < values.size() && i < times.size(); ++i)
        if (std::isfinite(values[i])) v.push_back(values[i]), t.push_back((times[i] - times[0]).seconds());
    Steadiness out;
    out.samples = v.size();
    if (v.empty()) return out;
    const auto n = static_cast<double>(v.size());
    const StraightLine line = straightLine(t, v);
    out.mean = line.y;
    const auto [low, high] = std::ranges::minmax(v);
    out.peakToPeak = high - low;
    if (v.size() < 3) return out;
    std::vector<double> rest;
    for (std::size_t i = 0; i < v.size(); ++i) rest.push_back(v[i] - line.at(t[i]));
    out.noise = std::sqrt(line.rest / (n - 2));
    out.drift = line.slope * (t.back() - t.front());
    const double free = independent(rest, line.rest / n);
    out.standardUncertainty = out.noise / std::sqrt(free);
    const double chance = out.noise * std::sqrt(12 / free);
    out.settled = std::fabs(out.drift) <= std::max(out.noise, 3 * chance);
    return out;
}

}  // namespace cruscotto
