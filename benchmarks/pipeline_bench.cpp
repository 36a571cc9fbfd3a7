// What a sample costs on its way, beside copying it once in the same run.
#include <benchmark/benchmark.h>

#include <cstring>

#include "core/chain/common_stages.h"
#include "core/history/signal_history.h"
#include "core/history/timeline.h"

using namespace cruscotto;

namespace {

constexpr std::size_t blockSize = 1000;

std::shared_ptr<Block> block() {
    auto group = std::make_shared<ScanGroup>();
    group->rateHz = 1000;
    group->channels = {{"AI0", SampleType::int16, ChannelKind::analogInput}};
    auto b = std::make_shared<Block>();
    b->group = group;
    b->dtNs = 1e6;
    std::vector<std::int16_t> v(blockSize);
    for (std::size_t i = 0; i < v.size(); ++i) v[i] = static_cast<std::int16_t>(i * 37 % 4096);
    b->columns.emplace_back(std::move(v));
    return b;
}

void copySamples(benchmark::State& state) {
    const auto b = block();
    const auto& from = std::get<std::vector<std::int16_t>>(b->columns[0]);
    std::vector<std::int16_t> to(from.size());
    for (auto _ : state) {
        std::memcpy(to.data(), from.data(), from.size() * 2);
        benchmark::DoNotOptimize(to.data());
        benchmark::ClobberMemory();
    }
    state.SetItemsProcessed(static_cast<std::int64_t>(state.iterations() * blockSize));
}
BENCHMARK(copySamples);

void chainAndHistory(benchmark::State& state) {
    const auto b = block();
    ChainSpec chain{countsToVolts(), slopeOffset(2, 1, "bar")};
    if (state.range(0)) chain.insert(chain.begin() + 1, Stage::of("moving-mean", {{"samples", 50.0}}));
    auto evaluator = ChainEvaluator::make(chain, ChannelKind::analogInput);
    auto timeline = std::make_shared<Timeline>(4096);
    SignalHistory history(timeline, SampleType::int16, {});
    Readings readings;
    for (auto _ : state) {
        b->t0 = {b->t0.ns + 1'000'000'000};
        timeline->append(*b);
        evaluator.value().process(*b, 0, readings);
        history.append(b->columns[0], readings);
    }
    state.SetItemsProcessed(static_cast<std::int64_t>(state.iterations() * blockSize));
}
BENCHMARK(chainAndHistory)->ArgName("mean")->Arg(0)->Arg(1);

}  // namespace
