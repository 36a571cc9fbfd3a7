#include "core/base/units.h"
#include "core/chain/stages/laws.h"
#include "core/chain/stages/list.h"

namespace cruscotto::stages {

/// y = k * sqrt(x), as the flow through an orifice from its differential pressure (ISO 5167-1); below the cut-off,
/// where noise would be taken for flow, 0.
const StageKind& squareRoot() {
    static const StageKind kind{
        .key = "square-root",
        .title = CRUSCOTTO_TEXT("Square root"),
        .group = StageGroup::law,
        .fields = {{.key = "k", .title = CRUSCOTTO_TEXT("k"), .first = 1.0, .needed = true},
                   {.key = "cut-off", .title = CRUSCOTTO_TEXT("Cut-off"), .first = 0.0, .low = 0},
                   unitField()},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("{0} times the square root; below {1} it reads 0."), number(s.number("k")),
                            number(s.number("cut-off")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return law([k = s.number("k"), least = s.number("cut-off")](double x) {
                return x <= least ? 0 : k * std::sqrt(x);
            });
        },
        .unitAfter = typedUnit,
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
