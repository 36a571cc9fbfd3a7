#include "core/chain/sensor_recipes.h"

#include "core/base/units.h"
#include "core/chain/common_stages.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {

Stage mean(int samples) {
    return Stage::of("moving-mean", {{"samples", double(samples)}});
}

std::vector<SensorRecipe> made() {
    using enum ChannelKind;
    const std::vector<ChannelKind> analog{analogInput}, counter{counterInput}, digital{digitalInput};
    return {
        {"thermocouple",
         CRUSCOTTO_TEXT("Thermocouple"),
         analog,
         {mean(50), Stage::of("thermocouple")},
         {{1, "type"}, {1, "cold-junction"}}},
        {"resistance-thermometer",
         CRUSCOTTO_TEXT("Resistance thermometer (Pt100 and others)"),
         analog,
         {mean(50), Stage::of("resistance", {{"circuit", "current"}}), Stage::of("resistance-thermometer")},
         {{1, "current"}, {2, "r0"}},
         {{"excitation", "1mA"}}},
        {"thermistor",
         CRUSCOTTO_TEXT("Thermistor in a divider"),
         analog,
         {mean(50), Stage::of("resistance", {{"circuit", "below"}}), Stage::of("thermistor")},
         {{1, "circuit"}, {1, "resistor"}, {1, "supply"}, {2, "r0"}, {2, "beta"}}},
        {"load-cell",
         CRUSCOTTO_TEXT("Load cell or pressure bridge, in mV/V"),
         analog,
         {Stage::of("low-pass", {{"time-constant-s", 0.2}}), Stage::of("bridge", {{"reads", "load"}})},
         {{1, "excitation"}, {1, "sensitivity"}, {1, "capacity"}, {1, "unit"}}},
        {"strain-gauge",
         CRUSCOTTO_TEXT("Strain gauge"),
         analog,
         {Stage::of("low-pass", {{"time-constant-s", 0.1}}), Stage::of("bridge", {{"reads", "strain"}})},
         {{1, "arms"}, {1, "excitation"}, {1, "gauge-factor"}}},
        {"current-loop",
         CRUSCOTTO_TEXT("4 to 20 mA over a resistor"),
         analog,
         {mean(20), Stage::of("current-loop")},
         {{1, "shunt"}, {1, "low"}, {1, "high"}, {1, "unit"}}},
        {"shunt",
         CRUSCOTTO_TEXT("Shunt or current clamp"),
         analog,
         {mean(20), Stage::of("shunt")},
         {{1, "resistance"}}},
        {"ratiometric",
         CRUSCOTTO_TEXT("Potentiometer, or a sensor that follows its supply"),
         analog,
         {mean(20), Stage::of("ratiometric")},
         {{1, "supply"}, {1, "from"}, {1, "to"}, {1, "low"}, {1, "high"}, {1, "unit"}}},
        {"linear",
         CRUSCOTTO_TEXT("A sensor with a voltage, straight"),
         analog,
         {mean(20), Stage::of("two-points")},
         {{1, "x1"}, {1, "y1"}, {1, "x2"}, {1, "y2"}, {1, "unit"}}},
        {"distance",
         CRUSCOTTO_TEXT("A sensor that gives the more the nearer"),
         analog,
         {Stage::of("median", {{"samples", 5.0}}), mean(20), Stage::of("reciprocal")},
         {{2, "k"}, {2, "low"}, {2, "high"}, {2, "unit"}}},
        {"table",
         CRUSCOTTO_TEXT("A sensor with a table from its data sheet"),
         analog,
         {mean(20), Stage::of("table")},
         {{1, "points"}, {1, "unit"}}},
        {"state", CRUSCOTTO_TEXT("A state: on above a level"), analog, {Stage::of("level")}, {{0, "on"}, {0, "off"}}},
        {"hits",
         CRUSCOTTO_TEXT("Hits, drops, pulses to count"),
         analog,
         {Stage::of("events")},
         {{0, "reads"}, {0, "threshold"}, {0, "hysteresis"}, {0, "dead-time-s"}}},
        {"frequency",
         CRUSCOTTO_TEXT("Frequency"),
         counter,
         {Stage::of("pulse-counter")},
         {{0, "gate-s"}, {0, "silence-s"}}},
        {"speed",
         CRUSCOTTO_TEXT("Speed of a shaft"),
         counter,
         {Stage::of("pulse-counter", {{"mode", "rpm"}})},
         {{0, "pulses-per-turn"}, {0, "gate-s"}, {0, "silence-s"}}},
        {"total",
         CRUSCOTTO_TEXT("A total: litres, pieces, metres"),
         counter,
         {Stage::of("total")},
         {{0, "pulses"}, {0, "unit"}}},
        {"encoder",
         CRUSCOTTO_TEXT("Position by an encoder"),
         counter,
         {Stage::of("total")},
         {{0, "pulses"}, {0, "unit"}},
         {{"mode", "quadrature"}}},
        {"contact", CRUSCOTTO_TEXT("A contact that bounces"), digital, {Stage::of("debounce")}, {{0, "time-s"}}},
        {"pulse",
         CRUSCOTTO_TEXT("Pulses: width, period, duty"),
         digital,
         {Stage::of("pulse-times")},
         {{0, "what"}, {0, "silence-s"}}},
        {"tracks",
         CRUSCOTTO_TEXT("Encoder on two inputs"),
         digital,
         {Stage::of("quadrature")},
         {{0, "track-b"}, {0, "index"}, {0, "lines"}, {0, "unit"}}},
    };
}

}  // namespace

const std::vector<SensorRecipe>& sensorRecipes() {
    static const std::vector<SensorRecipe> all = made();
    return all;
}

ChainSpec chainWithSensor(const ChainSpec& now, const ChainSpec& stages, ChannelKind kind) {
    ChainSpec out;
    if (kind == ChannelKind::analogInput) {
        // Counts become volts as they do now; what a board says ready made is taken as volts.
        for (const Stage& stage : now) {
            out.push_back(stage);
            if (convertUnit(readingUnit(out, kind), "V")) break;
        }
        if (!convertUnit(readingUnit(out, kind), "V")) out = {slopeOffset(1, 0, "V")};
    }
    out.insert(out.end(), stages.begin(), stages.end());
    return out;
}

}  // namespace cruscotto
