#include <cmath>

#include "core/base/units.h"
#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

// NAMUR NE 43, in mA: what a transmitter says within its range, and from where on it says that it has failed.
constexpr double failsBelow = 3.6, rangeFrom = 3.8, rangeTo = 20.5, failsFrom = 21.0;

class CurrentLoop : public StageProcessor {
public:
    CurrentLoop(const Stage& s, const std::string& before)
        : low_(s.number("low")), perMilliampere_((s.number("high") - s.number("low")) / 16) {
        const auto current = convertUnit(before, "mA");
        toMilliamperes_ = current ? current->factor : convertUnit(before, "V")->factor * 1000 / s.number("shunt");
    }
    void run(Stretch& s) override {
        QualityMarker marker(s.quality);
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double ma = s.values[i] * toMilliamperes_;
            if (ma >= rangeFrom && ma <= rangeTo) {
                s.values[i] = low_ + (ma - 4) * perMilliampere_;
                continue;
            }
            const bool failed = ma <= failsBelow || ma >= failsFrom;
            if (!std::isnan(ma)) marker.mark(i, failed ? Quality::openSensor : Quality::outOfRange);
            s.values[i] = failed ? std::numeric_limits<double>::quiet_NaN() : low_ + (ma - 4) * perMilliampere_;
        }
    }

private:
    double low_, perMilliampere_, toMilliamperes_ = 0;
};

}  // namespace

/// The quantity of a transmitter on a loop of 4 to 20 mA, taken as a current or as the voltage over a resistor. Up to
/// 3.6 mA and from 21 mA on the transmitter says that it has failed (NAMUR NE 43), or the loop is open: there is no
/// reading, and its quality is that of an open sensor. From 3.6 to 3.8 and from 20.5 to 21 mA it is out of its range.
const StageKind& currentLoop() {
    static const StageKind kind{
        .key = "current-loop",
        .title = CRUSCOTTO_TEXT("Current loop"),
        .group = StageGroup::sensor,
        .fields = {{.key = "low", .title = CRUSCOTTO_TEXT("At 4 mA"), .needed = true},
                   {.key = "high", .title = CRUSCOTTO_TEXT("At 20 mA"), .first = 100.0, .needed = true},
                   unitField(),
                   {.key = "shunt",
                    .title = CRUSCOTTO_TEXT("Resistor"),
                    .first = 250.0,
                    .unit = "Ohm",
                    .low = 0,
                    .high = 1e6,
                    .aboveLow = true}},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("4 to 20 mA stand for {0} to {1} {2}; beyond 3.6 and 21 mA the transmitter "
                                           "has failed (NE 43)."),
                            number(s.number("low")), number(s.number("high")), unitText(s.text("unit")));
            },
        .make = [](const Stage& s, const std::string& before) -> MadeProcessor {
            return processor<CurrentLoop>(s, before);
        },
        .unitAfter = typedUnit,
        .check = [](const Stage& s, const std::string& before) -> Result<void> {
            if (!convertUnit(before, "mA") && !convertUnit(before, "V"))
                return failure("A current loop is read as a current or a voltage, and {0} comes in.", unitText(before));
            if (s.number("low") == s.number("high"))
                return failure("Both ends of the loop stand for {0}.", s.number("low"));
            return {};
        },
        .suits = isAnalogInput,
        .reach = [](const Stage& s, const std::optional<Scale>&) -> std::optional<Scale> {
            return Scale{std::min(s.number("low"), s.number("high")), std::max(s.number("low"), s.number("high"))};
        },
    };
    return kind;
}

}  // namespace cruscotto::stages
