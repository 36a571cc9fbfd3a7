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

std::optional<CarriedError> carriedAsRms(const StageMoment& m, double samples) {
    if (!(m.out > 0)) return {};
    const double steady = std::min(1.0, std::fabs(m.mean) / m.out);
    return CarriedError{.offset = std::copysign(steady, m.mean),
                        .gain = m.out,
                        .each = std::min(1.0, steady + 1 / std::sqrt(samples)),
                        .noise = 1,
                        .averaged = seconds(samples * m.interval.seconds())};
}

}  // namespace cruscotto::stages
