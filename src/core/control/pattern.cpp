#include "core/control/pattern.h"

#include <algorithm>
#include <cmath>

namespace cruscotto {

namespace {
/// Index of the first point at or behind a time.
std::size_t firstFrom(const Pattern& pattern, double seconds) {
    const auto it = std::ranges::lower_bound(pattern, seconds, {}, &Pattern::value_type::first);
    return static_cast<std::size_t>(it - pattern.begin());
}
}  // namespace

Pattern movedPoint(Pattern pattern, std::size_t i, double seconds, double value, double least) {
    const double from = i == 0 ? 0 : pattern[i - 1].first + least;
    const double to = i + 1 == pattern.size() ? INFINITY : pattern[i + 1].first - least;
    // Between neighbours that are too close it stays where it is.
    if (from <= to) pattern[i].first = std::clamp(seconds, from, to);
    pattern[i].second = value;
    return pattern;
}

Pattern withPoint(Pattern pattern, double seconds, double value, double least) {
    seconds = std::max(0.0, seconds);
    for (auto& [t, v] : pattern)
        if (std::fabs(t - seconds) < least) {
            v = value;
            return pattern;
        }
    pattern.insert(pattern.begin() + static_cast<std::ptrdiff_t>(firstFrom(pattern, seconds)), {seconds, value});
    return pattern;
}

Pattern withPulse(Pattern pattern, double seconds, double width) {
    seconds = std::max(0.0, seconds);
    const bool before = !pattern.empty() && valueAt(pattern, seconds, false) > 0.5;
    const auto changes =
        std::ranges::find_if(pattern, [&](const auto& p) { return p.first > seconds && (p.second > 0.5) != before; });
    const double change = changes == pattern.end() ? INFINITY : changes->first;
    const double end = std::min(seconds + width, change);
    std::erase_if(pattern, [&](const auto& p) { return p.first >= seconds && p.first < end; });
    pattern.insert(pattern.begin() + static_cast<std::ptrdiff_t>(firstFrom(pattern, seconds)),
                   {seconds, before ? 0 : 1});
    if (end < change)
        pattern.insert(pattern.begin() + static_cast<std::ptrdiff_t>(firstFrom(pattern, end)), {end, before ? 1 : 0});
    const std::size_t none = pattern.size();
    return withoutPoint(std::move(pattern), none, true);
}

Pattern withoutPoint(Pattern pattern, std::size_t i, bool states) {
    if (i < pattern.size() && pattern.size() > 1) pattern.erase(pattern.begin() + static_cast<std::ptrdiff_t>(i));
    if (!states) return pattern;
    Pattern out;
    for (const auto& point : pattern)
        if (out.empty() || (out.back().second > 0.5) != (point.second > 0.5)) out.push_back(point);
    return out;
}

Pattern recordedPattern(std::span<const double> seconds, std::span<const double> values, bool states) {
    Pattern out;
    for (std::size_t i = 0; i < std::min(seconds.size(), values.size()); ++i)
        if (std::isfinite(values[i]) && (out.empty() || seconds[i] > out.back().first))
            out.emplace_back(std::max(0.0, seconds[i]), states ? (values[i] > 0.5 ? 1 : 0) : values[i]);
    return states && !out.empty() ? withoutPoint(out, out.size(), true) : out;
}

double valueAt(const Pattern& pattern, double seconds, bool lines) {
    if (pattern.empty()) return 0;
    const std::size_t next = firstFrom(pattern, std::nextafter(seconds, INFINITY));
    if (next == 0) return pattern.front().second;
    const auto& before = pattern[next - 1];
    if (!lines || next == pattern.size()) return before.second;
    const auto& after = pattern[next];
    return before.second + (after.second - before.second) * (seconds - before.first) / (after.first - before.first);
}

double roundStep(double lasts) {
    const double about = std::max(lasts, 1e-6) / 100;
    const double ten = std::pow(10, std::floor(std::log10(about)));
    for (const double by : {1.0, 2.0, 5.0})
        if (about <= by * ten * (1 + 1e-9)) return by * ten;
    return 10 * ten;
}

}  // namespace cruscotto
