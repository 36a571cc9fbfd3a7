#include "core/signal/scale.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace cruscotto {

double fractionOf(const Scale& scale, double v) {
    if (std::isnan(v)) return v;
    return std::clamp((v - scale.low) / (scale.high - scale.low), 0.0, 1.0);
}

OffScale offScale(const Scale& scale, double v) {
    const double noise = (scale.high - scale.low) / 100;
    return v < scale.low - noise ? OffScale::below : v > scale.high + noise ? OffScale::above : OffScale::no;
}

namespace {
double roundStep(double rough) {
    const double power = std::pow(10.0, std::floor(std::log10(rough)));
    for (const double m : {1.0, 2.0, 5.0})
        if (m * power >= rough * (1 - 1e-9)) return m * power;
    return 10 * power;
}
}  // namespace

std::vector<double> ticksFor(const Scale& scale, int most) {
    std::vector<double> out;
    const double span = scale.high - scale.low;
    if (most < 1 || !(span > 0) || !std::isfinite(span)) return out;
    double step = roundStep(span / most);
    for (;; step = roundStep(step * 1.01)) {
        const double first = std::ceil(scale.low / step - 1e-9);
        const double last = std::floor(scale.high / step + 1e-9);
        if (last - first + 1 > most) continue;
        for (double k = first; k <= last; ++k) out.push_back(k == 0 ? 0 : k * step);
        return out;
    }
}

std::vector<double> ticksBetweenEnds(const Scale& scale, int most, double clear) {
    for (int n = most; n >= 1; --n) {
        std::vector<double> ticks = ticksFor(scale, n);
        std::erase_if(ticks, [&](double t) {
            const double f = fractionOf(scale, t);
            return f < 1e-9 || f > 1 - 1e-9;
        });
        const auto near = [&](double t) {
            const double f = fractionOf(scale, t);
            return f < clear || 1 - f < clear;
        };
        const bool aside = ticks.size() == 1 && std::fabs(fractionOf(scale, ticks[0]) - 0.5) > 0.1;
        if (!ticks.empty() && !aside && std::none_of(ticks.begin(), ticks.end(), near)) return ticks;
    }
    return {};
}

int decimalsOf(const std::vector<double>& ticks) {
    int decimals = 0;
    for (double power = 1; decimals < 9; ++decimals, power *= 10) {
        const auto whole = [power](double t) {
            const double scaled = t * power;
            return std::fabs(scaled - std::round(scaled)) <= 1e-6 + 1e-12 * std::fabs(scaled);
        };
        if (std::all_of(ticks.begin(), ticks.end(), whole)) break;
    }
    return decimals;
}

std::vector<long long> timeTicksFor(long long fromNs, long long toNs, int most, long long offsetNs, long long* stepNs) {
    std::vector<long long> out;
    if (most < 1 || toNs <= fromNs) return out;
    constexpr long long s = 1'000'000'000, m = 60 * s, h = 60 * m, d = 24 * h;
    constexpr std::array steps{1 * s,  2 * s,  5 * s,  10 * s, 15 * s, 30 * s,  1 * m,  2 * m,  5 * m,
                               10 * m, 15 * m, 30 * m, 1 * h,  2 * h,  3 * h,   6 * h,  12 * h, 1 * d,
                               2 * d,  5 * d,  10 * d, 20 * d, 50 * d, 100 * d, 365 * d};
    const long long rough = (toNs - fromNs) / most + 1;
    long long step = steps.back();
    if (rough < s) {
        step = std::max(1LL, static_cast<long long>(roundStep(static_cast<double>(rough))));
    } else {
        for (const long long candidate : steps)
            if (candidate >= rough) {
                step = candidate;
                break;
            }
        while (step < rough) step *= 2;
    }
    if (stepNs) *stepNs = step;
    long long first = (fromNs + offsetNs) / step * step - offsetNs;
    while (first < fromNs) first += step;
    for (long long t = first; t < toNs; t += step) out.push_back(t);
    return out;
}

Scale niceScale(double low, double high) {
    if (!std::isfinite(low) || !std::isfinite(high)) return {0, 1};
    if (low > high) std::swap(low, high);
    double span = high - low;
    if (span < 1e-9 * std::max(1.0, std::fabs(high))) {
        span = std::max(std::fabs(high) * 0.1, 1e-3);
        low -= span / 2;
        high += span / 2;
    }
    const double step = roundStep(span / 8);
    Scale out{std::floor(low / step + 1e-9) * step, std::ceil(high / step - 1e-9) * step};
    if (out.low == 0) out.low = 0;  // no minus zero
    return out;
}

}  // namespace cruscotto
