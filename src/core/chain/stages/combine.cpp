#include <algorithm>
#include <cmath>

#include "core/base/units.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

enum class How { sum, difference, product, ratio, mean, least, greatest };
constexpr std::pair<const char*, How> hows[] = {
    {"sum", How::sum},   {"difference", How::difference}, {"product", How::product},  {"ratio", How::ratio},
    {"mean", How::mean}, {"least", How::least},           {"greatest", How::greatest}};

How howOf(const Stage& s) {
    for (const auto& [key, how] : hows)
        if (s.text("how") == key) return how;
    return How::sum;
}
bool multiplies(How how) {
    return how == How::product || how == How::ratio;
}
UnitProduct productOf(const Stage& s) {
    std::vector<UnitPower> powers;
    for (const StageSource& source : s.sources("of"))
        powers.push_back({source.unit, howOf(s) == How::ratio && !powers.empty() ? -1 : 1});
    return unitProduct(powers);
}
/// Worked out from those of the sources.
std::string combinedUnit(const Stage& s) {
    return multiplies(howOf(s)) ? productOf(s).unit : s.sources("of").front().unit;
}

class Combine : public StageProcessor {
public:
    explicit Combine(const Stage& s) : how_(howOf(s)) {
        if (multiplies(how_)) factor_ = productOf(s).factor;
        const auto& all = s.sources("of");
        for (const StageSource& source : all)
            in_.push_back(multiplies(how_) ? UnitConversion{}
                                           : convertUnit(source.unit, all.front().unit).value_or(UnitConversion{}));
        if (how_ == How::mean) factor_ = 1.0 / static_cast<double>(all.size());
    }
    void run(Stretch& s) override {
        for (std::size_t k = 0; k < in_.size(); ++k) {
            const StageInput& input = s.inputs[k];
            const UnitConversion in = in_[k];
            const auto each = [&](auto&& add) {
                for (std::size_t i = 0; i < s.values.size(); ++i)
                    s.values[i] = add(s.values[i], input[i] * in.factor + in.offset);
            };
            if (k == 0)
                each([](double, double v) { return v; });
            else if (how_ == How::difference)
                each([](double sum, double v) { return sum - v; });
            else if (how_ == How::product)
                each([](double sum, double v) { return sum * v; });
            else if (how_ == How::ratio)
                each([](double sum, double v) { return v == 0 ? std::nan("") : sum / v; });
            else if (how_ == How::least)
                each([](double sum, double v) { return sum < v || std::isnan(sum) ? sum : v; });
            else if (how_ == How::greatest)
                each([](double sum, double v) { return sum > v || std::isnan(sum) ? sum : v; });
            else
                each([](double sum, double v) { return sum + v; });
        }
        if (factor_ != 1)
            for (double& v : s.values) v *= factor_;
    }

private:
    How how_;
    std::vector<UnitConversion> in_;
    double factor_ = 1;
};

}  // namespace

/// Several signals as one: their sum, difference (the first less all others), product, ratio (the first over all
/// others), mean, least or greatest. The unit is worked out: that of the first, or of the product.
const StageKind& combine() {
    static const StageKind kind{
        .key = "combine",
        .title = CRUSCOTTO_TEXT("Signals combined"),
        .group = StageGroup::computation,
        .fields = {{.key = "how",
                    .title = CRUSCOTTO_TEXT("How"),
                    .type = StageField::Type::choice,
                    .first = "difference",
                    .choices = {{"sum", CRUSCOTTO_TEXT("sum")},
                                {"difference", CRUSCOTTO_TEXT("first less the others")},
                                {"product", CRUSCOTTO_TEXT("product")},
                                {"ratio", CRUSCOTTO_TEXT("first over the others")},
                                {"mean", CRUSCOTTO_TEXT("mean")},
                                {"least", CRUSCOTTO_TEXT("least")},
                                {"greatest", CRUSCOTTO_TEXT("greatest")}}},
                   {.key = "of",
                    .title = CRUSCOTTO_TEXT("Of"),
                    .type = StageField::Type::sources,
                    .first = StageSources{{"", 0, "1", ""}, {"", 0, "1", ""}},
                    .needed = true,
                    .fewestRows = 1,
                    .mostRows = 32}},
        .sentence =
            [](const Stage& s) {
                const std::string unit = unitText(combinedUnit(s));
                const auto& choices = s.kind().fields[0].choices;
                const auto how = std::ranges::find(choices, s.text("how"), &StageField::Choice::key);
                return text(CRUSCOTTO_TEXT("Gives the {0} of {1} signals, in {2}: the unit comes of theirs."),
                            how == choices.end() ? s.text("how") : how->title.english(), s.sources("of").size(),
                            unit.empty() ? std::string("1") : unit);
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor { return processor<Combine>(s); },
        .unitAfter = [](const Stage& s, const std::string&) { return combinedUnit(s); },
        .check = [](const Stage& s, const std::string&) -> Result<void> {
            const auto& all = s.sources("of");
            for (const StageSource& source : all)
                if (!multiplies(howOf(s)) && !convertUnit(source.unit, all.front().unit))
                    return failure("A {0} is of quantities of one kind: {1} and {2} are not.", s.text("how"),
                                   unitText(all.front().unit), unitText(source.unit));
            return {};
        },
        .suits = isComputed,
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> { return std::nullopt; },
    };
    return kind;
}

}  // namespace cruscotto::stages
