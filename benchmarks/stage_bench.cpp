// What each kind of stage costs a sample, beside copying the samples.
#include <benchmark/benchmark.h>

#include <cmath>

#include "core/chain/chain.h"
#include "core/chain/common_stages.h"
#include "core/chain/input_aligner.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {
namespace {

constexpr std::size_t samples = 8192;

/// A quiet sine with values that the kind is made for.
std::vector<double> inputFor(const StageKind& kind) {
    const bool ohms = kind.takes && std::string(kind.takes) == "Ohm";
    const double middle = ohms ? 110 : kind.key == "current-loop" ? 12 : kind.key == "thermocouple" ? 0.01 : 1;
    std::vector<double> out;
    for (std::size_t i = 0; i < samples; ++i) out.push_back(middle * (1 + 0.3 * std::sin(0.01 * double(i))));
    return out;
}

void stageCost(benchmark::State& state, const StageKind* kind) {
    ChainSpec chain;
    if (kind->takes) chain.push_back(slopeOffset(1, 0, kind->takes));
    if (kind->key == "current-loop") chain.push_back(slopeOffset(1, 0, "mA"));
    chain.emplace_back(*kind);
    auto evaluator = ChainEvaluator::make(chain, ChannelKind::analogInput);
    if (!evaluator) return state.SkipWithError(evaluator.error().english().c_str());
    auto group = std::make_shared<ScanGroup>();
    group->rateHz = 1000;
    group->channels = {{"AI0", SampleType::float64, ChannelKind::analogInput}};
    auto block = std::make_shared<Block>();
    block->group = group;
    block->dtNs = 1e6;
    block->columns = {inputFor(*kind)};
    Readings out;
    for (auto _ : state) {
        evaluator.value().process(*block, 0, out);
        benchmark::DoNotOptimize(out.values.data());
        block->firstIndex += samples;
        block->t0 = block->t0 + milliseconds(std::int64_t(samples));
    }
    state.counters["a sample"] = benchmark::Counter(
        double(samples), benchmark::Counter::kIsIterationInvariantRate | benchmark::Counter::kInvert);
}

/// A computed signal of four inputs, on the clock of one of them: bringing them together, and the computation.
void computedCost(benchmark::State& state, const char* stage, bool ownClocks) {
    StageSources of;
    for (const char* name : {"a", "b", "c", "d"}) of.push_back({name, 0, "V", name});
    const Stage made = std::string(stage) == "calculate"
                           ? Stage::of("calculate", {{"formula", "(a-b)*(c+d)"}, {"of", of}})
                           : Stage::of("combine", {{"how", "mean"}, {"of", of}});
    auto evaluator = ChainEvaluator::make({made}, ChannelKind::computed);
    if (!evaluator) return state.SkipWithError(evaluator.error().english().c_str());
    InputAligner aligner(4, {.oldest = seconds(1), .patience = milliseconds(500)});
    Block moments;
    moments.group = std::make_shared<ScanGroup>();
    moments.dtNs = 1e6;
    moments.columns = {std::vector<double>(samples, std::nan(""))};
    const Readings in{inputFor(*stageKind("slope-offset")), {}};
    InputAligner::Aligned aligned;
    Readings out;
    for (auto _ : state) {
        const StretchTimesPtr own = stretchTimes(moments);
        // Of clocks of their own, or of the block whose samples are the moments.
        const StretchTimesPtr times = ownClocks ? stretchTimes(moments) : own;
        const Instant end = moments.timeOf(samples);
        for (std::size_t k = 0; k < 4; ++k) aligner.feed(k, times, in, end);
        aligner.take(own, 0, aligner.ready(*own, end), aligned);
        const std::vector<std::span<const double>> needed(aligned.values.begin(), aligned.values.end());
        evaluator.value().process(moments, 0, out, needed);
        benchmark::DoNotOptimize(out.values.data());
        moments.t0 = end;
    }
    state.counters["a sample"] = benchmark::Counter(
        double(samples), benchmark::Counter::kIsIterationInvariantRate | benchmark::Counter::kInvert);
}
BENCHMARK_CAPTURE(computedCost, combine, "combine", false);
BENCHMARK_CAPTURE(computedCost, combineOwnClocks, "combine", true);
BENCHMARK_CAPTURE(computedCost, calculate, "calculate", false);

const bool registered = [] {
    for (const StageKind* kind : stageKinds())
        if (kind->key != "convert-unit" && kind->group != StageGroup::computation)
            benchmark::RegisterBenchmark(("stageCost/" + kind->key).c_str(), stageCost, kind);
    return true;
}();

}  // namespace
}  // namespace cruscotto
