#include "core/bench/seen_readings.h"

#include <array>
#include <cmath>

#include "core/base/number_text.h"
#include "core/chain/chain.h"
#include "core/signal/scale.h"

namespace cruscotto {

namespace {

constexpr Duration learning = milliseconds(5000);

bool isWhole(double v) {
    return v == std::floor(v);
}

/// Where a stage's outcome lies if what comes in lies there; nothing where that cannot be told.
std::optional<Scale> behind(const ChainSpec& chain, ChannelKind kind, std::optional<Scale> at) {
    for (std::size_t i = 0; i < chain.size(); ++i) {
        if (const auto* counts = std::get_if<CountsToVolts>(&chain[i])) {
            at = Scale{counts->low, counts->high};
            continue;
        }
        if (const auto* valid = std::get_if<ValidRange>(&chain[i])) {
            const Scale within{valid->low, valid->high};
            at = at ? Scale{std::max(at->low, within.low), std::min(at->high, within.high)} : within;
            if (!(at->low < at->high)) at = within;
            continue;
        }
        if (std::holds_alternative<PulseCounter>(chain[i])) at = std::nullopt;
        if (!at) continue;
        // A sweep through what can come in: a formula need not be highest at an end.
        constexpr int steps = 64;
        std::string unit = rawUnit(kind);
        for (std::size_t k = 0; k < i; ++k) unit = unitAfter(chain[k], unit);
        ChainSpec alone{chain[i]};
        if (std::holds_alternative<ConvertUnit>(chain[i])) alone.insert(alone.begin(), SlopeOffset{1, 0, unit});
        auto stage = ChainEvaluator::make(alone, kind);
        if (!stage) return std::nullopt;
        Summary reached;
        Readings out;
        for (int k = 0; k <= steps; ++k) {
            stage.value().reset();
            stage.value().process({at->low + (at->high - at->low) * k / steps}, {Instant{}}, out);
            reached.add(out.values[0]);
        }
        if (!(reached.min < reached.max)) return std::nullopt;
        at = Scale{reached.min, reached.max};
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
    if (isDigital(signal.kind)) return Scale{0, 1};
    if (signal.output) return Scale{signal.output->low, signal.output->high};
    const auto reached = behind(signal.chain, signal.kind, std::nullopt);
    return reached ? std::optional(tidy(*reached)) : std::nullopt;
}

bool readsWhole(const SignalSpec& signal) {
    if (isOutput(signal.kind)) return false;
    const std::string unit = signal.unit();
    if (unit == "{counts}" || unit == "{pulses}") {
        for (const Stage& stage : signal.chain)
            if (!std::holds_alternative<Invert>(stage) && !std::holds_alternative<ValidRange>(stage) &&
                !std::holds_alternative<PulseCounter>(stage))
                return false;
        return true;
    }
    return false;
}

const SeenReadings::Seen* SeenReadings::find(const SignalSpec& signal) const {
    const auto it = seen_.find(signal.id);
    return it == seen_.end() || !it->second.isOf(signal) ? nullptr : &it->second;
}

void SeenReadings::look(const SignalSpec& signal, const Source& source, double reading) {
    Seen& seen = seen_[signal.id];
    if (!seen.isOf(signal))
        seen = {signal.chain, signal.kind, signal.scale, signal.output, expectedScale(signal), {}, {}};
    if (!std::isnan(reading)) seen.whole = seen.whole && isWhole(reading);
    if (isDigital(signal.kind) || (seen.settled && seen.revision == source.revision())) return;
    const Span all = source.extent();
    const Duration length = all.to - all.from + nanoseconds(1);
    if (length.ns <= 0) return;
    std::vector<Column> columns;
    source.columns(signal.id, {all.from, length, 1}, columns);
    if (columns.empty() || columns.front().summary.count == 0) return;
    const Summary& s = columns.front().summary;
    seen.whole = seen.whole && isWhole(s.min) && isWhole(s.max);
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
    if (readsWhole(signal) && (!seen || seen->whole)) return 0;
    const bool stated = signal.scale || signal.output;
    if (!stated && seen && seen->scale && seen->whole) return 0;
    const auto expected = seen ? seen->expected : expectedScale(signal);
    const auto known = expected ? expected : seen ? seen->scale : std::nullopt;
    return known ? decimalsFor(known->low, known->high) : 2;
}

}  // namespace cruscotto
