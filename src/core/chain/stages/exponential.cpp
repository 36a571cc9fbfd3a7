#include "core/base/units.h"
#include "core/chain/stages/laws.h"
#include "core/chain/stages/list.h"

namespace cruscotto::stages {

/// y = a * exp(b * x) + c.
const StageKind& exponential() {
    static const StageKind kind{
        .key = "exponential",
        .title = CRUSCOTTO_TEXT("Exponential"),
        .group = StageGroup::law,
        .fields = {{.key = "a", .title = CRUSCOTTO_TEXT("a"), .first = 1.0, .needed = true},
                   {.key = "b", .title = CRUSCOTTO_TEXT("b"), .first = 1.0, .needed = true},
                   {.key = "c", .title = CRUSCOTTO_TEXT("c"), .first = 0.0},
                   unitField()},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("{0} times e to the power of {1} x, plus {2}."), number(s.number("a")),
                            number(s.number("b")), number(s.number("c")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return law([a = s.number("a"), b = s.number("b"), c = s.number("c")](double x) {
                return a * std::exp(b * x) + c;
            });
        },
        .unitAfter = typedUnit,
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
