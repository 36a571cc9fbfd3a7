#include "core/chain/stages/filter.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

constexpr double twoPi = 6.28318530717958647692;

std::vector<Biquad> notchParts(double frequency, int harmonics, double quality, double seconds) {
    std::vector<Biquad> parts;
    for (int k = 1; k <= harmonics; ++k) {
        const double w = twoPi * frequency * k * seconds;
        if (!(w < 0.49 * twoPi)) break;
        // Zeros on the unit circle at w, poles of the same angle a little inside.
        const double alpha = std::sin(w) / (2 * quality), a0 = 1 + alpha;
        Biquad b;
        b.b0 = b.b2 = 1 / a0;
        b.b1 = b.a1 = -2 * std::cos(w) / a0;
        b.a2 = (1 - alpha) / a0;
        parts.push_back(b);
    }
    return parts;
}

}  // namespace

/// Takes one frequency and its harmonics out: the hum of the mains. The quality is the frequency over the width that is
/// lost by 3 dB.
const StageKind& notch() {
    static const StageKind kind{
        .key = "notch",
        .title = CRUSCOTTO_TEXT("Notch"),
        .group = StageGroup::filter,
        .fields = {{.key = "frequency-hz",
                    .title = CRUSCOTTO_TEXT("Frequency"),
                    .first = 50.0,
                    .unit = "Hz",
                    .low = 0,
                    .high = 1e6,
                    .aboveLow = true},
                   {.key = "harmonics",
                    .title = CRUSCOTTO_TEXT("Harmonics"),
                    .type = StageField::Type::whole,
                    .first = 1.0,
                    .low = 1,
                    .high = 10},
                   {.key = "quality", .title = CRUSCOTTO_TEXT("Quality"), .first = 10.0, .low = 0.5, .high = 1000}},
        .sentence =
            [](const Stage& s) {
                const auto n = static_cast<int>(s.number("harmonics"));
                return n == 1 ? text(CRUSCOTTO_TEXT("Takes {0} Hz out."), number(s.number("frequency-hz")))
                              : text(CRUSCOTTO_TEXT("Takes {0} Hz and its multiples up to {1} Hz out."),
                                     number(s.number("frequency-hz")), number(n * s.number("frequency-hz")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Cascade>([frequency = s.number("frequency-hz"),
                                       harmonics = static_cast<int>(s.number("harmonics")),
                                       quality = s.number("quality")](double seconds) {
                return notchParts(frequency, harmonics, quality, seconds);
            });
        },
        .memory = [](const Stage& s) -> StageMemory {
            return {.samples = 2,
                    .time = seconds(forgottenAfter * 2 * s.number("quality") / (twoPi * s.number("frequency-hz")))};
        },
        .suits = isAnalog,
        .smooths = true,
    };
    return kind;
}

}  // namespace cruscotto::stages
