#pragma once

#include <optional>
#include <string>

#include "core/bench/bench.h"
#include "core/history/source.h"

namespace cruscotto {

/// A source laid over another one: what it read at t stands at t + shift on the other's time.
struct LaidOver {
    const Source* source = nullptr;
    Duration shift{};
    /// A stretch of the other's time as this one's own.
    [[nodiscard]] Span own(Span span) const { return {span.from - shift, span.to - shift}; }
};

/// What of two sources comes to lie at the same place.
enum class Alignment { beginning, firstMark, crossing, timeOfDay };

/// A signal that goes through a level, one way.
struct Crossing {
    std::string signal;
    double level = 0;
    bool rises = true;
    bool operator==(const Crossing&) const = default;
};
/// The first time that it does so after having been a hundredth of its extent beyond the level on the other side; by
/// the straight line between two readings. Nothing: it never does, or there is no such signal.
std::optional<Instant> firstCrossing(const Source& source, const Crossing& crossing);

/// The shift of `other` so that both agree in it. `ownMark`, `otherMark`: the first mark of each. Errors: one of the
/// two has no mark, or never goes through the level; the words tell which ("this one", "the other one").
Result<Duration> shiftFor(Alignment by, const Source& own, std::optional<Instant> ownMark, const Source& other,
                          std::optional<Instant> otherMark, const Crossing& crossing = {});

/// The stretch that both cover, on the first one's time; empty (from == to) where they do not meet.
Span commonSpan(const Source& own, const LaidOver& other);

}  // namespace cruscotto
