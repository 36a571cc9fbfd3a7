#include <cmath>

#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class Efficiency : public StageProcessor {
public:
    explicit Efficiency(double least) : least_(least) {}
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double spent = s.inputs[1][i];
            s.values[i] = spent >= least_ && spent > 0 ? 100 * s.inputs[0][i] / spent : std::nan("");
        }
    }

private:
    double least_;
};

StageField power(const char* key, Text title) {
    return {.key = key,
            .title = std::move(title),
            .type = StageField::Type::source,
            .first = StageSource{"", 0, "W"},
            .needed = true,
            .unit = "W"};
}

}  // namespace

/// Useful power over spent power. No reading while so little is spent that the ratio would say nothing.
const StageKind& efficiency() {
    static const StageKind kind{
        .key = "efficiency",
        .title = CRUSCOTTO_TEXT("Efficiency"),
        .group = StageGroup::computation,
        .fields = {power("useful", CRUSCOTTO_TEXT("Useful power")),
                   power("spent", CRUSCOTTO_TEXT("Spent power")),
                   {.key = "least", .title = CRUSCOTTO_TEXT("From, spent"), .first = 1.0, .unit = "W", .low = 0}},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("Useful over spent power in percent; no reading below {0} W."),
                            number(s.number("least")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Efficiency>(s.number("least"));
        },
        .unitAfter = [](const Stage&, const std::string&) { return std::string("%"); },
        .suits = isComputed,
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> {
            return Scale{0, 100};
        },
    };
    return kind;
}

}  // namespace cruscotto::stages
