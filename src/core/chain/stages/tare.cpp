#include <cmath>

#include "core/base/units.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

/// What it reads now is taken as zero (tare), and can be taken back.
const StageKind& tare() {
    static const StageKind kind{
        .key = "tare",
        .title = CRUSCOTTO_TEXT("Zero here"),
        .group = StageGroup::unit,
        .fields = {{.key = "zero", .title = CRUSCOTTO_TEXT("Counts as 0"), .first = 0.0},
                   {.key = "note", .title = CRUSCOTTO_TEXT("Note"), .type = StageField::Type::note, .first = ""}},
        .sentence =
            [](const Stage& s) {
                return s.number("zero") == 0
                           ? Text(CRUSCOTTO_TEXT("Nothing is taken off."))
                           : text(CRUSCOTTO_TEXT("{0} is taken off all readings."), number(s.number("zero")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Line>(1, -s.number("zero"));
        },
        .suits = isAnalog,
        .captures = {{CRUSCOTTO_TEXT("Zero it now"), "zero", "", "note"}},
    };
    return kind;
}

}  // namespace cruscotto::stages
