#include <algorithm>
#include <cmath>

#include "core/base/guarded.h"
#include "core/base/log.h"
#include "core/history/signal_history.h"
#include "core/history/timeline.h"
#include "core/run/run_format.h"
#include "engine/engine_state.h"
#include "engine/raw_worth.h"

namespace cruscotto {

namespace {
/// A chain that cannot be made gives no reading: never raw counts in its place.
ChainEvaluator evaluatorFor(const SignalSpec& spec, const std::vector<std::string>& neededUnits) {
    auto made = ChainEvaluator::make(spec.chain, spec.kind, neededUnits);
    if (made) return std::move(made.value());
    logWarning(spec.id + ": " + made.error().english());
    return ChainEvaluator::nothing(spec.chain.size());
}
}  // namespace

std::vector<Engine::State::Bound> Engine::State::inOrderOfNeed(std::vector<Bound> bound) {
    const auto needs = [](const Bound& a, const Bound& b) {
        return std::ranges::any_of(a.needs, [&](const NeededSignal& n) { return n.id == b.spec->id; });
    };
    for (Bound& b : bound) b.wanted = std::ranges::any_of(bound, [&](const Bound& a) { return needs(a, b); });
    if (std::ranges::none_of(bound, [](const Bound& b) { return b.wanted; })) return bound;
    std::vector<Bound> out;
    while (!bound.empty()) {
        auto next = std::ranges::find_if(bound, [&](const Bound& a) {
            return std::ranges::none_of(bound, [&](const Bound& b) { return needs(a, b); });
        });
        if (next == bound.end()) next = bound.begin();  // a circle, which no bench has that was checked
        out.push_back(std::move(*next));
        bound.erase(next);
    }
    return out;
}

void Engine::State::evaluate(Group& group, Bound& bound, const Block& block) {
    if (bound.needs.empty()) {
        bound.evaluator->process(block, bound.column, readings);
        if (bound.wanted) bound.now = readings;
        return;
    }
    if (group.inputs) {
        const std::vector<std::span<const double>> needed(group.inputs->values.begin(), group.inputs->values.end());
        bound.evaluator->process(block, bound.column, readings, needed);
        readings.quality.insert(readings.quality.end(), group.inputs->quality.begin(), group.inputs->quality.end());
        if (bound.wanted) bound.now = readings;
        return;
    }
    std::vector<std::vector<double>> held(bound.needs.size());
    std::vector<std::span<const double>> needed;
    std::vector<QualityInterval> worse;
    const Instant first = block.timeOf(0), last = block.timeOf(block.size() - 1);
    for (std::size_t k = 0; k < bound.needs.size(); ++k) {
        const std::string& id = bound.needs[k].id;
        const auto beside = std::ranges::find_if(group.bound, [&](const Bound& b) { return b.spec->id == id; });
        if (beside != group.bound.end() && beside->now.values.size() == block.size()) {
            needed.emplace_back(beside->now.values);
            worse.insert(worse.end(), beside->now.quality.begin(), beside->now.quality.end());
            continue;
        }
        const Reading before = source.at(id, first), after = source.at(id, last);
        held[k].assign(block.size(), before.value);
        if (before.value != after.value)
            for (std::size_t i = 0; i < block.size(); ++i) held[k][i] = source.at(id, block.timeOf(i)).value;
        // That nothing came of the other one is no gap in this one.
        const Quality quality = after.quality == Quality::gap ? Quality::stale : after.quality;
        if (quality != Quality::good) worse.push_back({0, block.size(), quality});
        needed.emplace_back(held[k]);
    }
    bound.evaluator->process(block, bound.column, readings, needed);
    readings.quality.insert(readings.quality.end(), worse.begin(), worse.end());
    if (bound.wanted) bound.now = readings;
}

void Engine::State::indexSignals() {
    signalsAt.clear();
    agreedBy.clear();
    for (const auto& spec : bench.signals)
        if (spec->agrees) agreedBy.emplace(spec->agrees->with, spec);
    for (const auto& spec : bench.signals)
        signalsAt[spec->device + "\n" + (spec->computed ? spec->id : spec->terminal)].push_back(spec);
}

Engine::State::Group& Engine::State::groupFor(const std::shared_ptr<const ScanGroup>& scan) {
    Group& group = groups[{scan->device, scan->name}];
    if (group.group == scan) return group;
    // A device that was made anew comes with a new object. Signals are bound by their ids: those that it still has go
    // on in the histories that they had, whatever their columns are.
    const bool sameShape = group.group && group.group->channels == scan->channels;
    group.anew = group.group != nullptr;
    group.group = scan;
    if (!group.timeline) {
        const HistorySize size = options.history.sharedBy(bench.signals.size());
        group.timeline =
            std::make_shared<Timeline>(scan->clocked() ? std::max<std::size_t>(4096, size.samples / 16) : size.samples);
    }
    if (!sameShape && !scan->device.empty()) {
        const Lock lock(mutex);
        group.newestRaw.clear();
        for (const Channel& channel : scan->channels) {
            const auto known = std::ranges::find_if(seen, [&](const SeenTerminal& s) {
                return s.device == scan->device && s.channel.terminal == channel.terminal;
            });
            group.newestRaw.push_back(std::make_shared<std::atomic<double>>(std::nan("")));
            const SeenTerminal terminal{scan->device, channel, group.newestRaw.back()};
            if (known == seen.end())
                seen.push_back(terminal);
            else
                *known = terminal;
        }
    }
    bind(group);
    return group;
}

void Engine::State::bind(Group& group) {
    const HistorySize size = options.history.sharedBy(bench.signals.size());
    std::vector<Bound> now;
    std::map<std::string, Bound*> before;
    for (Bound& b : group.bound) before[b.spec->id] = &b;
    for (std::size_t i = 0; i < group.group->channels.size(); ++i) {
        const Channel& channel = group.group->channels[i];
        const auto here = signalsAt.find(group.group->device + "\n" + channel.terminal);
        if (here == signalsAt.end()) continue;
        for (const auto& spec : here->second) {
            Bound b;
            b.column = i;
            b.spec = spec;
            b.needs = neededSignals(spec->chain);
            b.units = neededUnits(bench, *spec);
            if (const auto old = before.find(spec->id); old != before.end()) {
                Bound& was = *old->second;
                if (was.history->rawType() == channel.type) b.history = was.history;
                if (!group.anew && was.units == b.units) b.evaluator = std::move(was.evaluator);
                b.evaluated = std::move(was.evaluated);
                b.filter = std::move(was.filter);
                b.came = was.came;
                b.noted = std::move(was.noted);
                if (!group.anew && was.spec->chain == spec->chain && was.spec->setup == spec->setup &&
                    was.spec->range == spec->range)
                    b.watch = std::move(was.watch);
            }
            if (!b.history) b.history = std::make_shared<SignalHistory>(group.timeline, channel.type, size);
            if (!b.watch && !spec->output) b.watch = std::make_shared<EvidenceWatch>(rawWorthOf(*spec, channel.type));
            source.follow(spec->id, b.history, spec->chain, spec->kind);
            now.push_back(std::move(b));
        }
    }
    group.bound = inOrderOfNeed(std::move(now));
    for (Bound& b : group.bound) b.wanted = b.wanted || computedFrom.contains(b.spec->id);
    arrangeKeeping(group);
}

void Engine::State::arrangeKeeping(Group& group) {
    auto columns = std::make_shared<std::vector<RecordedColumn>>();
    for (Bound& b : group.bound) {
        KeepSpec keep = resolvedKeep(*b.spec);
        if (recorder) keep = keeping.try_emplace(b.spec->id, keep).first->second;
        b.share = keptShare(*b.spec, group.group->channels[b.column].type, group.group->rateHz);
        if (!recorder || keep == KeepSpec{}) {
            b.filter.reset();
            b.recorded = columns->size();
            columns->push_back({b.column, b.spec->id, b.spec});
        } else if (!b.filter) {
            SignalSpec asKept = *b.spec;
            asKept.keep = keep;
            b.filter.emplace(asKept);
        } else {
            b.filter->define(*b.spec);
        }
    }
    group.columns = std::move(columns);
}

Bench Engine::State::benchAsKept() const {
    Bench out = withResolvedKeep(bench);
    for (auto& signal : out.signals) {
        const auto it = keeping.find(signal->id);
        if (it == keeping.end() || it->second == signal->keep) continue;
        auto asKept = std::make_shared<SignalSpec>(*signal);
        asKept->keep = it->second;
        signal = std::move(asKept);
    }
    return out;
}

void Engine::State::record(ShotGate::Part part) {
    if (part.columns->empty()) return;
    // What the outputs stand at is recorded always: it is little, and a shot without it would not explain itself.
    if (gate && !part.block->group->name.starts_with(outputGroup))
        gate->pass(std::move(part));
    else
        recorder->add(std::move(part.block), std::move(part.columns), std::move(part.buckets));
}

void Engine::State::recordRest() {
    for (auto& [key, group] : groups)
        for (Bound& b : group.bound)
            if (b.filter)
                if (auto rest = b.filter->rest()) record(std::move(*rest));
}

BlockPtr Engine::State::ordered(Group& group, const BlockPtr& given) {
    if (given->times.empty()) return given;
    const std::uint64_t before = group.disordered;
    BlockPtr block = inOrderOfTime(given, group.newest, group.disordered);
    group.newest = block->times.back();
    if (before == group.disordered) return block;
    const std::string words = fmt::format("{}/{}: {} samples came out of order and were put into order.",
                                          given->group->device, given->group->name, group.disordered - before);
    if (before == 0) logWarning(words);
    if (recorder) recorder->note([at = block->times.front(), words](RunWriter& w) { w.addEvent(at, "order", words); });
    return block;
}

BlockPtr Engine::State::sleptBefore(Instant from, const BlockPtr& block) const {
    const Instant to = block->timeOf(0);
    if (from == Instant{} || from >= amidSleep || to <= amidSleep || block->group->name.starts_with(outputGroup))
        return block;
    auto marked = std::make_shared<Block>(*block);
    // What the device itself lost meanwhile, it has counted.
    marked->gapBefore = Gap{from, to, block->gapBefore ? block->gapBefore->lostSamples : 0, "The computer slept."};
    return marked;
}

void Engine::State::process(const BlockPtr& given) {
    Group& group = groupFor(given->group);
    if (given->size() == 0) return;
    const Instant before = group.newest;
    BlockPtr block = ordered(group, given);
    if (std::exchange(group.anew, false) && before != Instant{} && !block->group->name.starts_with(outputGroup)) {
        auto marked = std::make_shared<Block>(*block);
        marked->gapBefore =
            Gap{before, block->timeOf(0), block->gapBefore ? block->gapBefore->lostSamples : 0,
                block->group->device.empty() ? "The computation was changed." : "The device was set up anew."};
        block = std::move(marked);
    }
    const std::vector<Instant>& times = block->times;
    if (times.empty()) group.newest = block->timeOf(block->size());
    // A device that stamps its samples may hand over, in one, what it took before and after.
    const auto awake = static_cast<std::size_t>(std::ranges::lower_bound(times, amidSleep) - times.begin());
    if (awake == 0 || awake == times.size()) return take(group, sleptBefore(before, block));
    take(group, sleptBefore(before, partOf(block, 0, awake)));
    take(group, sleptBefore(times[awake - 1], partOf(block, awake, times.size())));
}

void Engine::State::take(Group& group, const BlockPtr& given) {
    const BlockPtr block = withSuspicions(group, given);
    const Instant end = block->times.empty() ? block->timeOf(block->size()) : block->times.back();
    const EvidenceRound::Portion looked = toLookAt(group, *block);
    if (const auto& gap = block->gapBefore; gap && gap->lostSamples > 0 && gap->cause != couldNotFollow) {
        const Lock lock(queueMutex);
        noteLost(gap->lostSamples * group.bound.size(), gap->cause);
    }
    group.timeline->append(*block);
    for (std::size_t i = 0; i < group.newestRaw.size(); ++i)
        std::visit(
            [&](const auto& raw) {
                group.newestRaw[i]->store(static_cast<double>(raw.back()), std::memory_order_relaxed);
            },
            block->columns[i]);
    std::vector<RecordedBucket> buckets;
    std::vector<ShotGate::Part> kept;
    double bytes = 0;
    for (std::size_t i = 0; i < group.bound.size(); ++i) {
        Bound& b = group.bound[i];
        const Samples& raw = block->columns[b.column];
        // With the first block of another chain, and not with the edit: one that was taken back at once changed
        // nothing.
        if (!b.evaluator ||
            (b.evaluated != b.spec && (b.evaluated->chain != b.spec->chain || b.evaluated->kind != b.spec->kind)))
            b.evaluator.emplace(evaluatorFor(*b.spec, b.units));
        b.evaluated = b.spec;
        evaluate(group, b, *block);
        if (looked.has(i)) {
            b.newestReading = readings.values.back();
            b.newestWorst = Quality::good;
            for (const QualityInterval& q : readings.quality)
                if (q.quality != Quality::suspect && q.begin < q.end) b.newestWorst = worse(b.newestWorst, q.quality);
        }
        bytes += static_cast<double>(bytesOf(raw).size()) * b.share;
        finished.clear();
        b.history->append(raw, readings, recorder && !b.filter ? &finished : nullptr);
        feedRules(*b.spec, *block);
        if (!published.empty()) publish(b.spec->id);
        if (gate) gate->look(b.spec->id, readings, *block);
        for (const FinishedBucket& f : finished)
            if (f.level >= runformat::firstStoredLevel) buckets.push_back({b.recorded, f});
        if (recorder && b.filter)
            if (auto part = b.filter->look(*block, b.column, readings)) kept.push_back(std::move(*part));
    }
    measuredExact += bytes;
    measured.store(static_cast<std::uint64_t>(measuredExact), std::memory_order_relaxed);
    if (options.pace == Pace::asFastAsPossible && !group.inputs) {
        if (end.ns > reached.load(std::memory_order_relaxed)) reached.store(end.ns, std::memory_order_release);
    }
    if (recorder) {
        for (Bound& b : group.bound) b.came = true;
        record({block, group.columns, std::move(buckets)});
        for (ShotGate::Part& part : kept) record(std::move(part));
        noteShots();
    }
    if (!computedFrom.empty()) feedComputed(group, *block);
    lookForEvidence(group, *block, looked);
}

void Engine::State::publish(const std::string& signal) {
    const auto [begin, end] = published.equal_range(signal);
    if (begin == end) return;
    const auto newest =
        std::find_if(readings.values.rbegin(), readings.values.rend(), [](double v) { return std::isfinite(v); });
    if (newest == readings.values.rend()) return;
    for (auto it = begin; it != end; ++it) it->second.waits = *newest;
    publishing = true;
}

void Engine::State::handOverPublished() {
    if (!publishing) return;
    // Whoever starts or stops devices is not waited for: the next block brings it about then.
    if (!devicesMutex.try_lock()) return;
    const Lock lock(devicesMutex, std::adopt_lock);
    publishing = false;
    for (auto& [signal, to] : published)
        if (const auto device = devices.find(to.device);
            to.waits && device != devices.end() && !outputsEnded && !rests(device->second->spec))
            device->second->setOutput(to.terminal, *std::exchange(to.waits, std::nullopt));
}

void Engine::State::emitOutput(const SignalSpec& spec, double value) {
    auto& scan = outputGroups[spec.id];
    if (!scan || scan->channels.front().terminal != spec.terminal) {
        auto made = std::make_shared<ScanGroup>();
        made->device = spec.device;
        made->name = outputGroup + spec.id;
        made->channels = {{spec.terminal, SampleType::float64, spec.kind}};
        scan = std::move(made);
    }
    auto block = std::make_shared<Block>();
    block->group = scan;
    block->firstIndex = outputSamples[spec.id]++;
    block->t0 = now();
    block->times = {block->t0};
    block->columns.emplace_back(std::vector<double>{value});
    process(block);
    if (unreached.contains(spec.device)) markOutputs(spec.device);
}

void Engine::State::markOutputs(const std::string& device) {
    for (auto& [key, group] : groups)
        if (key.first == device && key.second.starts_with(outputGroup))
            for (Bound& b : group.bound) {
                if (unreached.contains(device))
                    b.history->markLost(now(), Quality::stale);
                else
                    b.history->markThere();
            }
}

void Engine::State::markLost(const std::string& device, Quality quality) {
    for (auto& [key, group] : groups)
        if (key.first == device && !key.second.starts_with(outputGroup)) {
            for (Bound& b : group.bound) {
                b.history->markLost(now(), quality);
                loseInRules(b.spec->id);
            }
            forgetEvidence(group);
        }
    markComputedLost(device, quality);
}

}  // namespace cruscotto
