#include "core/chain/input_aligner.h"

#include <algorithm>
#include <cmath>

#include "core/chain/quality_marker.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

void InputAligner::feed(std::size_t input, const SampleTimes& times, const Readings& readings, Instant until) {
    Input& in = inputs_[input];
    const std::size_t n = readings.values.size();
    if (readings.quality.empty()) {
        for (std::size_t i = 0; i < n; ++i) in.samples.push_back({times[i], readings.values[i], Quality::good});
    } else {
        const auto quality = worstOfEach(readings.quality, n);
        for (std::size_t i = 0; i < n; ++i) in.samples.push_back({times[i], readings.values[i], quality[i]});
    }
    // Between the last sample and the next is known what holds, but not what lies between.
    if (rule_.interpolated && !in.samples.empty()) until = in.samples.back().at + Duration{1};
    in.until = std::max(in.until, until);
}

Instant InputAligner::farthest() const {
    Instant out;
    for (const Input& in : inputs_) out = std::max(out, in.until);
    return out;
}

std::optional<Instant> InputAligner::begins() const {
    std::optional<Instant> out;
    for (const Input& in : inputs_)
        if (!in.samples.empty()) out = std::min(out.value_or(in.samples.front().at), in.samples.front().at);
    return out;
}

void InputAligner::gap(std::size_t input, Instant from) {
    auto& samples = inputs_[input].samples;
    if (samples.empty()) return;
    samples.push_back({std::max(from, samples.back().at), samples.back().value, Quality::stale});
}

std::size_t InputAligner::ready(const SampleTimes& moments, std::size_t n, Instant clockUntil) const {
    Instant known = clockUntil, farthest = clockUntil;
    for (const Input& in : inputs_) {
        if (!in.notAwaited) known = std::min(known, in.until);
        farthest = std::max(farthest, in.until);
    }
    if (rule_.patience.ns >= 0) known = std::max(known, farthest - rule_.patience);
    std::size_t low = 0, high = n;
    while (low < high) {
        const std::size_t middle = (low + high) / 2;
        if (moments[middle] < known)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

void InputAligner::take(const SampleTimes& moments, std::size_t begin, std::size_t end, Aligned& out) {
    const std::size_t n = end - begin;
    out.values.resize(inputs_.size());
    out.quality.clear();
    for (std::size_t k = 0; k < inputs_.size(); ++k) {
        auto& samples = inputs_[k].samples;
        std::vector<double>& values = out.values[k];
        values.resize(n);
        QualityMarker marker(out.quality);
        std::size_t at = 0;  // of the sample that holds
        for (std::size_t i = 0; i < n; ++i) {
            const Instant t = moments[begin + i];
            while (at + 1 < samples.size() && samples[at + 1].at <= t) ++at;
            if (samples.empty() || samples[at].at > t) {
                values[i] = std::nan("");
                marker.mark(i, Quality::stale);
                continue;
            }
            const Sample& before = samples[at];
            values[i] = before.value;
            Quality quality = before.quality == Quality::gap ? Quality::stale : before.quality;
            if (rule_.interpolated && at + 1 < samples.size() && before.at < t) {
                const Sample& after = samples[at + 1];
                const double share =
                    static_cast<double>((t - before.at).ns) / static_cast<double>((after.at - before.at).ns);
                values[i] += (after.value - before.value) * share;
                quality = worse(quality, after.quality == Quality::gap ? Quality::stale : after.quality);
            }
            if (rule_.oldest.ns > 0 && t - before.at > rule_.oldest) quality = worse(quality, Quality::stale);
            if (quality != Quality::good) marker.mark(i, quality);
        }
        samples.erase(samples.begin(), samples.begin() + static_cast<std::ptrdiff_t>(at));
    }
}

}  // namespace cruscotto
