#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "core/base/text.h"
#include "core/base/time.h"
#include "core/signal/block.h"

namespace cruscotto {

/// What speaks against a reading being true.
enum class Doubt : std::uint8_t {
    openSensor,     ///< the sensor's own law says so: a fault level, a burnt-out wire
    clipped,        ///< at the converter's end
    outOfRange,     ///< the scaling law does not hold there
    notConnected,   ///< hums and wanders like an open wire
    flatTops,       ///< the same extreme again and again, below the converter's end
    stuck,          ///< does not move where it always did
    jumps,          ///< single samples far off
    disagrees,      ///< another signal that should say the same does not
    notAsTold,      ///< is not where somebody says that it is
    sameAsAnother,  ///< moves exactly as its neighbour does
    hums,           ///< the mains are in it
    bounces,        ///< a contact that changes several times when it changes
    tooSlow,        ///< most of its change lies between two samples
    tooCoarse,      ///< uses a few counts of its range
    drifts,         ///< goes the same way all the time
    connected,      ///< no doubt but its contrary: it was pulled, and a source held it
};
/// Of each kind: what it is called and what to do about it. `key` stands in runs and in JSON: frozen.
struct DoubtKind {
    Doubt doubt = Doubt::stuck;
    const char* key = "";
    Text word, remedy;
    /// The readings become of the quality suspect by it. The others say something about a reading that may be true all
    /// the same, or are of a worse quality already.
    bool suspicion = false;
    /// Said where the number is; the others in the chain and before it counts only.
    bool aloud = false;
};
const DoubtKind& doubtKind(Doubt doubt);
std::span<const DoubtKind> doubtKinds();

struct Evidence {
    Doubt doubt = Doubt::stuck;
    Text grounds;  ///< a sentence with numbers, without the signal's name: "stands at 0.25 V again and again."
    Instant since;
    double sure = 1;  ///< 0 to 1
    bool operator==(const Evidence&) const = default;
};
/// "almost certain", "likely", "possible".
Text surenessWord(double sure);
/// The worst first.
bool anySuspicion(const std::vector<Evidence>& evidence);

/// As a run's events have it, and back: the kinds are evidenceBegins and evidenceEnds, the words
/// "ID: KEY SURE: GROUNDS" and "ID: KEY".
inline constexpr const char* evidenceBegins = "evidence";
inline constexpr const char* evidenceEnds = "evidence-over";
std::string evidenceEvent(const std::string& signal, const Evidence& evidence);
struct NotedEvidence {
    std::string signal;
    Evidence evidence;
};
/// Nothing where the words are none of these.
std::optional<NotedEvidence> evidenceFromEvent(Instant at, const std::string& words);

}  // namespace cruscotto
