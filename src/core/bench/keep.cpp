#include "core/bench/keep.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/common_stages.h"

#include <algorithm>
#include <cmath>

namespace cruscotto {

namespace {

bool thins(const KeepSpec& keep) {
    return keep.what == KeepSpec::What::changes || (keep.what == KeepSpec::What::oneInN && keep.every > 1);
}

std::string number(double v) {
    return shortNumber(v);
}

template <class Change>
Bench withKeep(Bench bench, Change&& change) {
    for (auto& signal : bench.signals) {
        const KeepSpec keep = change(*signal);
        if (keep == signal->keep) continue;
        auto next = std::make_shared<SignalSpec>(*signal);
        next->keep = keep;
        signal = std::move(next);
    }
    return bench;
}

}  // namespace

KeepSpec resolvedKeep(const SignalSpec& signal) {
    KeepSpec keep = signal.keep;
    if (isOutput(signal.kind)) return {};  // little, and a run without it would not explain itself
    if (keep.what == KeepSpec::What::oneInN && keep.every <= 1) keep.what = KeepSpec::What::everything;
    // Raw samples alone would not tell what the other signals read then.
    if (!keep.asReadings && !neededSignals(signal.chain).empty()) keep.asReadings = keep.rawBeside = true;
    if (keep.what == KeepSpec::What::summary || (thins(keep) && remembers(signal.chain)) || signal.computed)
        keep.asReadings = true;
    if (keep.what != KeepSpec::What::everything || signal.computed) keep.rawBeside = false;
    return keep;
}

Bench withResolvedKeep(Bench bench) {
    return withKeep(std::move(bench), [](const SignalSpec& s) { return resolvedKeep(s); });
}

Bench keepingEverything(Bench bench) {
    return withKeep(std::move(bench), [](const SignalSpec&) { return KeepSpec{}; });
}

std::vector<SignalSpec> asRecorded(const SignalSpec& signal) {
    if (!signal.keep.asReadings) return {signal};
    SignalSpec out = signal;
    if (!signal.isState()) {
        if (!signal.computed) out.kind = ChannelKind::analogInput;
        out.chain = {slopeOffset(1, 0, signal.unit())};
    } else {
        if (!signal.computed && !isOutput(signal.kind)) out.kind = ChannelKind::digitalInput;
        out.chain.clear();
        if (signal.computed) out.chain = {Stage::of("level", {{"on", 0.5}, {"off", 0.5}})};
    }
    if (signal.keep.rawBeside) {
        SignalSpec raw = signal;
        raw.id += rawEnding;
        raw.name += " raw";
        return {out, raw};
    }
    if (signal.keep.what != KeepSpec::What::summary) return {out};
    // A mean of on and off is neither.
    if (signal.isState()) {
        out.kind = ChannelKind::analogInput;
        out.chain = {slopeOffset(1, 0, "1")};
    }
    SignalSpec low = out, high = out;
    low.id += "-min";
    low.name += " min";
    high.id += "-max";
    high.name += " max";
    return {out, low, high};
}

Text describeKeep(const SignalSpec& signal) {
    const KeepSpec keep = resolvedKeep(signal);
    const bool forced = keep.asReadings && !signal.keep.asReadings && keep.what != KeepSpec::What::summary;
    switch (keep.what) {
        case KeepSpec::What::everything:
            if (keep.rawBeside)
                return text(
                    CRUSCOTTO_TEXT("Every raw sample is recorded, and its reading beside it, since that takes other "
                                   "signals: a chain that was wrong can be mended afterwards."));
            return keep.asReadings
                       ? text(CRUSCOTTO_TEXT(
                             "Every reading is recorded, without the raw samples: a chain that was wrong "
                             "cannot be mended afterwards."))
                       : text(CRUSCOTTO_TEXT("Every raw sample is recorded: a chain that was wrong can be mended "
                                             "afterwards."));
        case KeepSpec::What::oneInN:
            return forced
                       ? text(CRUSCOTTO_TEXT("One in {0} is recorded, as a reading, since the chain looks at several "
                                             "samples."),
                              keep.every)
                   : keep.asReadings ? text(CRUSCOTTO_TEXT("One reading in {0} is recorded."), keep.every)
                                     : text(CRUSCOTTO_TEXT("One raw sample in {0} is recorded."), keep.every);
        case KeepSpec::What::summary:
            return text(CRUSCOTTO_TEXT("Mean, minimum and maximum of every {0} s are recorded."),
                        number(keep.intervalSeconds));
        case KeepSpec::What::changes: {
            const std::string band = fmt::format("{} {}", number(keep.deadBand), unitText(signal.unit()));
            return forced ? text(CRUSCOTTO_TEXT(
                                     "Recorded where the reading has moved by more than {0}, as a reading, since "
                                     "the chain looks at several samples."),
                                 band)
                          : text(CRUSCOTTO_TEXT("Recorded where the reading has moved by more than {0}."), band);
        }
    }
    return {};
}

double keptShare(const SignalSpec& signal, SampleType raw, double rateHz) {
    const KeepSpec keep = resolvedKeep(signal);
    const auto rawBytes = static_cast<double>(sampleBytes(raw));
    const double stored = keep.asReadings ? sizeof(double) : rawBytes;
    switch (keep.what) {
        case KeepSpec::What::everything:
            return keep.rawBeside ? stored / rawBytes + 1 : stored / rawBytes;
        case KeepSpec::What::oneInN:
            return stored / rawBytes / keep.every;
        case KeepSpec::What::summary: {
            const double all = 3 * sizeof(double) + sizeof(Instant);
            const double samples = rateHz > 0 ? std::max(1.0, rateHz * keep.intervalSeconds) : 1;
            return all / rawBytes / samples;
        }
        case KeepSpec::What::changes:
            return (stored + sizeof(Instant)) / rawBytes;
    }
    return 1;
}

}  // namespace cruscotto
