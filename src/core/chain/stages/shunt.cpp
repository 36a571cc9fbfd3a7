#include "core/base/units.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

/// The current through a resistor from the voltage over it: I = U / R.
const StageKind& shunt() {
    static const StageKind kind{
        .key = "shunt",
        .title = CRUSCOTTO_TEXT("Shunt"),
        .group = StageGroup::sensor,
        .fields = {{.key = "resistance",
                    .title = CRUSCOTTO_TEXT("Resistance"),
                    .first = 0.1,
                    .needed = true,
                    .unit = "Ohm",
                    .low = 0,
                    .high = 1e9,
                    .aboveLow = true}},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("The current that gives this voltage over {0} Ω."),
                            number(s.number("resistance")));
            },
        .make = [](const Stage& s, const std::string& before) -> MadeProcessor {
            return processor<Line>(convertUnit(before, "V")->factor / s.number("resistance"), 0);
        },
        .takes = "V",
        .unitAfter = [](const Stage&, const std::string&) -> std::string { return "A"; },
        .suits = isAnalogInput,
    };
    return kind;
}

}  // namespace cruscotto::stages
