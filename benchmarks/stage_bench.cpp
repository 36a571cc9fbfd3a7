// What each kind of stage costs a sample, beside copying the samples.
#include <benchmark/benchmark.h>

#include <cmath>

#include "core/chain/chain.h"
#include "core/chain/common_stages.h"
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

const bool registered = [] {
    for (const StageKind* kind : stageKinds())
        if (kind->key != "convert-unit")
            benchmark::RegisterBenchmark(("stageCost/" + kind->key).c_str(), stageCost, kind);
    return true;
}();

}  // namespace
}  // namespace cruscotto
