#include "core/control/step_response.h"

#include <algorithm>
#include <cmath>

namespace cruscotto {

namespace {
struct Level {
    double mean = 0, deviation = 0;
    std::size_t n = 0;
};
Level levelOf(std::span<const double> values) {
    Level out;
    for (const double v : values)
        if (std::isfinite(v)) out.mean += v, ++out.n;
    if (out.n) out.mean /= static_cast<double>(out.n);
    for (const double v : values)
        if (std::isfinite(v)) out.deviation += (v - out.mean) * (v - out.mean);
    if (out.n > 1) out.deviation = std::sqrt(out.deviation / static_cast<double>(out.n - 1));
    return out;
}
}  // namespace

Result<StepResponse> fitStep(std::span<const double> seconds, std::span<const double> values, double outputChange) {
    const auto first = static_cast<std::size_t>(std::ranges::lower_bound(seconds, 0.0) - seconds.begin());
    if (first < 5 || seconds.size() - first < 30)
        return failure(
            "There is too little to look at: five readings before the step and thirty behind it are needed.");
    const double lasts = seconds.back();
    const auto from = [&](double part) {
        return static_cast<std::size_t>(std::ranges::lower_bound(seconds, part * lasts) - seconds.begin());
    };
    const Level before = levelOf(values.first(first)), end = levelOf(values.subspan(from(0.9))),
                nearEnd = levelOf(values.subspan(from(0.8), from(0.9) - from(0.8)));
    const double change = end.mean - before.mean;
    const double noise = std::max(before.deviation, end.deviation);
    if (!(std::fabs(change) > 4 * noise) || outputChange == 0)
        return failure("The signal did not answer beyond its noise. Make a larger step.");
    if (std::fabs(end.mean - nearEnd.mean) > std::max(0.03 * std::fabs(change), 3 * noise / std::sqrt(end.n)))
        return failure("The signal has not settled yet. Wait longer behind the step.");
    const Level early = levelOf(values.first(first / 2)), late = levelOf(values.subspan(first / 2, first - first / 2));
    if (std::fabs(late.mean - early.mean) > std::max(0.1 * std::fabs(change), 3 * noise / std::sqrt(early.n)))
        return failure("The signal was not steady before the step. Let it settle, then make the step.");
    // Where it has come so far for good: behind the last reading that had not.
    const auto reached = [&](double part) {
        const double level = before.mean + part * change;
        std::size_t up = first, last = first;
        for (std::size_t i = first; i < values.size(); ++i) {
            if (!std::isfinite(values[i])) continue;
            const bool beyond = change > 0 ? values[i] >= level : values[i] <= level;
            if (beyond && up == first) up = i;
            if (!beyond && seconds[i] < 0.8 * lasts) last = i;
        }
        // Noise crosses a level several times: the middle of the first and the last of them.
        return (seconds[up] + seconds[std::min(last + 1, seconds.size() - 1)]) / 2;
    };
    const double t28 = reached(0.283), t63 = reached(0.632);
    StepResponse out;
    out.gain = change / outputChange;
    out.tauSeconds = 1.5 * (t63 - t28);
    out.deadSeconds = std::max(0.0, t63 - out.tauSeconds);
    if (!(out.tauSeconds > 0)) return failure("The signal answers faster than it is read. Read it more often.");
    double sum = 0;
    std::size_t n = 0;
    for (std::size_t i = first; i < values.size(); ++i) {
        if (!std::isfinite(values[i])) continue;
        const double t = seconds[i] - out.deadSeconds;
        const double fit = before.mean + (t > 0 ? change * (1 - std::exp(-t / out.tauSeconds)) : 0);
        sum += (values[i] - fit) * (values[i] - fit);
        ++n;
    }
    out.rest = std::sqrt(sum / static_cast<double>(std::max<std::size_t>(n, 1))) / std::fabs(change);
    return out;
}

ProposedControl proposeControl(const StepResponse& r) {
    const double wanted = std::max(r.deadSeconds, r.tauSeconds / 10);
    ProposedControl out;
    out.gain = r.tauSeconds / (std::fabs(r.gain) * (wanted + r.deadSeconds));
    out.integralSeconds = std::min(r.tauSeconds, 4 * (wanted + r.deadSeconds));
    out.reverse = r.gain < 0;
    return out;
}

}  // namespace cruscotto
