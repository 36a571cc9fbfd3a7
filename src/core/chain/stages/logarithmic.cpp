#include "core/base/units.h"
#include "core/chain/stages/laws.h"
#include "core/chain/stages/list.h"

namespace cruscotto::stages {

/// y = a * ln(x) + b; of what is not more than 0 there is no reading.
const StageKind& logarithmic() {
    static const StageKind kind{
        .key = "logarithmic",
        .title = CRUSCOTTO_TEXT("Logarithm"),
        .group = StageGroup::law,
        .fields = {{.key = "a", .title = CRUSCOTTO_TEXT("a"), .first = 1.0, .needed = true},
                   {.key = "b", .title = CRUSCOTTO_TEXT("b"), .first = 0.0},
                   unitField()},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("{0} times the natural logarithm, plus {1}."), number(s.number("a")),
                            number(s.number("b")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return law([a = s.number("a"), b = s.number("b")](double x) {
                return x > 0 ? a * std::log(x) + b : std::numeric_limits<double>::quiet_NaN();
            });
        },
        .unitAfter = typedUnit,
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
