#include "core/run/run_recompute.h"

#include <algorithm>
#include <cmath>
#include <set>

#include "core/chain/input_aligner.h"
#include "core/run/run_replay.h"

namespace cruscotto {

namespace {

constexpr int deepestNeeds = 64;

/// The readings of one signal of the run, in order.
class Lane {
public:
    virtual ~Lane() = default;
    /// False at the end.
    virtual bool next() = 0;
    BlockPtr block;
    Readings readings;
};

/// One whose raw samples were recorded, or whose readings were and stay.
class RecordedLane : public Lane {
public:
    RecordedLane(RunReader& reader, const RunSignal& signal, const SignalSpec* corrected) {
        const RunReader::Part all{RunReader::Part{}.span, {signal.id}};
        if (!corrected) {
            replay_.emplace(reader, signal.group, all);
            return;
        }
        blocks_.emplace(reader.blocks(signal.group, all));
        auto made = ChainEvaluator::make(corrected->chain, corrected->kind);
        evaluator_.emplace(made ? std::move(made.value()) : ChainEvaluator::nothing(corrected->chain.size()));
    }
    bool next() override {
        if (blocks_) {
            block = blocks_->next();
            if (block) evaluator_->process(*block, 0, readings);
            return block != nullptr;
        }
        if (!replay_->next(step_)) return false;
        block = step_.block;
        readings = step_.readings[0];
        return true;
    }

private:
    std::optional<RunReplay> replay_;          // with the chains that it had
    std::optional<RunReader::Blocks> blocks_;  // with the corrected one
    std::optional<ChainEvaluator> evaluator_;
    RunReplay::Step step_;
};

/// What an input reads between its samples, and for how long.
InputAligner::Rule ruleOf(const SignalSpec& spec) {
    // With a measured signal the newest sample of another one holds, however old.
    const auto& how = spec.computed;
    return {.interpolated = how && how->between == ComputedSpec::Between::interpolated,
            .oldest = seconds(how ? how->oldestSeconds : 0),
            .patience = Duration{-1}};
}

/// One whose readings were recorded, worked out from others and, where it was measured, from its raw samples.
class ComputedLane : public Lane {
public:
    ComputedLane(RunReader& reader, const Recomputed& what, std::vector<std::unique_ptr<Lane>> inputs,
                 ChainEvaluator evaluator)
        : blocks_(reader.blocks(what.signal->group,
                                {RunReader::Part{}.span, {what.signal->id}, what.signal->raw.has_value()})),
          evaluator_(std::move(evaluator)),
          aligner_(inputs.size(), ruleOf(*what.spec)) {
        for (auto& lane : inputs) inputs_.push_back({std::move(lane), Instant{}, false});
    }
    bool next() override {
        block = blocks_.next();
        if (!block) return false;
        const auto moments = stretchTimes(*block);
        const Instant until = endOf(*block);
        std::size_t ready = 0;
        while ((ready = aligner_.ready(*moments, until)) < block->size() && pull()) {
        }
        aligner_.take(moments, 0, ready, aligned_);
        for (auto& values : aligned_.values) values.resize(block->size(), std::nan(""));
        if (ready < block->size()) aligned_.quality.push_back({ready, block->size(), Quality::stale});
        const std::vector<std::span<const double>> needed(aligned_.values.begin(), aligned_.values.end());
        // Of what was recorded the times stand, and the raw samples.
        Block bare(*block);
        bare.columns.erase(bare.columns.begin());
        bare.quality.erase(bare.quality.begin());
        if (bare.columns.empty()) bare.columns = {std::vector<double>(block->size(), std::nan(""))};
        evaluator_.process(bare, 0, readings, needed);
        readings.quality.insert(readings.quality.end(), aligned_.quality.begin(), aligned_.quality.end());
        return true;
    }

private:
    struct Input {
        std::unique_ptr<Lane> lane;
        Instant until;
        bool ended = false;
    };
    /// Brings the input that has come least far one block on; false where none has more.
    bool pull() {
        Input* least = nullptr;
        for (Input& in : inputs_)
            if (!in.ended && (!least || in.until < least->until)) least = &in;
        if (!least) return false;
        const auto k = static_cast<std::size_t>(least - inputs_.data());
        if (!least->lane->next()) {
            least->ended = true;
            aligner_.doNotWait(k);
            return true;
        }
        const Block& b = *least->lane->block;
        if (b.gapBefore) aligner_.gap(k, b.gapBefore->from);
        least->until = endOf(b);
        aligner_.feed(k, stretchTimes(b), least->lane->readings, least->until);
        return true;
    }
    RunReader::Blocks blocks_;
    ChainEvaluator evaluator_;
    InputAligner aligner_;
    std::vector<Input> inputs_;
    InputAligner::Aligned aligned_;
};

/// Those whose readings were recorded and can come from others, as they did.
std::vector<std::shared_ptr<const SignalSpec>> workedOut(const RunInfo& run) {
    auto out = run.computed;
    for (const auto& [id, raw] : run.raw) out.push_back(std::make_shared<const SignalSpec>(raw.current()));
    return out;
}

Result<std::unique_ptr<Lane>> laneOf(RunReader& reader, const std::string& id,
                                     const std::map<std::string, SignalSpec>& corrected,
                                     const std::set<std::string>& anew, int depth);

Result<std::unique_ptr<Lane>> computedLane(RunReader& reader, const Recomputed& what,
                                           const std::map<std::string, SignalSpec>& corrected,
                                           const std::set<std::string>& anew, int depth) {
    if (depth > deepestNeeds) return failure("{0} needs itself.", what.spec->name);
    std::vector<std::unique_ptr<Lane>> inputs;
    std::vector<std::string> units;
    for (const NeededSignal& needed : neededSignals(what.spec->chain)) {
        auto lane = laneOf(reader, needed.id, corrected, anew, depth + 1);
        if (!lane) return lane.error();
        inputs.push_back(std::move(lane.value()));
        const auto as = corrected.find(needed.id);
        const RunSignal* s = reader.info().signal(needed.id);
        units.push_back(as != corrected.end() ? as->second.unit() : s ? s->current().unit() : needed.unit);
    }
    auto made = ChainEvaluator::make(what.spec->chain, what.spec->kind, units);
    if (!made) return failure("{0}: {1}", what.spec->name, made.error().english());
    return std::unique_ptr<Lane>(
        std::make_unique<ComputedLane>(reader, what, std::move(inputs), std::move(made.value())));
}

Result<std::unique_ptr<Lane>> laneOf(RunReader& reader, const std::string& id,
                                     const std::map<std::string, SignalSpec>& corrected,
                                     const std::set<std::string>& anew, int depth) {
    const RunSignal* signal = reader.info().signal(id);
    if (!signal) return failure("This run has no signal \"{0}\".", id);
    const auto as = corrected.find(id);
    if (signal->raw && as != corrected.end())
        return computedLane(reader, {signal, std::make_shared<const SignalSpec>(as->second)}, corrected, anew, depth);
    if (anew.contains(id))
        for (const auto& s : workedOut(reader.info()))
            if (s->id == id) return computedLane(reader, {signal, s}, corrected, anew, depth);
    return std::unique_ptr<Lane>(
        std::make_unique<RecordedLane>(reader, *signal, as == corrected.end() ? nullptr : &as->second));
}

/// It was recorded sample by sample.
bool whole(const RunSignal& s) {
    const KeepSpec& keep = s.current().keep;
    return s.samples > 0 && (keep.what == KeepSpec::What::everything || isOutput(s.current().kind));
}

/// The computed signals that need one of these, in the order of need.
std::vector<std::string> needing(const RunInfo& run, const std::vector<std::string>& changed) {
    std::set<std::string> touched(changed.begin(), changed.end());
    std::vector<std::string> out;
    const auto all = workedOut(run);
    // As many rounds as there are signals, so that a circle in a damaged file ends too.
    for (std::size_t round = 0; round < all.size(); ++round)
        for (const auto& s : all) {
            if (touched.contains(s->id)) continue;
            const auto needs = neededSignals(s->chain);
            if (std::ranges::none_of(needs, [&](const NeededSignal& n) { return touched.contains(n.id); })) continue;
            touched.insert(s->id);
            out.push_back(s->id);
        }
    return out;
}

}  // namespace

std::vector<Recomputed> computedFrom(const RunInfo& run, const std::vector<std::string>& changed,
                                     std::vector<Text>& left) {
    std::vector<Recomputed> out;
    const auto all = workedOut(run);
    for (const std::string& id : needing(run, changed)) {
        const RunSignal* signal = run.signal(id);
        const auto spec = std::ranges::find(all, id, [](const auto& s) { return s->id; });
        if (!signal || signal->samples == 0) continue;
        std::string missing;
        for (const NeededSignal& needed : neededSignals((*spec)->chain)) {
            const RunSignal* input = run.signal(needed.id);
            if (!input || !whole(*input)) missing = input ? input->current().name : needed.id;
        }
        if (!whole(*signal))
            left.push_back(
                text(CRUSCOTTO_TEXT("{0} stays as it was recorded: not all of its readings were."), (*spec)->name));
        else if (!missing.empty())
            left.push_back(text(CRUSCOTTO_TEXT("{0} stays as it was recorded: it needs {1}, of which not every sample "
                                               "was."),
                                (*spec)->name, missing));
        else
            out.push_back({signal, *spec});
    }
    return out;
}

Result<void> recompute(RunReader& reader, const Recomputed& what, const std::map<std::string, SignalSpec>& corrected,
                       const std::function<void(RecomputedBlock)>& take, Progress& progress) {
    std::vector<std::string> changed;
    for (const auto& [id, spec] : corrected) changed.push_back(id);
    const auto needs = needing(reader.info(), changed);
    const std::set<std::string> anew(needs.begin(), needs.end());
    auto lane = computedLane(reader, what, corrected, anew, 0);
    if (!lane) return lane.error();
    while (lane.value()->next()) {
        if (progress.cancelled()) return failure("Stopped. The run is as it was.");
        const Block& block = *lane.value()->block;
        RecomputedBlock out{block.firstIndex, {}, lane.value()->readings};
        for (std::size_t i = 0; i < block.size(); ++i) out.times.push_back(block.timeOf(i));
        take(std::move(out));
    }
    return {};
}

}  // namespace cruscotto
