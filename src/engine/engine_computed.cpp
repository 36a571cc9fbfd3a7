#include <algorithm>
#include <cmath>

#include "engine/engine_state.h"

namespace cruscotto {

namespace {

/// How long a live computed signal waits for an input that is late, by the time of the samples.
constexpr Duration patience = milliseconds(500);

/// Moments without values of their own.
BlockPtr momentsOf(const std::shared_ptr<const ScanGroup>& group, const Block& clock) {
    auto out = std::make_shared<Block>();
    out->group = group;
    out->t0 = clock.t0;
    out->dtNs = clock.dtNs;
    out->times = clock.times;
    out->gapBefore = clock.gapBefore;
    out->columns.emplace_back(std::vector<double>(clock.size(), std::nan("")));
    return out;
}

std::shared_ptr<const ScanGroup> groupOf(const SignalSpec& spec, double rateHz) {
    auto out = std::make_shared<ScanGroup>();
    out->name = "computed " + spec.id;
    out->rateHz = rateHz;
    out->channels = {{spec.id, SampleType::float64, ChannelKind::computed}};
    return out;
}

std::int64_t periodOf(const ComputedSpec& how) {
    return std::llround(1e9 / how.rateHz);
}

/// The computed signals, each behind those that it needs.
std::vector<std::shared_ptr<const SignalSpec>> computedInOrder(const Bench& bench) {
    std::vector<std::shared_ptr<const SignalSpec>> open, out;
    for (const auto& spec : bench.signals)
        if (spec->computed) open.push_back(spec);
    const auto waits = [&](const SignalSpec& s) {
        return std::ranges::any_of(open, [&](const auto& other) {
            if (other->id == s.id) return false;
            return other->id == s.computed->clock ||
                   std::ranges::any_of(neededSignals(s.chain), [&](const auto& n) { return n.id == other->id; });
        });
    };
    while (!open.empty()) {
        auto next = std::ranges::find_if(open, [&](const auto& s) { return !waits(*s); });
        if (next == open.end()) break;  // a circle, which no bench has that was checked
        out.push_back(*next);
        open.erase(next);
    }
    return out;
}

}  // namespace

void Engine::State::arrangeComputed() {
    std::vector<std::unique_ptr<Computed>> before = std::exchange(computed, {});
    computedFrom.clear();
    for (const auto& spec : computedInOrder(bench)) {
        const auto needs = neededSignals(spec->chain);
        const auto old = std::ranges::find_if(before, [&](const auto& c) {
            return c && c->spec->id == spec->id && c->spec->computed == spec->computed && c->needs == needs;
        });
        if (old != before.end()) {
            (*old)->spec = spec;
            computed.push_back(std::move(*old));
        } else {
            const ComputedSpec& how = *spec->computed;
            const InputAligner::Rule rule{.interpolated = how.between == ComputedSpec::Between::interpolated,
                                          .oldest = seconds(how.oldestSeconds),
                                          .patience = options.pace == Pace::asFastAsPossible ? Duration{-1} : patience};
            auto c = std::make_unique<Computed>(Computed(spec, needs, rule));
            if (how.clock.empty()) c->group = groupOf(*spec, how.rateHz);
            for (std::size_t k = 0; k < needs.size(); ++k) {
                // What is known of it already: an output, or a slow one, may bring nothing new for long.
                const Reading now = source.at(needs[k].id, this->now());
                auto when = std::make_shared<StretchTimes>();
                when->at = {now.taken};
                if (std::isnan(now.value)) continue;
                // One that is made while it is measured begins now, whenever that was taken.
                c->nextTick = this->now().ns / periodOf(how) + 1;
                c->aligner.feed(k, when, {{now.value}, {}}, now.taken + Duration{1});
            }
            computed.push_back(std::move(c));
        }
        Computed& c = *computed.back();
        c.onlyOutputs = spec->computed->clock.empty();
        std::set<std::string> from;
        if (!c.spec->computed->clock.empty()) from.insert(c.spec->computed->clock);
        for (std::size_t k = 0; k < needs.size(); ++k) {
            const SignalSpec* other = bench.signal(needs[k].id);
            const bool output = other && isOutput(other->kind);
            c.aligner.doNotWait(k, output);
            c.onlyOutputs = c.onlyOutputs && output;
            from.insert(needs[k].id);
        }
        for (const std::string& id : from) computedFrom.emplace(id, &c);
    }
}

void Engine::State::feedComputed(const Group& group, const Block& block) {
    std::vector<Computed*> touched;
    const Instant until = endOf(block);
    StretchTimesPtr times;  // made for the first that needs them
    for (const Bound& b : group.bound) {
        const auto [begin, end] = computedFrom.equal_range(b.spec->id);
        for (auto it = begin; it != end; ++it) {
            Computed& c = *it->second;
            if (!times) times = stretchTimes(block);
            for (std::size_t k = 0; k < c.needs.size(); ++k) {
                if (c.needs[k].id != b.spec->id) continue;
                if (block.gapBefore) c.aligner.gap(k, block.gapBefore->from);
                c.aligner.feed(k, times, b.now, until);
            }
            if (c.spec->computed->clock == b.spec->id) {
                if (!c.group || c.group->rateHz != block.group->rateHz) c.group = groupOf(*c.spec, block.group->rateHz);
                c.waiting.push_back({momentsOf(c.group, block), times});
                c.clockUntil = until;
            }
            if (std::ranges::find(touched, &c) == touched.end()) touched.push_back(&c);
        }
    }
    // Outputs bring nothing while they stand: the time goes by with whatever else is measured.
    for (const auto& c : computed)
        if (c->onlyOutputs) {
            c->clockUntil = std::max(c->clockUntil, until);
            touched.push_back(c.get());
        }
    for (Computed* c : touched) advance(*c);
}

void Engine::State::advance(Computed& c) {
    if (c.spec->computed->clock.empty()) {
        const std::int64_t period = periodOf(*c.spec->computed);
        c.clockUntil = std::max(c.clockUntil, c.aligner.farthest());
        const std::int64_t end = (c.clockUntil.ns + period - 1) / period;  // of the ticks before that
        // It begins with the first that comes of any input.
        if (const auto begins = c.aligner.begins(); begins && !c.nextTick)
            c.nextTick = (std::max<std::int64_t>(0, begins->ns) + period - 1) / period;
        if (c.nextTick && *c.nextTick < end) {
            Block ticks;
            ticks.t0 = {*c.nextTick * period};
            ticks.dtNs = static_cast<double>(period);
            ticks.columns.emplace_back(std::vector<double>(static_cast<std::size_t>(end - *c.nextTick)));
            c.waiting.push_back({momentsOf(c.group, ticks), stretchTimes(ticks)});
            c.nextTick = end;
        }
    }
    while (!c.waiting.empty()) {
        const auto [moments, times] = c.waiting.front();
        const std::size_t ready = c.aligner.ready(*times, c.clockUntil);
        if (ready <= c.done) return;
        c.aligner.take(times, c.done, ready, c.aligned);
        auto part = std::make_shared<Block>(*partOf(moments, c.done, ready));
        part->firstIndex = c.samples;
        c.samples += ready - c.done;
        c.done = ready;
        if (c.done == moments->size()) {
            c.waiting.pop_front();
            c.done = 0;
        }
        Group& group = groupFor(part->group);
        group.inputs = &c.aligned;
        process(part);
        group.inputs = nullptr;
        if (c.done > 0) return;
    }
}

void Engine::State::finishComputed() {
    for (const auto& c : computed) {  // in the order of need
        for (std::size_t k = 0; k < c->needs.size(); ++k) c->aligner.doNotWait(k);
        advance(*c);
    }
}

void Engine::State::markComputedLost(const std::string& device, Quality quality) {
    std::set<std::string> without;
    for (const auto& s : bench.signals)
        if (!s->computed && (s->device == device || unreached.contains(s->device))) without.insert(s->id);
    for (const auto& c : computed) {
        const std::string& clock = c->spec->computed->clock;
        const bool gone =
            clock.empty()
                ? !c->needs.empty() &&
                      std::ranges::all_of(c->needs, [&](const NeededSignal& n) { return without.contains(n.id); })
                : without.contains(clock);
        if (!gone || !c->group) continue;
        without.insert(c->spec->id);
        if (const auto group = groups.find({c->group->device, c->group->name}); group != groups.end())
            for (Bound& b : group->second.bound) b.history->markLost(now(), quality);
    }
}

}  // namespace cruscotto
