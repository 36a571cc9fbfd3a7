#include <algorithm>
#include <cmath>
#include <cstdio>
#include <set>

#include "core/base/log.h"
#include "core/history/signal_history.h"
#include "engine/engine_state.h"

namespace cruscotto {

namespace {

constexpr Duration anchorEvery = milliseconds(60'000);
constexpr Duration shortestSleep = milliseconds(100);
constexpr Duration wallStep = milliseconds(200);  // slewing by a time service stays below that for a minute

}  // namespace

void Engine::State::anchorRecording(Instant t) {
    const WallAnchor anchor{t, wallNow()};
    const std::int64_t offset = anchor.unixNs - t.ns;
    const std::int64_t step = offset - wallOffset;
    const bool stepped = options.pace == Pace::realTime && std::llabs(step) > wallStep.ns;
    if (!stepped && t - lastAnchor < anchorEvery) return;
    lastAnchor = t;
    wallOffset = offset;
    recorder->anchor(anchor);
    if (!stepped) return;
    recorder->note([anchor, step](RunWriter& w) {
        w.addEvent(anchor.at, "clock",
                   fmt::format("The computer's clock was stepped by {} s.", secondsText(step / 1'000'000 * 1'000'000)));
    });
}

void Engine::State::noticeSleep() {
    if (options.pace != Pace::realTime) return;
    const std::int64_t length = asleepNs() - sleptNs;
    if (length < shortestSleep.ns) return;
    sleptNs += length;
    const Instant woke = now();
    const Instant from{woke.ns - length};
    amidSleep = {woke.ns - length / 2};
    const std::string words = "The computer slept for " + roughText(nanoseconds(length));
    logWarning(words);
    {
        const Lock lock(mutex);
        lastSleep = Span{from, woke};
        marks.push_back({from, words});
    }
    if (recorder) recorder->note([from, words](RunWriter& w) { w.addMark(from, words); });
}

void Engine::State::noteShots() {
    if (!gate || gate->shots() == shotsNoted) return;
    shotsNoted = gate->shots();
    recorder->note([at = gate->triggeredAt(), n = shotsNoted](RunWriter& w) {
        w.addEvent(at, "trigger", fmt::format("Shot {}", n));
    });
}

void Engine::State::noteBench(Instant at) {
    if (recorder) recorder->take(benchAsKept(), at);
}

Result<void> Engine::startRecording(const std::string& path, std::optional<ShotPlan> plan) {
    State& s = *state_;
    Result<void> result = failure("Nothing is measured any more.");
    Bench asked;
    s.call([&] {
        result = {};
        if (s.recorder || s.makingRun) {
            result = failure("A recording is going on already. Stop it first.");
            return;
        }
        s.makingRun = true;
        s.keeping.clear();
        asked = s.benchAsKept();
    });
    if (!result) return result;
    // The file is made on the caller's thread: a slow disk does not hold up what is being measured.
    auto writer = RunWriter::create(path, asked, {s.now(), s.wallNow()});
    bool installed = false;
    s.call([&] {
        s.makingRun = false;
        if (!writer) return;
        const Instant at = s.now();
        s.lastAnchor = at;
        s.wallOffset = s.wallNow() - at.ns;
        RecorderLimits limits = s.options.recorder;
        const RecordingSpec& asks = asked.recording;
        if (asks.splitMinutes > 0) limits.splitEvery = seconds(asks.splitMinutes * 60);
        if (asks.splitMegabytes > 0) limits.splitBytes = static_cast<std::uint64_t>(asks.splitMegabytes * 1e6);
        limits.keepFreeBytes = static_cast<std::uint64_t>(asks.keepFreeMegabytes * 1e6);
        s.recorder = std::make_unique<Recorder>(std::move(writer.value()), path, at, s.options.pace, limits,
                                                Recorder::Beginning{asked, {at, s.wallNow()}});
        for (const auto& signal : asked.signals) s.keeping.emplace(signal->id, signal->keep);
        for (auto& [key, group] : s.groups) {
            s.arrangeKeeping(group);
            for (State::Bound& b : group.bound) b.came = false;
        }
        s.skips.clear();
        s.troubles.clear();
        {
            const Lock lock(s.mutex);
            for (const auto& [device, status] : s.statuses) {
                s.skips[device] = {status.rejected, status.rejected, status.rejected, {}, {}};
                if (isTrouble(status)) s.troubles[device] = status.sentence.english();
            }
        }
        if (!sameBench(asked, s.benchAsKept())) s.noteBench(at);
        s.gate.reset();
        s.shotsNoted = 0;
        if (plan)
            s.gate.emplace(*plan, [&s](ShotGate::Part part) {
                s.recorder->add(std::move(part.block), std::move(part.columns), std::move(part.buckets));
            });
        logInfo("recording to " + path);
        std::map<std::string, OutputState> outputs;
        {
            const Lock lock(s.mutex);
            s.recorded.push_back({at, at});
            s.recordingNow = true;
            s.lostBefore = s.lost.load(std::memory_order_relaxed);
            s.lastRecording = s.recorder->status();
            outputs = s.outputs;
        }
        for (const auto& spec : s.bench.signals)
            if (spec->output && outputs.contains(spec->id)) s.emitOutput(*spec, outputs[spec->id].value);
        installed = true;
    });
    if (!writer) return writer.error();
    if (!installed) {
        writer.value().reset();
        std::remove(path.c_str());
        return failure("Nothing is measured any more.");
    }
    return {};
}

RecordingStatus Engine::stopRecording() {
    State& s = *state_;
    std::unique_ptr<Recorder> ended;
    s.call([&] {
        if (s.recorder) {
            s.recordRest();
            s.noteAccount();
        }
        ended = std::move(s.recorder);
        s.gate.reset();
        for (auto& [key, group] : s.groups) s.arrangeKeeping(group);
    });
    if (!ended) return recording();
    ended->close();
    RecordingStatus status = ended->status();
    const Lock lock(s.mutex);
    status.byShots = s.lastRecording.byShots;
    status.shots = s.lastRecording.shots;
    status.skipped = std::move(s.lastRecording.skipped);
    status.troubles = std::move(s.lastRecording.troubles);
    status.empty = std::move(s.lastRecording.empty);
    s.addLostUpstream(status);
    logInfo(fmt::format("recorded {} samples to {}, {} lost", status.samples, status.path, status.lost));
    s.recorded.back().to = s.now();
    s.recordingNow = false;
    s.lastRecording = status;
    return status;
}

void Engine::State::addLostUpstream(RecordingStatus& status) {
    const std::uint64_t more = lost.load(std::memory_order_relaxed) - lostBefore;
    status.lost += more;
    if (more == 0 || !status.lostTo.empty()) return;
    const Lock lock(queueMutex);
    status.lostTo = lostTo;
}

RecordingStatus Engine::recording() const {
    State& s = *state_;
    // The recorder belongs to the engine thread; it is looked at in passing there and the last look kept here.
    s.post([&s] {
        if (!s.recorder) return;
        RecordingStatus status = s.recorder->status();
        if (s.gate) {
            status.byShots = true;
            status.shots = s.gate->shots();
            status.complete = s.gate->complete(s.now());
        }
        const Lock lock(s.mutex);
        s.lastRecording = status;
    });
    const Lock lock(s.mutex);
    RecordingStatus status = s.lastRecording;
    status.active = s.recordingNow;
    if (!s.recordingNow) return status;
    status.since = s.recorded.back().from;
    s.addLostUpstream(status);
    return status;
}

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
    const Instant from = now - past;
    auto made =
        RunWriter::create(path, keepingEverything(bench), {from, s.startAnchor.unixNs + (from - s.startAnchor.at).ns});
    if (!made) return made.error();
    RunWriter& writer = *made.value();
    writer.addEvent(now, "kept", "What was in memory, kept after the fact");
    Span kept{now, from};
    for (const State::Held& h : held) {
        auto [first, end] = h.range();
        if (const auto before = h.timeline->lastAtOrBefore(from - nanoseconds(1))) first = std::max(first, *before + 1);
        // Of a value that seldom changes (an output) the last one before counts too.
        if (!h.group->clocked() && first > 0 && first >= h.range().first + 1) --first;
        std::vector<RecordedColumn> columns;
        for (std::size_t i = 0; i < h.signals.size(); ++i) columns.push_back({i, h.signals[i].first});
        std::vector<PyramidBuilder> pyramids(h.signals.size());
        auto group = std::make_shared<ScanGroup>(*h.group);
        group->channels.clear();
        for (const std::size_t c : h.columns) group->channels.push_back(h.group->channels[c]);
        // The group's own gaps: samples behind one begin a block. What is no longer held before its first is one too.
        std::set<Instant> gapEnds;
        h.timeline->gapEnds({from, now + seconds(1)}, [&](Instant t) { gapEnds.insert(t); });
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
            for (std::size_t i = 0; i < h.signals.size() && whole; ++i) {
                SignalHistory::Stretch stretch;
                whole = h.signals[i].second->copy(first, n, stretch);
                block->columns.push_back(std::move(stretch.raw));
                block->quality.push_back(std::move(stretch.quality));
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

std::vector<Span> Engine::recordedSpans() const {
    State& s = *state_;
    const Lock lock(s.mutex);
    std::vector<Span> out = s.recorded;
    if (s.recordingNow) out.back().to = s.now();
    return out;
}

void Engine::mark(Instant at, const std::string& words) {
    State& s = *state_;
    {
        const Lock lock(s.mutex);
        s.marks.push_back({at, words});
    }
    s.post([&s, at, words] {
        if (!s.recorder) return;
        s.recorder->note([at, words](RunWriter& w) { w.addMark(at, words); });
        if (s.gate && s.gate->plan().onMark) s.gate->trigger(at);
    });
}

std::vector<Mark> Engine::marks() const {
    const Lock lock(state_->mutex);
    return state_->marks;
}

std::optional<Span> Engine::lastSleep() const {
    const Lock lock(state_->mutex);
    return state_->lastSleep;
}

}  // namespace cruscotto
