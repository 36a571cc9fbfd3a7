#include "core/analysis/histogram.h"

#include <algorithm>
#include <cmath>

namespace cruscotto {

Histogram histogramOf(std::span<const double> values, std::size_t mostBars) {
    Histogram out;
    std::vector<double> sorted;
    sorted.reserve(values.size());
    for (const double v : values)
        if (std::isfinite(v)) sorted.push_back(v);
    out.all = sorted.size();
    if (sorted.empty()) return out;
    std::ranges::sort(sorted);
    const auto n = static_cast<double>(sorted.size());
    const auto below = [&](double share) {
        const double at = share * (n - 1);
        const auto i = static_cast<std::size_t>(at);
        const double next = sorted[std::min(i + 1, sorted.size() - 1)];
        return sorted[i] + (at - static_cast<double>(i)) * (next - sorted[i]);
    };
    out.p5 = below(0.05);
    out.median = below(0.5);
    out.p95 = below(0.95);
    for (std::size_t i = 0; i < sorted.size(); ++i) out.mean += (sorted[i] - out.mean) / static_cast<double>(i + 1);
    double squares = 0;
    for (const double v : sorted) squares += (v - out.mean) * (v - out.mean);
    out.deviation = sorted.size() > 1 ? std::sqrt(squares / (n - 1)) : 0;
    const double extent = sorted.back() - sorted.front();
    if (!(extent > 0)) {
        out.low = sorted.front() - 0.5;
        out.width = 1;
        out.counts = {sorted.size()};
        return out;
    }
    double width = 2 * (below(0.75) - below(0.25)) / std::cbrt(n);
    constexpr double fewestBars = 5;
    width = std::clamp(width, extent / static_cast<double>(mostBars), extent / fewestBars);
    // the smallest difference, where it is not that of continuous readings
    double step = extent;
    for (std::size_t i = 1; i < sorted.size(); ++i)
        if (const double d = sorted[i] - sorted[i - 1]; d > 1e-9 * extent) step = std::min(step, d);
    if (step > extent / (static_cast<double>(mostBars) * 20)) width = std::max(1.0, std::round(width / step)) * step;
    out.width = width;
    out.low = std::floor(sorted.front() / width + 0.5) * width - width / 2;
    while (out.low > sorted.front()) out.low -= width;
    const auto bars = static_cast<std::size_t>(std::floor((sorted.back() - out.low) / width)) + 1;
    out.counts.assign(bars, 0);
    for (const double v : sorted)
        ++out.counts[std::min(bars - 1, static_cast<std::size_t>(std::max(0.0, (v - out.low) / width)))];
    return out;
}

}  // namespace cruscotto
