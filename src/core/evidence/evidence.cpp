#include "core/evidence/evidence.h"

#include <algorithm>
#include <array>

#include "core/base/number_text.h"

namespace cruscotto {

namespace {

const auto& kinds() {
    static const std::array all{
        DoubtKind{Doubt::openSensor, "open-sensor", CRUSCOTTO_TEXT("open or broken sensor"),
                  CRUSCOTTO_TEXT("Check the sensor and its wires, from the terminal on."), false},
        DoubtKind{Doubt::clipped, "clipped", CRUSCOTTO_TEXT("clipped"),
                  CRUSCOTTO_TEXT("Choose a larger range in the chain's first card."), false},
        DoubtKind{Doubt::outOfRange, "out-of-range", CRUSCOTTO_TEXT("out of range"),
                  CRUSCOTTO_TEXT("Its chain says at which stage. Is the right sensor connected?"), false},
        DoubtKind{Doubt::notConnected, "not-connected", CRUSCOTTO_TEXT("not connected"),
                  CRUSCOTTO_TEXT("Check the wire and its ground. Where nothing is wired to it, take the signal away."),
                  true, true},
        DoubtKind{Doubt::flatTops, "flat-tops", CRUSCOTTO_TEXT("flat tops"),
                  CRUSCOTTO_TEXT("An amplifier before the input stands at its rail: lower its gain."), true, true},
        DoubtKind{Doubt::stuck, "stuck", CRUSCOTTO_TEXT("stuck"),
                  CRUSCOTTO_TEXT("Touch the sensor: if it stays, look at its supply and at the device."), true, true},
        DoubtKind{Doubt::jumps, "jumps", CRUSCOTTO_TEXT("jumps"),
                  CRUSCOTTO_TEXT("Move the wire and its terminal: a loose contact shows."), true, true},
        DoubtKind{Doubt::disagrees, "disagrees", CRUSCOTTO_TEXT("disagrees"),
                  CRUSCOTTO_TEXT("One of the two is wrong: follow both chains to the stage that differs."), true, true},
        DoubtKind{Doubt::notAsTold, "not-as-told", CRUSCOTTO_TEXT("not as told"),
                  CRUSCOTTO_TEXT("Set its zero or its span, or calibrate it."), false, true},
        DoubtKind{Doubt::sameAsAnother, "same-as-another", CRUSCOTTO_TEXT("same as its neighbour"),
                  CRUSCOTTO_TEXT("Is it connected? An open input takes on what the one before it reads."), false},
        DoubtKind{Doubt::hums, "hums", CRUSCOTTO_TEXT("hums"),
                  CRUSCOTTO_TEXT("Look for a loop in the grounds, and twist or shield the wires."), false, true},
        DoubtKind{Doubt::bounces, "bounces", CRUSCOTTO_TEXT("bounces"),
                  CRUSCOTTO_TEXT("Give the terminal a filter or a de-bounce time."), false},
        DoubtKind{Doubt::tooSlow, "too-slow", CRUSCOTTO_TEXT("read too slowly"),
                  CRUSCOTTO_TEXT("Read the device faster, or calm the signal before the input."), false},
        DoubtKind{Doubt::tooCoarse, "too-coarse", CRUSCOTTO_TEXT("range too coarse"),
                  CRUSCOTTO_TEXT("Choose a smaller range in the chain's first card."), false},
        DoubtKind{Doubt::drifts, "drifts", CRUSCOTTO_TEXT("drifts"),
                  CRUSCOTTO_TEXT("Wait until it stands, or find what warms up."), false},
        DoubtKind{Doubt::connected, "connected", CRUSCOTTO_TEXT("connected"), Text(), false},
    };
    return all;
}

}  // namespace

std::span<const DoubtKind> doubtKinds() {
    return kinds();
}
const DoubtKind& doubtKind(Doubt doubt) {
    return kinds()[static_cast<std::size_t>(doubt)];
}

Text surenessWord(double sure) {
    if (sure >= 0.9) return CRUSCOTTO_TEXT("almost certain");
    return sure >= 0.7 ? CRUSCOTTO_TEXT("likely") : CRUSCOTTO_TEXT("possible");
}

bool anySuspicion(const std::vector<Evidence>& evidence) {
    return std::ranges::any_of(evidence, [](const Evidence& e) { return doubtKind(e.doubt).suspicion; });
}

std::string evidenceEvent(const std::string& signal, const Evidence& evidence) {
    return fmt::format("{}: {} {:.2f}: {}", signal, doubtKind(evidence.doubt).key, evidence.sure,
                       evidence.grounds.english());
}

std::optional<NotedEvidence> evidenceFromEvent(Instant at, const std::string& words) {
    const auto first = words.find(": ");
    if (first == std::string::npos) return {};
    const auto second = words.find(": ", first + 2);
    std::string key = words.substr(first + 2, second == std::string::npos ? second : second - first - 2);
    double sure = 1;
    if (const auto blank = key.find(' '); blank != std::string::npos) {
        if (!parseNumber(key.substr(blank + 1), sure) || !(sure >= 0 && sure <= 1)) return {};
        key.resize(blank);
    }
    const auto kind = std::ranges::find_if(kinds(), [&](const DoubtKind& k) { return k.key == key; });
    if (kind == kinds().end()) return {};
    const std::string grounds = second == std::string::npos ? "" : words.substr(second + 2);
    return NotedEvidence{words.substr(0, first), {kind->doubt, grounds, at, sure}};
}

}  // namespace cruscotto
