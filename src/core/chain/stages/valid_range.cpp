#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"
#include "core/signal/pyramid.h"

namespace cruscotto::stages {

namespace {

class Range : public StageProcessor {
public:
    Range(double low, double high) : low_(low), high_(high) {}
    void run(Stretch& s) override {
        if (const Summary all = summarise(s.values); !(all.min < low_ || all.max > high_)) return;
        QualityMarker marker(s.quality);
        for (std::size_t i = 0; i < s.values.size(); ++i)
            if (s.values[i] < low_ || s.values[i] > high_) marker.mark(i, Quality::outOfRange);
    }

private:
    double low_, high_;
};

}  // namespace

/// Where the scaling holds: readings outside [low, high] are marked out of range; the number itself is kept.
const StageKind& validRange() {
    static const StageKind kind{
        .key = "valid-range",
        .title = CRUSCOTTO_TEXT("Valid range"),
        .group = StageGroup::unit,
        .fields = {{.key = "low", .title = CRUSCOTTO_TEXT("From"), .needed = true},
                   {.key = "high", .title = CRUSCOTTO_TEXT("To"), .first = 1.0, .needed = true}},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("Marks readings below {0} or above {1} as out of range."),
                            number(s.number("low")), number(s.number("high")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Range>(s.number("low"), s.number("high"));
        },
        .check = [](const Stage& s, const std::string&) -> Result<void> {
            if (s.number("low") >= s.number("high"))
                return failure("The valid range must begin below where it ends; {0} to {1} does not.", s.number("low"),
                               s.number("high"));
            return {};
        },
        .suits = isAnalog,
        .reach = [](const Stage& s, const std::optional<Scale>& in) -> std::optional<Scale> {
            const Scale within{s.number("low"), s.number("high")};
            if (!in) return within;
            const Scale both{std::max(in->low, within.low), std::min(in->high, within.high)};
            return both.low < both.high ? both : within;
        },
        .keepsWhole = true,
    };
    return kind;
}

}  // namespace cruscotto::stages
