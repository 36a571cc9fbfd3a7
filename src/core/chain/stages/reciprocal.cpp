#include "core/base/units.h"
#include "core/chain/stages/laws.h"
#include "core/chain/stages/list.h"

namespace cruscotto::stages {

/// y = k / (x - x0) + y0, as of a distance sensor whose voltage falls with the distance; where x lies in [low, high],
/// outside of which such sensors fold back.
const StageKind& reciprocal() {
    static const StageKind kind{
        .key = "reciprocal",
        .title = CRUSCOTTO_TEXT("Reciprocal"),
        .group = StageGroup::law,
        .fields = {{.key = "k", .title = CRUSCOTTO_TEXT("k"), .first = 1.0, .needed = true},
                   {.key = "x0", .title = CRUSCOTTO_TEXT("x0"), .first = 0.0},
                   {.key = "y0", .title = CRUSCOTTO_TEXT("y0"), .first = 0.0},
                   {.key = "low", .title = CRUSCOTTO_TEXT("Holds from"), .first = 0.0},
                   {.key = "high", .title = CRUSCOTTO_TEXT("Holds to"), .first = 10.0},
                   unitField()},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("{0} over what comes in, where that lies from {1} to {2}; in {3}."),
                            number(s.number("k")), number(s.number("low")), number(s.number("high")),
                            unitText(s.text("unit")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return law([k = s.number("k"), x0 = s.number("x0"), y0 = s.number("y0"), low = s.number("low"),
                        high = s.number("high")](double x) {
                return x >= low && x <= high ? k / (x - x0) + y0 : std::numeric_limits<double>::quiet_NaN();
            });
        },
        .unitAfter = typedUnit,
        .check = [](const Stage& s, const std::string&) -> Result<void> {
            if (s.number("low") >= s.number("high"))
                return failure("The law must hold from less than where it ends; {0} to {1} does not.", s.number("low"),
                               s.number("high"));
            return {};
        },
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
