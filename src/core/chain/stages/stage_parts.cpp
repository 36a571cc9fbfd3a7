#include "core/chain/stages/stage_parts.h"

#include <cmath>

#include "core/base/number_text.h"

namespace cruscotto::stages {

std::string number(double v) {
    return (v < 0 ? "\u2212" : "") + shortNumber(std::fabs(v));
}

StageField unitField() {
    return {.key = "unit", .title = CRUSCOTTO_TEXT("Unit"), .type = StageField::Type::unit, .first = "1"};
}

StageField resetField() {
    return {.key = "resets",
            .title = CRUSCOTTO_TEXT("Set to 0"),
            .type = StageField::Type::resets,
            .first = 0.0,
            .low = 0,
            .high = 1e9};
}

}  // namespace cruscotto::stages
