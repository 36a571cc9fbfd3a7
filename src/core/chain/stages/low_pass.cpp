#include "core/chain/stages/filter.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class LowPass : public StageProcessor {
public:
    explicit LowPass(double timeConstant) : timeConstant_(timeConstant) {}
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double seconds = intervals_.next(s.times, i);
            double& x = s.values[i];
            if (!std::isfinite(x)) continue;
            if (seconds != known_) {
                known_ = seconds;
                share_ = -std::expm1(-seconds / timeConstant_);
            }
            state_ = begun_ ? state_ + share_ * (x - state_) : x;
            begun_ = true;
            x = state_;
        }
    }
    void reset() override { begun_ = false; }

private:
    double timeConstant_, known_ = -1, share_ = 0, state_ = 0;
    bool begun_ = false;
    Intervals intervals_;
};

}  // namespace

/// A low-pass of first order by its time constant: after a step 63 % of it is reached after that time. Sampled exactly
/// for an input that stays the same between samples.
const StageKind& lowPass() {
    static const StageKind kind{
        .key = "low-pass",
        .title = CRUSCOTTO_TEXT("Low-pass"),
        .group = StageGroup::filter,
        .fields = {{.key = "time-constant-s",
                    .title = CRUSCOTTO_TEXT("Time constant"),
                    .first = 1.0,
                    .unit = "s",
                    .low = 0,
                    .high = 1e5,
                    .aboveLow = true}},
        .sentence =
            [](const Stage& s) {
                const double t = s.number("time-constant-s");
                return text(
                    CRUSCOTTO_TEXT("Lets pass what is slower than {0} Hz; a step is followed to 63 % after {1} s."),
                    number(1 / (2 * 3.141592653589793 * t)), number(t));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<LowPass>(s.number("time-constant-s"));
        },
        .memory = [](const Stage& s) -> StageMemory {
            return {.time = seconds(forgottenAfter * s.number("time-constant-s"))};
        },
        .suits = isAnalog,
        .smooths = true,
    };
    return kind;
}

}  // namespace cruscotto::stages
