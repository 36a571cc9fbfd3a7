#include "core/base/units.h"
#include "core/chain/stages/laws.h"
#include "core/chain/stages/list.h"

namespace cruscotto::stages {

/// y = a0 + a1 x + a2 x^2 ... to the ninth degree.
const StageKind& polynomial() {
    static const StageKind kind{
        .key = "polynomial",
        .title = CRUSCOTTO_TEXT("Polynomial"),
        .group = StageGroup::law,
        .fields = {{.key = "coefficients",
                    .title = CRUSCOTTO_TEXT("Coefficients, a0 first"),
                    .type = StageField::Type::list,
                    .first = StageTable{{0}, {1}},
                    .needed = true,
                    .fewestRows = 1,
                    .mostRows = 10},
                   unitField()},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("A polynomial of degree {0}, in {1}."), s.table("coefficients").size() - 1,
                            s.text("unit") == "1" ? std::string("no unit") : unitText(s.text("unit")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            std::vector<double> c;
            for (const auto& row : s.table("coefficients")) c.push_back(row[0]);
            return law([c = std::move(c)](double x) {
                double y = 0;
                for (std::size_t i = c.size(); i-- > 0;) y = y * x + c[i];
                return y;
            });
        },
        .unitAfter = typedUnit,
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
