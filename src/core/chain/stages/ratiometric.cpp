#include <cmath>

#include "core/base/units.h"
#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class Ratiometric : public StageProcessor {
public:
    Ratiometric(const Stage& s, const std::string& before)
        : toVolts_(convertUnit(before, "V")->factor),
          from_(s.number("from")),
          low_(s.number("low")),
          slope_((s.number("high") - s.number("low")) / (s.number("to") - s.number("from"))) {}
    void run(Stretch& s) override {
        QualityMarker marker(s.quality);
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double supply = s.inputs[0][i];
            const bool fine = supply > 0;
            if (!fine && !std::isnan(s.values[i])) marker.mark(i, Quality::suspect);
            const double percent = 100 * s.values[i] * toVolts_ / supply;
            s.values[i] = fine ? low_ + (percent - from_) * slope_ : std::numeric_limits<double>::quiet_NaN();
        }
    }

private:
    double toVolts_, from_, low_, slope_;
};

}  // namespace

/// A sensor whose output is a share of its supply, as a potentiometer's or a pressure sensor's with 10 to 90 % of it:
/// what sags with the supply cancels out.
const StageKind& ratiometric() {
    static const StageKind kind{
        .key = "ratiometric",
        .title = CRUSCOTTO_TEXT("Share of the supply"),
        .group = StageGroup::sensor,
        .fields =
            {{.key = "supply",
              .title = CRUSCOTTO_TEXT("Supply"),
              .type = StageField::Type::source,
              .first = StageSource{"", 5, "V"},
              .unit = "V",
              .low = 0,
              .aboveLow = true},
             {.key = "from", .title = CRUSCOTTO_TEXT("From"), .unit = "%", .low = -1000, .high = 1000},
             {.key = "to", .title = CRUSCOTTO_TEXT("To"), .first = 100.0, .unit = "%", .low = -1000, .high = 1000},
             {.key = "low", .title = CRUSCOTTO_TEXT("Is then"), .needed = true},
             {.key = "high", .title = CRUSCOTTO_TEXT("And then"), .first = 100.0, .needed = true},
             unitField()},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("{0} to {1} % of the supply stand for {2} to {3} {4}."),
                            number(s.number("from")), number(s.number("to")), number(s.number("low")),
                            number(s.number("high")), unitText(s.text("unit")));
            },
        .make = [](const Stage& s, const std::string& before) -> MadeProcessor {
            return processor<Ratiometric>(s, before);
        },
        .takes = "V",
        .unitAfter = typedUnit,
        .check = [](const Stage& s, const std::string&) -> Result<void> {
            if (s.number("from") == s.number("to"))
                return failure("Both ends lie at {0} % of the supply.", s.number("from"));
            return {};
        },
        .suits = isAnalogInput,
    };
    return kind;
}

}  // namespace cruscotto::stages
