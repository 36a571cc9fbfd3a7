#include "core/chain/stages/filter.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

constexpr double pi = 3.14159265358979323846;

/// By the bilinear transform with the corner in its place (A. V. Oppenheim, R. W. Schafer: Discrete-Time Signal
/// Processing, 7.1). Nothing where the corner is not below half the sampling rate.
std::vector<Biquad> butterworthParts(int order, double corner, double seconds) {
    std::vector<Biquad> parts;
    if (!(corner * seconds < 0.499)) return parts;
    const double w = std::tan(pi * corner * seconds);
    for (int k = 0; k < order / 2; ++k) {
        const double damping = 2 * std::sin(pi * (2 * k + 1) / (2 * order));
        const double a0 = 1 + damping * w + w * w;
        Biquad b;
        b.b0 = b.b2 = w * w / a0;
        b.b1 = 2 * b.b0;
        b.a1 = 2 * (w * w - 1) / a0;
        b.a2 = (1 - damping * w + w * w) / a0;
        parts.push_back(b);
    }
    if (order % 2) {
        Biquad b;
        b.b0 = b.b1 = w / (1 + w);
        b.a1 = (w - 1) / (w + 1);
        parts.push_back(b);
    }
    return parts;
}

}  // namespace

/// A Butterworth low-pass of order 1 to 4 by its corner, at which 3 dB are lost: as flat as can be below it.
const StageKind& butterworth() {
    static const StageKind kind{
        .key = "butterworth",
        .title = CRUSCOTTO_TEXT("Butterworth low-pass"),
        .group = StageGroup::filter,
        .fields = {{.key = "order",
                    .title = CRUSCOTTO_TEXT("Order"),
                    .type = StageField::Type::whole,
                    .first = 2.0,
                    .low = 1,
                    .high = 4},
                   {.key = "corner-hz",
                    .title = CRUSCOTTO_TEXT("Corner"),
                    .first = 10.0,
                    .unit = "Hz",
                    .low = 0,
                    .high = 1e6,
                    .aboveLow = true}},
        .sentence =
            [](const Stage& s) {
                return text(
                    CRUSCOTTO_TEXT("Lets pass what is slower than {0} Hz, and {1} dB less for each octave above."),
                    number(s.number("corner-hz")), static_cast<int>(6 * s.number("order")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Cascade>([order = static_cast<int>(s.number("order")), corner = s.number("corner-hz")](
                                          double seconds) { return butterworthParts(order, corner, seconds); });
        },
        .memory = [](const Stage& s) -> StageMemory {
            const double slowest = 2 * pi * s.number("corner-hz") * std::sin(pi / (2 * s.number("order")));
            return {.samples = 2, .time = seconds(forgottenAfter / slowest)};
        },
        .suits = isAnalog,
        .smooths = true,
    };
    return kind;
}

}  // namespace cruscotto::stages
