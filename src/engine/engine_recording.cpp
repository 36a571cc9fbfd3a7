#include <algorithm>
#include <cmath>
#include <cstdio>
#include <set>

#include "core/base/log.h"
#include "core/history/signal_history.h"
#include "engine/engine_state.h"

namespace cruscotto {

void Engine::State::noteShots() {
    if (!gate || gate->shots() == shotsNoted) return;
    shotsNoted = gate->shots();
    {
        const Lock lock(mutex);
        lastRecording.shots = shotsNoted;
        completeFrom = gate->completeFrom();
    }
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
        s.recorder = std::make_shared<Recorder>(std::move(writer.value()), path, at, s.options.pace, limits,
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
            s.lastRecording = {};
            s.lastRecording.byShots = s.gate.has_value();
            s.recording = s.recorder;
            s.completeFrom.reset();
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
    std::shared_ptr<Recorder> ended;
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
    s.recording.reset();
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
    const Lock lock(s.mutex);
    RecordingStatus status = s.lastRecording;
    status.active = s.recordingNow;
    if (!s.recordingNow) return status;
    if (s.recording) {
        const bool byShots = status.byShots;
        const int shots = status.shots;
        status = s.recording->status();
        status.active = true;
        status.byShots = byShots;
        status.shots = shots;
        status.complete = s.completeFrom && s.now() > *s.completeFrom;
    }
    status.since = s.recorded.back().from;
    s.addLostUpstream(status);
    return status;
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
        if (s.rules.evaluator) s.rules.evaluator->mark(words, at);
        if (s.procedure) s.procedure->mark(words, at);
        if (!s.recorder) return;
        s.recorder->note([at, words](RunWriter& w) { w.addMark(at, words); });
        if (!s.gate || !s.gate->plan().onMark) return;
        s.gate->trigger(at);
        s.noteShots();
    });
}

std::vector<Mark> Engine::marks() const {
    const Lock lock(state_->mutex);
    return state_->marks;
}

}  // namespace cruscotto
