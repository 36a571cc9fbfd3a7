#include "core/chain/stages/list.h"
#include "core/chain/stages/running_mean.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class MovingRms : public StageProcessor {
public:
    explicit MovingRms(std::size_t n) : mean_(n) {}
    void run(Stretch& s) override {
        for (double& x : s.values) x *= x;
        mean_.run(s);
        for (double& x : s.values) x = std::sqrt(std::max(x, 0.0));
    }
    void reset() override { mean_.reset(); }

private:
    RunningMean mean_;
};

}  // namespace

/// The root of the mean of the squares of the last n samples (ISO 80000-1: root-mean-square).
const StageKind& movingRms() {
    static const StageKind kind{
        .key = "moving-rms",
        .title = CRUSCOTTO_TEXT("Moving RMS"),
        .group = StageGroup::filter,
        .fields = {{.key = "samples",
                    .title = CRUSCOTTO_TEXT("Samples"),
                    .type = StageField::Type::whole,
                    .first = 100.0,
                    .low = 1,
                    .high = 1'000'000}},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("The root of the mean square of the last {0} samples."),
                            static_cast<int>(s.number("samples")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<MovingRms>(static_cast<std::size_t>(s.number("samples")));
        },
        .memory = [](const Stage& s) -> StageMemory {
            const auto n = static_cast<std::size_t>(s.number("samples"));
            return {.held = n, .samples = 2 * n};
        },
        .carries = [](const Stage& s, const std::string&, const StageMoment& m) -> std::optional<CarriedError> {
            return carriedAsRms(m, s.number("samples"));
        },
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
