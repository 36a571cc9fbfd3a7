#pragma once

#include "core/chain/stage.h"

/// The stages that drivers and edits make, in short. What the values mean is in each kind's file.
namespace cruscotto {

inline Stage countsToVolts(int bits = 16, double low = -10, double high = 10, std::string coding = "twos-complement") {
    return Stage::of("counts-to-volts",
                     {{"bits", double(bits)}, {"low", low}, {"high", high}, {"coding", std::move(coding)}});
}
inline Stage slopeOffset(double slope, double offset, std::string unit) {
    return Stage::of("slope-offset", {{"slope", slope}, {"offset", offset}, {"unit", std::move(unit)}});
}
inline Stage twoPoints(double x1, double y1, double x2, double y2, std::string unit, std::string note = "") {
    return Stage::of(
        "two-points",
        {{"x1", x1}, {"y1", y1}, {"x2", x2}, {"y2", y2}, {"unit", std::move(unit)}, {"note", std::move(note)}});
}
inline Stage pulseCounter(std::string mode = "frequency", double pulsesPerTurn = 1, double silenceSeconds = 2,
                          double gateSeconds = 0.25) {
    return Stage::of("pulse-counter", {{"mode", std::move(mode)},
                                       {"pulses-per-turn", pulsesPerTurn},
                                       {"silence-s", silenceSeconds},
                                       {"gate-s", gateSeconds}});
}

}  // namespace cruscotto
