#include "core/run/run_replay.h"

#include <algorithm>
#include <optional>

#include "core/run/run_format.h"

namespace cruscotto {

struct RunReplay::State {
    RunReader::Blocks blocks;
    std::vector<const RunSignal*> signals;
    struct Column {
        std::size_t definition = 0;
        std::optional<ChainEvaluator> evaluator;
    };
    std::vector<Column> columns;
};

RunReplay::RunReplay(RunReader& reader, std::int64_t group, const RunReader::Part& part)
    : state_(new State{reader.blocks(group, part), {}, {}}) {
    for (const RunSignal& s : reader.info().signals)
        if (s.group == group &&
            (part.signals.empty() || std::find(part.signals.begin(), part.signals.end(), s.id) != part.signals.end()))
            state_->signals.push_back(&s);
    state_->columns.resize(state_->signals.size());
}
RunReplay::~RunReplay() = default;
RunReplay::RunReplay(RunReplay&&) noexcept = default;

const std::vector<const RunSignal*>& RunReplay::signals() const {
    return state_->signals;
}
std::uint64_t RunReplay::damagedBlocks() const {
    return state_->blocks.damaged();
}

bool RunReplay::next(Step& step) {
    step.block = state_->blocks.next();
    if (!step.block) return false;
    step.readings.resize(state_->signals.size());
    for (std::size_t i = 0; i < state_->signals.size(); ++i) {
        const auto& definitions = state_->signals[i]->definitions;
        State::Column& c = state_->columns[i];
        // Blocks never straddle a change: the writer ends one where a definition begins.
        std::size_t holds = c.definition;
        while (holds + 1 < definitions.size() && definitions[holds + 1].first <= step.block->firstIndex) ++holds;
        if (!c.evaluator || holds != c.definition) {
            const SignalSpec &now = definitions[holds].spec, &before = definitions[c.definition].spec;
            const bool sameChain = c.evaluator && now.chain == before.chain && now.kind == before.kind;
            c.definition = holds;
            if (!sameChain) {
                auto made = ChainEvaluator::make(now.chain, now.kind);
                c.evaluator.emplace(made ? std::move(made.value()) : ChainEvaluator::nothing(now.chain.size()));
            }
        }
        c.evaluator->process(*step.block, i, step.readings[i]);
    }
    return true;
}

Summary summaryOf(RunReader& reader, const RunSignal& signal) {
    Summary all;
    const auto buckets = reader.summaries(signal.id, runformat::firstStoredLevel);
    // The last bucket does not say where it ends: from its beginning on, single readings are taken.
    const auto samplesIn = [&](Span span) {
        RunReplay replay(reader, signal.group, {span, {signal.id}});
        for (RunReplay::Step step; replay.next(step);)
            for (std::size_t i = 0; i < step.block->size(); ++i)
                if (const Instant t = step.block->timeOf(i); t >= span.from && t < span.to)
                    all.add(step.readings[0].values[i]);
    };
    const RunReader::Part whole;
    if (buckets.size() < 2) {
        samplesIn(whole.span);
        return all;
    }
    samplesIn({whole.span.from, buckets.front().begin});
    for (std::size_t i = 0; i + 1 < buckets.size(); ++i) all.add(buckets[i].summary);
    samplesIn({buckets.back().begin, whole.span.to});
    return all;
}

}  // namespace cruscotto
