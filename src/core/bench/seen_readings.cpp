#include "core/bench/seen_readings.h"

#include <algorithm>
#include <cmath>

#include "core/base/number_text.h"
#include "core/chain/chain.h"
#include "core/chain/stage_kind.h"
#include "core/signal/scale.h"

namespace cruscotto {

namespace {

constexpr Duration learning = milliseconds(5000);

constexpr int mostNeeded = 6;

/// How many decimals show this as it is.
int decimalsNeeded(double v) {
    double tens = 1;
    for (int n = 0; n < mostNeeded; ++n, tens *= 10)
        if (std::nearbyint(v * tens) / tens == v) return n;
    return mostNeeded;
}

/// Where the chain's readings lie; nothing where that cannot be told.
std::optional<Scale> reachOf(const ChainSpec& chain, ChannelKind kind) {
    std::optional<Scale> at;
    std::string unit = rawUnit(kind);
    for (const Stage& stage : chain) {
        at = reachAfter(stage, unit, at);
        unit = unitAfter(stage, unit);
    }
    return at;
}

/// As it is where its ends are short numbers, else rounded outwards.
Scale tidy(const Scale& s) {
    constexpr std::size_t shortOnes = 5;
    const bool fine = exactNumber(s.low).size() <= shortOnes && exactNumber(s.high).size() <= shortOnes;
    return fine ? s : niceScale(s.low, s.high);
}

}  // namespace

std::optional<Scale> expectedScale(const SignalSpec& signal) {
    if (signal.scale) return signal.scale;
    if (signal.isState()) return Scale{0, 1};
    if (signal.output) return Scale{signal.output->low, signal.output->high};
    const auto reached = reachOf(signal.chain, signal.kind);
    return reached ? std::optional(tidy(*reached)) : std::nullopt;
}

bool readsWhole(const SignalSpec& signal) {
    if (isOutput(signal.kind)) return false;
    const std::string unit = signal.unit();
    return (unit == "{counts}" || unit == "{pulses}") &&
           std::ranges::all_of(signal.chain, [](const Stage& stage) { return stage.kind().keepsWhole; });
}

const SeenReadings::Seen* SeenReadings::find(const SignalSpec& signal) const {
    const auto it = seen_.find(signal.id);
    return it == seen_.end() || !it->second.isOf(signal) ? nullptr : &it->second;
}

void SeenReadings::look(const SignalSpec& signal, const Source& source, double reading) {
    Seen& seen = seen_[signal.id];
    if (!seen.isOf(signal))
        seen = {signal.chain, signal.kind, signal.scale, signal.output, expectedScale(signal), {}, {}};
    if (!std::isnan(reading)) seen.needs = std::max(seen.needs, decimalsNeeded(reading));
    if (signal.isState() || (seen.settled && seen.revision == source.revision())) return;
    const Span all = source.extent();
    const StretchSummary s = source.summaryOver(signal.id, {all.from, all.to + nanoseconds(1)});
    if (s.count == 0) return;
    seen.needs = std::max({seen.needs, decimalsNeeded(s.min), decimalsNeeded(s.max)});
    if (!seen.scale || s.min < seen.scale->low || s.max > seen.scale->high) seen.scale = niceScale(s.min, s.max);
    if (!seen.since) seen.since = s.count > 1 ? all.from : all.to;
    seen.settled = all.to - *seen.since >= learning;
    seen.revision = source.revision();
}

Scale SeenReadings::scaleOf(const SignalSpec& signal) const {
    const Seen* seen = find(signal);
    const auto expected = seen ? seen->expected : expectedScale(signal);
    return expected ? *expected : seen && seen->scale ? *seen->scale : Scale{0, 1};
}

int SeenReadings::decimalsOf(const SignalSpec& signal) const {
    const Seen* seen = find(signal);
    if (readsWhole(signal) && (!seen || seen->needs == 0)) return 0;
    const auto expected = seen ? seen->expected : expectedScale(signal);
    const auto known = expected ? expected : seen ? seen->scale : std::nullopt;
    const int usual = known ? decimalsFor(known->low, known->high) : 2;
    const bool stated = signal.scale || signal.output;
    return !stated && seen && seen->scale ? std::min(usual, seen->needs) : usual;
}

}  // namespace cruscotto
