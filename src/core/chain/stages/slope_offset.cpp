#include "core/base/units.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

/// y = slope * x + offset.
const StageKind& slopeOffset() {
    static const StageKind kind{
        .key = "slope-offset",
        .title = CRUSCOTTO_TEXT("Slope and offset"),
        .group = StageGroup::law,
        .fields = {{.key = "slope", .title = CRUSCOTTO_TEXT("Slope"), .first = 1.0, .needed = true},
                   {.key = "offset", .title = CRUSCOTTO_TEXT("Offset")},
                   unitField()},
        .sentence =
            [](const Stage& s) {
                const std::string& unit = s.text("unit");
                return text(CRUSCOTTO_TEXT("Times {0}, plus {1}, gives {2}."), number(s.number("slope")),
                            number(s.number("offset")), unit == "1" ? std::string("the reading") : unitText(unit));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Line>(s.number("slope"), s.number("offset"));
        },
        .unitAfter = typedUnit,
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
