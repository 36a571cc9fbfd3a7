#include <cmath>

#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class Level : public StageProcessor {
public:
    Level(double on, double off) : on_(on), off_(off) {}
    void run(Stretch& s) override {
        const bool rises = on_ >= off_;
        for (double& x : s.values) {
            if (std::isnan(x)) continue;
            if (rises ? x >= on_ : x <= on_)
                state_ = 1;
            else if (!known_ || (rises ? x < off_ : x > off_))
                state_ = 0;
            known_ = true;
            x = state_;
        }
    }
    void reset() override { known_ = false; }

private:
    double on_, off_, state_ = 0;
    bool known_ = false;
};

Text switched(const Stage& s, std::span<const double> values, std::span<const Instant>) {
    const bool rising = s.number("on") >= s.number("off");
    std::size_t changes = 0, on = 0, known = 0;
    bool state = false;
    for (const double x : values) {
        if (!std::isfinite(x)) continue;
        const bool before = state;
        if (rising ? x >= s.number("on") : x <= s.number("on")) state = true;
        if (rising ? x < s.number("off") : x > s.number("off")) state = false;
        changes += known > 0 && state != before;
        on += state;
        ++known;
    }
    return text(CRUSCOTTO_TEXT("On for {0} % of the time; {1} changes."), known ? 100 * on / known : 0, changes);
}

}  // namespace

/// A state from a level: 1 from `on` on, 0 again behind `off`; between the two it stays as it was (hysteresis), and is
/// 0 at first. With `on` below `off` it is 1 where the level is low.
const StageKind& level() {
    static const StageKind kind{
        .key = "level",
        .title = CRUSCOTTO_TEXT("Level"),
        .group = StageGroup::event,
        .fields = {{.key = "on", .title = CRUSCOTTO_TEXT("On at"), .first = 2.0, .needed = true},
                   {.key = "off", .title = CRUSCOTTO_TEXT("Off at"), .first = 1.0, .needed = true}},
        .sentence =
            [](const Stage& s) {
                return text(s.number("on") >= s.number("off")
                                ? CRUSCOTTO_TEXT("On from {0} upwards, off again below {1}.")
                                : CRUSCOTTO_TEXT("On from {0} downwards, off again above {1}."),
                            number(s.number("on")), number(s.number("off")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Level>(s.number("on"), s.number("off"));
        },
        .unitAfter = [](const Stage&, const std::string&) -> std::string { return "1"; },
        // How long it has been between the two levels is not known.
        .memory = [](const Stage&) -> StageMemory { return {.time = wholePast}; },
        .suits = isAnalog,
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> {
            return Scale{0, 1};
        },
        .levels = {"on", "off"},
        .tried = switched,
        .gives = StageKind::Gives::state,
    };
    return kind;
}

}  // namespace cruscotto::stages
