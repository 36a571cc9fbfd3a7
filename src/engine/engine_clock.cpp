// The bench's time beside the wall clock, and the computer's sleep.
#include <cmath>

#include "core/base/log.h"
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

std::optional<Span> Engine::lastSleep() const {
    const Lock lock(state_->mutex);
    return state_->lastSleep;
}

}  // namespace cruscotto
