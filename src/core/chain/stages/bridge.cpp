#include <cmath>

#include "core/base/units.h"
#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class Bridge : public StageProcessor {
public:
    Bridge(const Stage& s, const std::string& before)
        : toMillivolts_(convertUnit(before, "mV")->factor),
          zero_(s.number("zero")),
          // Leads in series with the active gauge take their share of the strain away.
          leads_(1 + s.number("lead-resistance") / s.number("gauge-resistance")),
          gaugeFactor_(s.number("gauge-factor")),
          perMillivoltPerVolt_(s.number("capacity") / s.number("sensitivity")),
          strain_(s.text("reads") == "strain"),
          arms_(s.text("arms") == "quarter" ? 1
                : s.text("arms") == "half"  ? 2
                                            : 4) {}
    void run(Stretch& s) override {
        QualityMarker marker(s.quality);
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double excitation = s.inputs[0][i];
            const double ratio = s.values[i] * toMillivolts_ / excitation - zero_;  // mV/V
            const double y = strain_ ? strainOf(ratio * 1e-3) * 1e6 : ratio * perMillivoltPerVolt_;
            const bool fine = excitation > 0 && std::isfinite(y);
            if (!fine && !std::isnan(s.values[i])) marker.mark(i, Quality::suspect);
            s.values[i] = fine ? y : std::numeric_limits<double>::quiet_NaN();
        }
    }

private:
    /// Of one active arm the bridge is not linear: U/Ue = k e / (4 + 2 k e); of two opposite in sign, and of four, it
    /// is.
    [[nodiscard]] double strainOf(double ratio) const {
        const double change = arms_ == 1 ? 4 * ratio / (1 - 2 * ratio) : 4 * ratio / arms_;
        return change / gaugeFactor_ * (arms_ == 4 ? 1 : leads_);
    }

    double toMillivolts_, zero_, leads_, gaugeFactor_, perMillivoltPerVolt_;
    bool strain_;
    double arms_;
};

}  // namespace

/// A bridge of strain gauges: its output over its excitation, fixed or measured, less what it gives without a load; as
/// strain by the gauge factor (quarter, half with two arms of opposite sign, full), or as the load of a sensor by its
/// sensitivity in mV/V.
const StageKind& bridge() {
    static const StageKind kind{
        .key = "bridge",
        .title = CRUSCOTTO_TEXT("Bridge"),
        .group = StageGroup::sensor,
        .fields =
            {{.key = "reads",
              .title = CRUSCOTTO_TEXT("Reads as"),
              .type = StageField::Type::choice,
              .first = "load",
              .choices = {{"load", CRUSCOTTO_TEXT("load")}, {"strain", CRUSCOTTO_TEXT("strain")}}},
             {.key = "excitation",
              .title = CRUSCOTTO_TEXT("Excitation"),
              .type = StageField::Type::source,
              .first = StageSource{"", 5, "V"},
              .unit = "V",
              .low = 0,
              .aboveLow = true},
             {.key = "zero", .title = CRUSCOTTO_TEXT("Without a load, mV/V"), .first = 0.0, .low = -1000, .high = 1000},
             {.key = "sensitivity",
              .title = CRUSCOTTO_TEXT("Sensitivity, mV/V"),
              .first = 2.0,
              .low = 0,
              .high = 1000,
              .aboveLow = true,
              .with = "reads",
              .withChoices = {"load"}},
             {.key = "capacity",
              .title = CRUSCOTTO_TEXT("At a load of"),
              .first = 50.0,
              .with = "reads",
              .withChoices = {"load"}},
             {.key = "unit",
              .title = CRUSCOTTO_TEXT("Unit"),
              .type = StageField::Type::unit,
              .first = "kg",
              .with = "reads",
              .withChoices = {"load"}},
             {.key = "arms",
              .title = CRUSCOTTO_TEXT("Active arms"),
              .type = StageField::Type::choice,
              .first = "full",
              .choices = {{"quarter", CRUSCOTTO_TEXT("one of four")},
                          {"half", CRUSCOTTO_TEXT("two of four")},
                          {"full", CRUSCOTTO_TEXT("all four")}},
              .with = "reads",
              .withChoices = {"strain"}},
             {.key = "gauge-factor",
              .title = CRUSCOTTO_TEXT("Gauge factor"),
              .first = 2.0,
              .low = 0,
              .high = 1000,
              .aboveLow = true,
              .with = "reads",
              .withChoices = {"strain"}},
             {.key = "gauge-resistance",
              .title = CRUSCOTTO_TEXT("Gauge"),
              .first = 350.0,
              .unit = "Ohm",
              .low = 0,
              .high = 1e6,
              .aboveLow = true,
              .with = "reads",
              .withChoices = {"strain"}},
             {.key = "lead-resistance",
              .title = CRUSCOTTO_TEXT("Leads to it"),
              .first = 0.0,
              .unit = "Ohm",
              .low = 0,
              .high = 1e4,
              .with = "reads",
              .withChoices = {"strain"}}},
        .sentence =
            [](const Stage& s) {
                if (s.text("reads") == "strain")
                    return text(CRUSCOTTO_TEXT("Strain of gauges with a factor of {0}, from the bridge's share of its "
                                               "excitation."),
                                number(s.number("gauge-factor")));
                return text(CRUSCOTTO_TEXT("{0} mV for each volt of excitation stand for {1} {2}."),
                            number(s.number("sensitivity")), number(s.number("capacity")), unitText(s.text("unit")));
            },
        .make = [](const Stage& s, const std::string& before) -> MadeProcessor { return processor<Bridge>(s, before); },
        .takes = "V",
        .unitAfter = [](const Stage& s, const std::string&) -> std::string {
            return s.text("reads") == "strain" ? "um/m" : s.text("unit");
        },
        .suits = isAnalogInput,
    };
    return kind;
}

}  // namespace cruscotto::stages
