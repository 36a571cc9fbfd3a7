#include "core/base/units.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

/// The same quantity in another unit.
const StageKind& otherUnit() {
    static const StageKind kind{
        .key = "convert-unit",
        .title = CRUSCOTTO_TEXT("Other unit"),
        .group = StageGroup::unit,
        .fields = {{.key = "unit",
                    .title = CRUSCOTTO_TEXT("Unit"),
                    .type = StageField::Type::likeUnit,
                    .first = "1",
                    .needed = true}},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("Says the same quantity in {0}."), unitText(s.text("unit")));
            },
        .make = [](const Stage& s, const std::string& before) -> MadeProcessor {
            const auto c = convertUnit(before, s.text("unit"));
            return processor<Line>(c->factor, c->offset);
        },
        .unitAfter = typedUnit,
        .check = [](const Stage& s, const std::string& before) -> Result<void> {
            if (!convertUnit(before, s.text("unit")))
                return failure("{0} cannot be said in {1}: they measure different things.", unitText(before),
                               unitText(s.text("unit")));
            return {};
        },
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
