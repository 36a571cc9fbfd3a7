#include <cmath>

#include "core/base/units.h"
#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class Resistance : public StageProcessor {
public:
    Resistance(const Stage& s, const std::string& before)
        : toVolts_(convertUnit(before, "V")->factor),
          resistor_(s.number("resistor")),
          byCurrent_(s.text("circuit") == "current"),
          below_(s.text("circuit") == "below") {}
    void run(Stretch& s) override {
        QualityMarker marker(s.quality);
        const StageInput &current = s.inputs[0], &supply = s.inputs[1];
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double u = s.values[i] * toVolts_;
            const double all = supply[i];
            const double r = byCurrent_ ? u / (current[i] * 1e-3)
                             : below_   ? resistor_ * u / (all - u)
                                        : resistor_ * (all - u) / u;
            // The whole supply, or none of it, across what is measured: no current flows, or all of it does.
            const bool open = !byCurrent_ && (below_ ? u >= all : u <= 0);
            const bool fine = std::isfinite(r) && r >= 0 && !open;
            if (!fine && !std::isnan(u))
                marker.mark(i, open                                        ? Quality::openSensor
                               : std::isnan(byCurrent_ ? current[i] : all) ? Quality::suspect
                                                                           : Quality::outOfRange);
            s.values[i] = fine ? r : std::numeric_limits<double>::quiet_NaN();
        }
    }

private:
    double toVolts_, resistor_;
    bool byCurrent_, below_;
};

}  // namespace

/// The resistance of a sensor from a voltage: by the current through it (R = U / I), or from a divider with a known
/// resistor, where it lies below (between the terminal and ground) or above (between the supply and the terminal).
const StageKind& resistance() {
    static const StageKind kind{
        .key = "resistance",
        .title = CRUSCOTTO_TEXT("Resistance"),
        .group = StageGroup::sensor,
        .fields = {{.key = "circuit",
                    .title = CRUSCOTTO_TEXT("The sensor"),
                    .type = StageField::Type::choice,
                    .first = "current",
                    .choices = {{"current", CRUSCOTTO_TEXT("has a current through it")},
                                {"below", CRUSCOTTO_TEXT("lies below a resistor")},
                                {"above", CRUSCOTTO_TEXT("lies above a resistor")}}},
                   {.key = "current",
                    .title = CRUSCOTTO_TEXT("Current"),
                    .type = StageField::Type::source,
                    .first = StageSource{"", 1, "mA"},
                    .unit = "mA",
                    .low = 0,
                    .aboveLow = true,
                    .with = "circuit",
                    .withChoices = {"current"}},
                   {.key = "resistor",
                    .title = CRUSCOTTO_TEXT("Resistor"),
                    .first = 10000.0,
                    .unit = "Ohm",
                    .low = 0,
                    .high = 1e9,
                    .aboveLow = true,
                    .with = "circuit",
                    .withChoices = {"below", "above"}},
                   {.key = "supply",
                    .title = CRUSCOTTO_TEXT("Supply"),
                    .type = StageField::Type::source,
                    .first = StageSource{"", 5, "V"},
                    .unit = "V",
                    .low = 0,
                    .aboveLow = true,
                    .with = "circuit",
                    .withChoices = {"below", "above"}}},
        .sentence =
            [](const Stage& s) {
                const std::string& circuit = s.text("circuit");
                if (circuit == "current")
                    return Text(CRUSCOTTO_TEXT("The voltage over the current is the resistance."));
                return text(circuit == "below"
                                ? CRUSCOTTO_TEXT("What lies between the terminal and ground, below {0} Ω.")
                                : CRUSCOTTO_TEXT("What lies between the supply and the terminal, above {0} Ω."),
                            number(s.number("resistor")));
            },
        .make = [](const Stage& s, const std::string& before) -> MadeProcessor {
            return processor<Resistance>(s, before);
        },
        .takes = "V",
        .unitAfter = [](const Stage&, const std::string&) -> std::string { return "Ohm"; },
        .suits = isAnalogInput,
    };
    return kind;
}

}  // namespace cruscotto::stages
