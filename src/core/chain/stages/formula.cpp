#include <muParser.h>

#include <cmath>

#include "core/base/units.h"
#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

constexpr std::size_t longestFormula = 1000;

Result<std::unique_ptr<mu::Parser>> parse(const std::string& formula, double* x) {
    if (formula.size() > longestFormula)
        return failure("The formula is longer than {0} characters. Split it or use a shorter one.", longestFormula);
    try {
        auto parser = std::make_unique<mu::Parser>();
        parser->DefineVar("x", x);
        parser->SetExpr(formula);
        *x = 1;
        parser->Eval();
        return parser;
    } catch (const mu::ParserError& e) {
        return failure("The formula does not read: {0} Use x for the incoming value, as in 2.5*x+1.", e.GetMsg());
    }
}

class FormulaProcessor : public StageProcessor {
public:
    /// The parser keeps the address of x.
    FormulaProcessor(std::unique_ptr<double> x, std::unique_ptr<mu::Parser> parser)
        : x_(std::move(x)), parser_(std::move(parser)) {}
    void run(Stretch& s) override {
        QualityMarker marker(s.quality);
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            double y = std::numeric_limits<double>::quiet_NaN();
            if (std::isfinite(s.values[i])) {
                y = at(s.values[i]);
                if (std::isnan(y)) marker.mark(i, Quality::outOfRange);
            }
            s.values[i] = y;
        }
    }

private:
    double at(double x) {
        *x_ = x;
        try {
            const double y = parser_->Eval();
            return std::isfinite(y) ? y : std::numeric_limits<double>::quiet_NaN();
        } catch (const mu::ParserError&) {
            return std::numeric_limits<double>::quiet_NaN();
        }
    }
    std::unique_ptr<double> x_;
    std::unique_ptr<mu::Parser> parser_;
};

}  // namespace

/// A formula over x, as muParser reads it. Where it gives no finite number the reading is marked out of range.
const StageKind& formula() {
    static const StageKind kind{
        .key = "formula",
        .title = CRUSCOTTO_TEXT("Formula"),
        .group = StageGroup::law,
        .fields = {{.key = "formula",
                    .title = CRUSCOTTO_TEXT("Formula over x"),
                    .type = StageField::Type::formula,
                    .first = "x",
                    .needed = true},
                   unitField()},
        .sentence =
            [](const Stage& s) {
                const std::string& unit = s.text("unit");
                return text(CRUSCOTTO_TEXT("Works out a formula over x, the value from the stage above, in {0}."),
                            unit == "1" ? std::string("no unit") : unitText(unit));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            auto x = std::make_unique<double>(0);
            auto parser = parse(s.text("formula"), x.get());
            if (!parser) return parser.error();
            return processor<FormulaProcessor>(std::move(x), std::move(parser.value()));
        },
        .unitAfter = typedUnit,
        .check = [](const Stage& s, const std::string&) -> Result<void> {
            double x = 0;
            if (auto parser = parse(s.text("formula"), &x); !parser) return parser.error();
            return {};
        },
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
