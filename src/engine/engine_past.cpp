// What is in memory, kept as a run after the fact.
#include <algorithm>
#include <set>

#include "core/base/log.h"
#include "core/bench/keep.h"
#include "core/history/signal_history.h"
#include "engine/engine_state.h"

namespace cruscotto {

std::vector<Engine::State::Held> Engine::State::held() {
    std::vector<Held> out;
    for (const auto& [key, group] : groups) {
        if (group.bound.empty()) continue;
        Held h{group.group, group.timeline, {}, {}};
        for (const Bound& b : group.bound) {
            h.signals.emplace_back(b.spec->id, b.history);
            h.columns.push_back(b.column);
        }
        out.push_back(std::move(h));
    }
    return out;
}

namespace {

/// A column of what is kept, of one of the signals that are held.
struct KeptColumn {
    std::size_t signal = 0;
    bool readings = false;  // else raw samples
    bool shown = true;      // else they lie beside its readings
};

}  // namespace

Instant Engine::heldSince() const {
    Instant since;
    state_->call([&] {
        for (const State::Held& h : state_->held()) {
            const auto [first, end] = h.range();
            if (first == 0 || first >= end) continue;
            if (const auto t = h.timeline->timeOf(first)) since = std::max(since, *t);
        }
    });
    return since;
}

Result<Span> Engine::keepPast(const std::string& path, Duration past) {
    const Instant now = this->now();
    return keep(path, {now - past, now});
}

Result<Span> Engine::keep(const std::string& path, Span span) {
    State& s = *state_;
    std::vector<State::Held> held;
    Bench bench;
    Instant now;
    s.call([&] {
        held = s.held();
        bench = s.bench;
        now = s.now();
    });
    if (held.empty()) return failure("Nothing has been measured yet; there is nothing to keep.");
    const Instant from = span.from, to = std::min(span.to, now);
    bench = withResolvedKeep(keepingEverything(std::move(bench)));
    auto made = RunWriter::create(path, bench, {from, s.startAnchor.unixNs + (from - s.startAnchor.at).ns});
    if (!made) return made.error();
    RunWriter& writer = *made.value();
    writer.addEvent(now, "kept", "What was in memory, kept after the fact");
    Span kept{to, from};
    for (const State::Held& h : held) {
        auto [first, end] = h.range();
        if (const auto before = h.timeline->lastAtOrBefore(from - nanoseconds(1))) first = std::max(first, *before + 1);
        if (const auto last = h.timeline->lastAtOrBefore(to)) end = std::min(end, std::max(first, *last + 1));
        // Of a value that seldom changes (an output) the last one before counts too.
        if (!h.group->clocked() && first > 0 && first >= h.range().first + 1) --first;
        std::vector<RecordedColumn> columns;
        std::vector<KeptColumn> kinds;
        auto group = std::make_shared<ScanGroup>(*h.group);
        group->channels.clear();
        for (std::size_t i = 0; i < h.signals.size(); ++i) {
            const SignalSpec* spec = bench.signal(h.signals[i].first);
            if (!spec) continue;
            for (const SignalSpec& as : asRecorded(*spec)) {
                const bool shown = as.id == spec->id;
                columns.push_back({columns.size(), as.id, {}, !shown});
                kinds.push_back({i, shown && spec->keep.asReadings, shown});
                group->channels.push_back(h.group->channels[h.columns[i]]);
                if (kinds.back().readings) group->channels.back().type = SampleType::float64;
            }
        }
        std::vector<PyramidBuilder> pyramids(columns.size());
        // The group's own gaps: samples behind one begin a block. What is no longer held before its first is one too.
        std::set<Instant> gapEnds;
        h.timeline->gapEnds({from, to + seconds(1)}, [&](Instant t) { gapEnds.insert(t); });
        std::optional<Gap> before;
        if (const auto begins = h.timeline->timeOf(first); first > 0 && begins && *begins > from && h.group->clocked())
            before = Gap{from, *begins, 0, "No longer in memory."};
        constexpr std::uint64_t most = 16'384;
        while (first < end) {
            auto block = std::make_shared<Block>();
            block->group = group;
            block->firstIndex = first;
            std::uint64_t n = 0;
            if (h.group->clocked()) {
                const auto segment = h.timeline->segmentOf(first);
                if (!segment) break;
                n = std::min({segment->end, end, first + most}) - first;
                block->t0 = segment->timeOf(first);
                block->dtNs = segment->dtNs;
            } else {
                for (n = 0; n < std::min(end - first, most); ++n) {
                    const auto t = h.timeline->timeOf(first + n);
                    if (!t || (n > 0 && gapEnds.contains(*t))) break;
                    block->times.push_back(*t);
                }
                n = block->times.size();
            }
            if (n == 0) break;
            block->gapBefore = std::exchange(before, std::nullopt);
            const Instant begins = block->timeOf(0);
            if (const auto gap = gapEnds.contains(begins) ? h.timeline->gapAt(begins - nanoseconds(1)) : std::nullopt)
                block->gapBefore =
                    Gap{std::max(gap->span.from, from), begins, 0, "Nothing was measured.", gap->quality};
            std::vector<RecordedBucket> buckets;
            bool whole = true;
            SignalHistory::Stretch stretch;
            for (std::size_t i = 0; i < kinds.size() && whole; ++i) {
                const KeptColumn& kind = kinds[i];
                if (kind.shown) whole = h.signals[kind.signal].second->copy(first, n, stretch);
                block->columns.push_back(kind.readings ? Samples(stretch.readings) : stretch.raw);
                block->quality.push_back(kind.readings ? stretch.quality : stretch.said);
                if (!kind.shown) continue;
                pyramids[i].add(
                    stretch.readings, [&](std::size_t k) { return block->timeOf(k); },
                    [&](int level, const Bucket& b) {
                        buckets.push_back({i, {level, b}});
                    });
            }
            first += n;
            if (!whole) continue;  // overwritten while it was copied: the run begins later
            kept.from = std::min(kept.from, block->timeOf(0));
            kept.to = std::max(kept.to, block->timeOf(n - 1));
            writer.add(block, columns, buckets);
            if (writer.pendingBytes() > (std::size_t{32} << 20))
                if (auto committed = writer.commit(); !committed) return committed.error();
        }
    }
    if (auto closed = writer.close(); !closed) return closed.error();
    logInfo(fmt::format("kept {:.3f} s in {}", (kept.to - kept.from).seconds(), path));
    return kept;
}

}  // namespace cruscotto
