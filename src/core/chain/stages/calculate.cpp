#include <muParser.h>

#include <cmath>
#include <set>

#include "core/base/units.h"
#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

constexpr std::size_t longestFormula = 1000;

/// A formula over named quantities. The parser keeps the addresses of the values.
struct Calculation {
    std::vector<double> values;
    mu::Parser parser;

    static Result<std::unique_ptr<Calculation>> make(const Stage& s) {
        const std::string& formula = s.text("formula");
        if (formula.size() > longestFormula)
            return failure("The formula is longer than {0} characters. Split it or use a shorter one.", longestFormula);
        const auto& sources = s.sources("of");
        auto out = std::make_unique<Calculation>();
        out->values.assign(sources.size(), 1);
        std::set<std::string> names;
        for (std::size_t k = 0; k < sources.size(); ++k) {
            if (sources[k].name.empty())
                return failure("Each signal of a formula needs a name; number {0} has none.", k + 1);
            if (!names.insert(sources[k].name).second)
                return failure("Two signals of the formula are called {0}.", sources[k].name);
            try {
                out->parser.DefineVar(sources[k].name, &out->values[k]);
            } catch (const mu::ParserError&) {
                return failure("A formula cannot call a signal \"{0}\": letters, digits and _ can be used.",
                               sources[k].name);
            }
        }
        try {
            out->parser.SetExpr(formula);
            out->parser.Eval();
        } catch (const mu::ParserError& e) {
            return failure("The formula does not read: {0} Use the names of the signals, as in (P2-P1)*Q1.",
                           e.GetMsg());
        }
        return out;
    }
    double result() {
        try {
            const double y = parser.Eval();
            return std::isfinite(y) ? y : std::nan("");
        } catch (const mu::ParserError&) {
            return std::nan("");
        }
    }
};

/// The unit that comes of those of the sources, found by scaling: where all quantities in one unit grow by a factor and
/// the outcome grows by a whole power of it, that is the unit's power. Nothing where it is no such formula: numbers in
/// it have units of their own.
std::optional<std::string> unitFound(const Stage& s) {
    auto made = Calculation::make(s);
    if (!made) return std::nullopt;
    Calculation& c = *made.value();
    const auto& sources = s.sources("of");
    std::vector<std::string> units;
    for (const StageSource& source : sources)
        if (source.unit != "1" && std::ranges::find(units, source.unit) == units.end()) units.push_back(source.unit);
    std::vector<UnitPower> powers;
    constexpr double grown = 2;
    for (const std::string& unit : units) {
        std::optional<double> power;
        for (const double start : {1.37, 2.91, 5.23}) {
            const auto at = [&](double by) {
                for (std::size_t k = 0; k < sources.size(); ++k)
                    c.values[k] = (start + 0.71 * static_cast<double>(k)) * (sources[k].unit == unit ? by : 1);
                return c.result();
            };
            const double ratio = at(grown) / at(1);
            const double found = std::log2(ratio);
            if (!std::isfinite(found) || std::fabs(found - std::round(found)) > 1e-9 ||
                (power && std::round(found) != *power))
                return std::nullopt;
            power = std::round(found);
        }
        if (*power != 0) powers.push_back({unit, static_cast<int>(*power)});
    }
    if (powers.size() == 1 && powers[0].power == 1) return powers[0].unit;
    const UnitProduct product = unitProduct(powers);
    // A number of its own would be needed, which the formula has not.
    return std::fabs(product.factor - 1) < 1e-12 ? std::optional(product.unit) : std::nullopt;
}

std::string calculatedUnit(const Stage& s) {
    if (!s.text("unit").empty()) return s.text("unit");
    return unitFound(s).value_or("1");
}

class Calculate : public StageProcessor {
public:
    explicit Calculate(std::unique_ptr<Calculation> c) : c_(std::move(c)) {}
    void run(Stretch& s) override {
        QualityMarker marker(s.quality);
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            bool known = true;
            for (std::size_t k = 0; k < c_->values.size(); ++k) {
                c_->values[k] = s.inputs[k][i];
                known = known && std::isfinite(c_->values[k]);
            }
            s.values[i] = known ? c_->result() : std::nan("");
            if (known && std::isnan(s.values[i])) marker.mark(i, Quality::outOfRange);
        }
    }

private:
    std::unique_ptr<Calculation> c_;
};

}  // namespace

/// A formula, as muParser reads it, over several signals, each by its name and as a number in the unit that stands
/// beside it. The unit of the outcome is found from theirs where it can be, else it is typed.
const StageKind& calculate() {
    static const StageKind kind{
        .key = "calculate",
        .title = CRUSCOTTO_TEXT("Formula over signals"),
        .group = StageGroup::computation,
        .fields = {{.key = "formula",
                    .title = CRUSCOTTO_TEXT("Formula"),
                    .type = StageField::Type::formula,
                    .first = "a",
                    .needed = true},
                   {.key = "of",
                    .title = CRUSCOTTO_TEXT("Over"),
                    .type = StageField::Type::sources,
                    .first = StageSources{{"", 0, "1", "a"}},
                    .needed = true,
                    .fewestRows = 1,
                    .mostRows = 32},
                   {.key = "unit", .title = CRUSCOTTO_TEXT("Unit"), .type = StageField::Type::unit, .first = ""}},
        .sentence =
            [](const Stage& s) {
                const bool typed = !s.text("unit").empty();
                const std::string unit = unitText(calculatedUnit(s));
                if (typed || unitFound(s))
                    return text(CRUSCOTTO_TEXT("A formula over {0} signals, in {1}."), s.sources("of").size(),
                                unit.empty() ? std::string("no unit") : unit);
                return text(
                    CRUSCOTTO_TEXT("A formula over {0} signals. What unit comes of it cannot be told: type it."),
                    s.sources("of").size());
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            auto made = Calculation::make(s);
            if (!made) return made.error();
            return processor<Calculate>(std::move(made.value()));
        },
        .unitAfter = [](const Stage& s, const std::string&) { return calculatedUnit(s); },
        .check = [](const Stage& s, const std::string&) -> Result<void> {
            if (auto made = Calculation::make(s); !made) return made.error();
            const auto found = s.text("unit").empty() ? std::nullopt : unitFound(s);
            if (found && !convertUnit(*found, s.text("unit")) && !compatibleUnits(*found).empty())
                return failure("The formula gives {0}; {1} is another kind of quantity.", unitText(*found),
                               unitText(s.text("unit")));
            return {};
        },
        .suits = isComputed,
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> { return std::nullopt; },
    };
    return kind;
}

}  // namespace cruscotto::stages
