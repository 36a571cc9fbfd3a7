#include "core/base/units.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

/// The straight line through two points, of which x is what comes in and y what it is in truth: typed, or captured from
/// the live signal.
const StageKind& twoPoints() {
    static const StageKind kind{
        .key = "two-points",
        .title = CRUSCOTTO_TEXT("Two points"),
        .group = StageGroup::law,
        .fields = {{.key = "x1", .title = CRUSCOTTO_TEXT("Point 1: in"), .needed = true},
                   {.key = "y1", .title = CRUSCOTTO_TEXT("Point 1: is"), .needed = true},
                   {.key = "x2", .title = CRUSCOTTO_TEXT("Point 2: in"), .first = 1.0, .needed = true},
                   {.key = "y2", .title = CRUSCOTTO_TEXT("Point 2: is"), .first = 1.0, .needed = true},
                   unitField(),
                   {.key = "note",
                    .title = CRUSCOTTO_TEXT("Date and reference"),
                    .type = StageField::Type::note,
                    .first = ""}},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("The line through {0} → {1} and {2} → {3} {4}."), number(s.number("x1")),
                            number(s.number("y1")), number(s.number("x2")), number(s.number("y2")),
                            unitText(s.text("unit")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            const double slope = (s.number("y2") - s.number("y1")) / (s.number("x2") - s.number("x1"));
            return processor<Line>(slope, s.number("y1") - slope * s.number("x1"));
        },
        .unitAfter = typedUnit,
        .check = [](const Stage& s, const std::string&) -> Result<void> {
            if (s.number("x1") == s.number("x2"))
                return failure("Both points stand at {0}: move the signal before the second one is captured.",
                               s.number("x1"));
            return {};
        },
        .suits = isAnalog,
        .captures = {{CRUSCOTTO_TEXT("Capture point 1"), "x1", "y1", "note"},
                     {CRUSCOTTO_TEXT("Capture point 2"), "x2", "y2", "note"}},
    };
    return kind;
}

}  // namespace cruscotto::stages
