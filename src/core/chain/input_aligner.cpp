#include "core/chain/input_aligner.h"

#include <algorithm>
#include <cmath>

#include "core/chain/quality_marker.h"

namespace cruscotto {

StretchTimesPtr stretchTimes(const Block& block) {
    auto out = std::make_shared<StretchTimes>();
    out->at.reserve(block.size());
    for (std::size_t i = 0; i < block.size(); ++i) out->at.push_back(block.timeOf(i));
    out->distinct = block.times.empty() && block.dtNs >= 1;
    return out;
}

void InputAligner::feed(std::size_t input, const StretchTimesPtr& times, const Readings& readings, Instant until) {
    Input& in = inputs_[input];
    const std::size_t n = readings.values.size();
    if (n == 0) return;
    in.stretches.push_back(
        {times, readings.values, readings.quality.empty() ? std::vector<Quality>() : worstOfEach(readings.quality, n)});
    // Between the last sample and the next is known what holds, but not what lies between.
    if (rule_.interpolated) until = times->at[n - 1] + Duration{1};
    in.until = std::max(in.until, until);
}

Instant InputAligner::farthest() const {
    Instant out;
    for (const Input& in : inputs_) out = std::max(out, in.until);
    return out;
}

std::optional<Instant> InputAligner::begins() const {
    std::optional<Instant> out;
    for (const Input& in : inputs_) {
        if (in.stretches.empty()) continue;
        const Instant first = in.stretches.front().times->at[in.at];
        out = std::min(out.value_or(first), first);
    }
    return out;
}

void InputAligner::gap(std::size_t input, Instant from) {
    auto& stretches = inputs_[input].stretches;
    if (stretches.empty()) return;
    const Stretch& last = stretches.back();
    auto times = std::make_shared<StretchTimes>();
    times->at = {std::max(from, last.times->at.back())};
    const double held = last.values.back();
    stretches.push_back({std::move(times), {held}, {Quality::stale}});
}

Instant endOf(const Block& block) {
    return block.group->clocked() ? block.timeOf(block.size()) : block.timeOf(block.size() - 1) + Duration{1};
}

std::size_t InputAligner::ready(const StretchTimes& moments, Instant clockUntil) const {
    Instant known = clockUntil, farthest = clockUntil;
    for (const Input& in : inputs_) {
        if (!in.notAwaited) known = std::min(known, in.until);
        farthest = std::max(farthest, in.until);
    }
    if (rule_.patience.ns >= 0) known = std::max(known, farthest - rule_.patience);
    return static_cast<std::size_t>(std::ranges::lower_bound(moments.at, known) - moments.at.begin());
}

void InputAligner::take(const StretchTimesPtr& moments, std::size_t begin, std::size_t end, Aligned& out) {
    out.values.resize(inputs_.size());
    out.quality.clear();
    for (std::size_t k = 0; k < inputs_.size(); ++k) {
        out.values[k].resize(end - begin);
        takeOne(inputs_[k], moments, begin, out.values[k], out.quality);
    }
}

void InputAligner::takeOne(Input& in, const StretchTimesPtr& moments, std::size_t begin, std::vector<double>& values,
                           std::vector<QualityInterval>& quality) const {
    const std::size_t n = values.size();
    // Of the same block as the moments: sample for sample.
    while (in.stretches.size() > 1 && in.stretches[1].times == moments && in.stretches[1].times->distinct &&
           moments->at[begin] >= in.stretches[1].times->at[0]) {
        in.stretches.pop_front();
        in.at = 0;
    }
    if (!in.stretches.empty() && n > 0) {
        const Stretch& same = in.stretches.front();
        if (same.times == moments && same.times->distinct && same.quality.empty() && begin + n <= same.values.size()) {
            std::copy_n(same.values.begin() + static_cast<std::ptrdiff_t>(begin), n, values.begin());
            in.at = begin + n - 1;
            return;
        }
    }
    QualityMarker marker(quality);
    if (in.stretches.empty()) {
        std::ranges::fill(values, std::nan(""));
        for (std::size_t i = 0; i < n; ++i) marker.mark(i, Quality::stale);
        return;
    }
    std::size_t s = 0, at = in.at;  // the sample that holds
    const Stretch* now = &in.stretches[s];
    const Instant* times = now->times->at.data();
    std::size_t size = now->values.size();
    const auto qualityOf = [](const Stretch& stretch, std::size_t i) {
        const Quality q = stretch.quality.empty() ? Quality::good : stretch.quality[i];
        return q == Quality::gap ? Quality::stale : q;  // that nothing came of it is no gap in the outcome
    };
    for (std::size_t i = 0; i < n; ++i) {
        const Instant t = moments->at[begin + i];
        while (true) {
            if (at + 1 < size) {
                if (times[at + 1] > t) break;
                ++at;
            } else {
                if (s + 1 == in.stretches.size() || in.stretches[s + 1].times->at[0] > t) break;
                now = &in.stretches[++s];
                times = now->times->at.data();
                size = now->values.size();
                at = 0;
            }
        }
        const Instant held = times[at];
        if (held > t) {
            values[i] = std::nan("");
            marker.mark(i, Quality::stale);
            continue;
        }
        values[i] = now->values[at];
        Quality worst = qualityOf(*now, at);
        const bool further = at + 1 < size || s + 1 < in.stretches.size();
        if (rule_.interpolated && further && held < t) {
            const Stretch& after = at + 1 < size ? *now : in.stretches[s + 1];
            const std::size_t then = at + 1 < size ? at + 1 : 0;
            const double share =
                static_cast<double>((t - held).ns) / static_cast<double>((after.times->at[then] - held).ns);
            values[i] += (after.values[then] - values[i]) * share;
            worst = worse(worst, qualityOf(after, then));
        }
        if (rule_.oldest.ns > 0 && t - held > rule_.oldest) worst = worse(worst, Quality::stale);
        if (worst != Quality::good) marker.mark(i, worst);
    }
    in.at = at;
    in.stretches.erase(in.stretches.begin(), in.stretches.begin() + static_cast<std::ptrdiff_t>(s));
}

}  // namespace cruscotto
