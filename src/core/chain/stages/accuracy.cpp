#include <cmath>

#include "core/base/units.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

/// How far off it may be, at this value.
double limit(const Stage& s, double at) {
    return std::fabs(at) * s.number("of-reading") / 100 +
           std::fabs(s.number("full-scale")) * s.number("of-full-scale") / 100 + s.number("plus-minus");
}

}  // namespace

/// What a maker says of an instrument or a sensor, at this place of the chain: it changes no reading, and is part of
/// the uncertainty (GUM 4.3.7: limits of error are taken as equally likely in between, their half width over the root
/// of 3).
const StageKind& accuracy() {
    static const StageKind kind{
        .key = "accuracy",
        .title = CRUSCOTTO_TEXT("Accuracy, as its maker says"),
        .group = StageGroup::unit,
        .fields =
            {{.key = "of-reading",
              .title = CRUSCOTTO_TEXT("Of the reading"),
              .first = 0.1,
              .unit = "%",
              .low = 0,
              .high = 100},
             {.key = "of-full-scale", .title = CRUSCOTTO_TEXT("Of full scale"), .unit = "%", .low = 0, .high = 100},
             {.key = "full-scale", .title = CRUSCOTTO_TEXT("Full scale")},
             {.key = "plus-minus", .title = CRUSCOTTO_TEXT("And ±"), .low = 0},
             {.key = "meaning",
              .title = CRUSCOTTO_TEXT("That is"),
              .type = StageField::Type::choice,
              .first = "limits",
              .choices = {{"limits", CRUSCOTTO_TEXT("limits of error")},
                          {"standard", CRUSCOTTO_TEXT("standard uncertainty")},
                          {"expanded", CRUSCOTTO_TEXT("expanded, k = 2")}}},
             {.key = "note", .title = CRUSCOTTO_TEXT("Note"), .type = StageField::Type::note, .first = ""}},
        .sentence =
            [](const Stage& s) {
                std::string words;
                const auto add = [&](const std::string& part) { words += (words.empty() ? "" : " and ") + part; };
                if (s.number("of-reading") > 0) add(number(s.number("of-reading")) + " % of the reading");
                if (s.number("of-full-scale") > 0)
                    add(number(s.number("of-full-scale")) + " % of " + number(s.number("full-scale")));
                if (s.number("plus-minus") > 0) add(number(s.number("plus-minus")));
                return words.empty()
                           ? Text(CRUSCOTTO_TEXT("Taken as exact."))
                           : text(CRUSCOTTO_TEXT("Off by {0} at most, as its maker says; the reading stays."), words);
            },
        .make = [](const Stage&, const std::string&) -> MadeProcessor { return processor<Line>(1, 0); },
        .suits = isAnalog,
        .contributions = [](const Stage& s, double in, double) -> std::vector<UncertaintyContribution> {
            const std::string& meaning = s.text("meaning");
            const double share = meaning == "standard" ? 1 : meaning == "expanded" ? 0.5 : 1 / std::sqrt(3.0);
            const double u = limit(s, in) * share;
            if (!(u > 0)) return {};
            const std::string& note = s.text("note");
            return {{note.empty() ? Text(CRUSCOTTO_TEXT("accuracy, as its maker says"))
                                  : text(CRUSCOTTO_TEXT("accuracy of {0}"), note),
                     u}};
        },
    };
    return kind;
}

}  // namespace cruscotto::stages
