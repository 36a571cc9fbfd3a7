#include <cmath>

#include "core/base/units.h"
#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"
#include "core/chain/stages/tolerance.h"

namespace cruscotto::stages {

namespace {

class ResistanceThermometer : public StageProcessor {
public:
    ResistanceThermometer(const Stage& s, const std::string& before)
        : toOhm_(convertUnit(before, "Ohm")->factor),
          r0_(s.number("r0")),
          a_(s.number("a")),
          b_(s.number("b")),
          c_(s.number("c")),
          nickel_(s.text("element") == "nickel") {
        const std::string& wires = s.text("wires");
        leads_ = (wires == "2" ? 2 : wires == "3" ? 1 : 0) * s.number("lead-resistance");
        range_ = nickel_ ? Scale{-60, 250} : Scale{-200, 850};
        constexpr double rounding = 0.1;  // degC: tables, and what is made of them, are rounded at the ends too
        lowest_ = ratio(range_.low - rounding);
        highest_ = ratio(range_.high + rounding);
    }
    void run(Stretch& s) override {
        QualityMarker marker(s.quality);
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double r = (s.values[i] * toOhm_ - leads_) / r0_;
            if (r >= lowest_ && r <= highest_) {
                s.values[i] = celsius(r);
            } else {
                // Next to no resistance is a short circuit, far too much a broken wire.
                if (!std::isnan(r)) marker.mark(i, r > 2 * highest_ ? Quality::openSensor : Quality::outOfRange);
                s.values[i] = std::numeric_limits<double>::quiet_NaN();
            }
        }
    }

private:
    /// Resistance over that at 0 degC.
    [[nodiscard]] double ratio(double t) const {
        if (nickel_) return 1 + t * (5.485e-3 + t * (6.65e-6 + t * t * (2.805e-11 - 2e-17 * t * t)));
        return 1 + t * (a_ + t * b_) + (t < 0 ? c_ * (t - 100) * t * t * t : 0);
    }
    [[nodiscard]] double slope(double t) const {
        if (nickel_) return 5.485e-3 + t * (13.3e-6 + t * t * (11.22e-11 - 12e-17 * t * t));
        return a_ + 2 * b_ * t + (t < 0 ? c_ * (4 * t - 300) * t * t : 0);
    }
    [[nodiscard]] double celsius(double r) const {
        // Above 0 degC platinum is a quadratic equation; below, and for nickel, that is where Newton's method begins.
        const double a = nickel_ ? 5.485e-3 : a_, b = nickel_ ? 6.65e-6 : b_;
        double t = b == 0 ? (r - 1) / a : (std::sqrt(a * a - 4 * b * (1 - r)) - a) / (2 * b);
        if (!nickel_ && r >= 1) return t;
        for (int i = 0; i < 3; ++i) t -= (ratio(t) - r) / slope(t);
        return t;
    }

    double toOhm_, r0_, a_, b_, c_, leads_ = 0;
    bool nickel_;
    Scale range_;
    double lowest_ = 0, highest_ = 0;
};

}  // namespace

/// The temperature of a resistance thermometer from its resistance: IEC 60751:2022, 5.2 (Callendar and Van Dusen) with
/// the standard's or an individual element's coefficients, -200 to 850 degC; or nickel with 6180 ppm/K (DIN 43760),
/// -60 to 250 degC. Takes ohms; of two wires both leads are taken off, of three one, of four none.
const StageKind& resistanceThermometer() {
    static const StageKind kind{
        .key = "resistance-thermometer",
        .title = CRUSCOTTO_TEXT("Resistance thermometer"),
        .group = StageGroup::sensor,
        .fields =
            {{.key = "element",
              .title = CRUSCOTTO_TEXT("Element"),
              .type = StageField::Type::choice,
              .first = "platinum",
              .choices = {{"platinum", CRUSCOTTO_TEXT("platinum")}, {"nickel", CRUSCOTTO_TEXT("nickel")}}},
             {.key = "r0",
              .title = CRUSCOTTO_TEXT("At 0 °C"),
              .first = 100.0,
              .unit = "Ohm",
              .low = 0,
              .high = 1e6,
              .aboveLow = true},
             {.key = "wires",
              .title = CRUSCOTTO_TEXT("Wires"),
              .type = StageField::Type::choice,
              .first = "4",
              .choices = {{"2", CRUSCOTTO_TEXT("two")}, {"3", CRUSCOTTO_TEXT("three")}, {"4", CRUSCOTTO_TEXT("four")}}},
             {.key = "lead-resistance",
              .title = CRUSCOTTO_TEXT("Each lead"),
              .first = 0.0,
              .unit = "Ohm",
              .low = 0,
              .high = 1e4,
              .with = "wires",
              .withChoices = {"2", "3"}},
             {.key = "a",
              .title = CRUSCOTTO_TEXT("A"),
              .first = 3.9083e-3,
              .low = 1e-4,
              .high = 0.1,
              .with = "element",
              .withChoices = {"platinum"}},
             {.key = "b",
              .title = CRUSCOTTO_TEXT("B"),
              .first = -5.775e-7,
              .low = -1e-6,
              .high = 1e-6,
              .with = "element",
              .withChoices = {"platinum"}},
             {.key = "c",
              .title = CRUSCOTTO_TEXT("C"),
              .first = -4.183e-12,
              .low = -1e-11,
              .high = 1e-11,
              .with = "element",
              .withChoices = {"platinum"}},
             {.key = "tolerance",
              .title = CRUSCOTTO_TEXT("Class (IEC 60751)"),
              .type = StageField::Type::choice,
              .first = "none",
              .choices = {{"none", CRUSCOTTO_TEXT("not given")},
                          {"AA", CRUSCOTTO_TEXT("AA")},
                          {"A", CRUSCOTTO_TEXT("A")},
                          {"B", CRUSCOTTO_TEXT("B")},
                          {"C", CRUSCOTTO_TEXT("C")}},
              .with = "element",
              .withChoices = {"platinum"},
              .quiet = true}},
        .sentence =
            [](const Stage& s) {
                return s.text("element") == "nickel"
                           ? text(CRUSCOTTO_TEXT("Nickel with {0} Ω at 0 °C (DIN 43760), from −60 to 250 °C."),
                                  number(s.number("r0")))
                           : text(CRUSCOTTO_TEXT("Platinum with {0} Ω at 0 °C after IEC 60751, from −200 to 850 °C."),
                                  number(s.number("r0")));
            },
        .make = [](const Stage& s, const std::string& before) -> MadeProcessor {
            return processor<ResistanceThermometer>(s, before);
        },
        .takes = "Ohm",
        .unitAfter = [](const Stage&, const std::string&) -> std::string { return "Cel"; },
        .suits = isAnalogInput,
        .contributions = [](const Stage& s, double, double degrees) -> std::vector<UncertaintyContribution> {
            const std::string sensor = s.text("element") == "platinum" ? "Pt" : "";
            const auto limit = toleranceOf(sensor, s.text("tolerance"), degrees);
            if (!limit) return {};
            return {{text(CRUSCOTTO_TEXT("the sensor's tolerance, {0} class {1}"), sensor, s.text("tolerance")),
                     *limit / std::sqrt(3.0)}};
        },
    };
    return kind;
}

}  // namespace cruscotto::stages
