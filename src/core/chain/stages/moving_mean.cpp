#include "core/chain/stages/list.h"
#include "core/chain/stages/running_mean.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

/// The mean of the last n samples (fewer right after the start or a gap).
const StageKind& movingMean() {
    static const StageKind kind{
        .key = "moving-mean",
        .title = CRUSCOTTO_TEXT("Moving mean"),
        .group = StageGroup::filter,
        .fields = {{.key = "samples",
                    .title = CRUSCOTTO_TEXT("Samples"),
                    .type = StageField::Type::whole,
                    .first = 10.0,
                    .low = 1,
                    .high = 1'000'000}},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("Averages the last {0} samples: calmer, but later."),
                            static_cast<int>(s.number("samples")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<RunningMean>(static_cast<std::size_t>(s.number("samples")));
        },
        .memory = [](const Stage& s) -> StageMemory {
            const auto n = static_cast<std::size_t>(s.number("samples"));
            return {.held = n, .samples = 2 * n};  // one round more, for its rounding
        },
        .suits = isAnalog,
        .smooths = true,
    };
    return kind;
}

}  // namespace cruscotto::stages
