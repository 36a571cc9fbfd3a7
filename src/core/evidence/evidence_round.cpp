#include "core/evidence/evidence_round.h"

#include <algorithm>
#include <cmath>

namespace cruscotto {

EvidenceRound::Portion EvidenceRound::next(std::size_t columns, Instant end, Duration lasts) {
    if (looked_ >= columns) {
        if (end < begins_) return {};
        begins_ = end + every_;
        looked_ = 0;
    }
    const double share = lasts.ns > 0 ? 2 * lasts.seconds() / every_.seconds() : 1;
    const auto some = static_cast<std::size_t>(std::ceil(std::min(1.0, share) * static_cast<double>(columns)));
    const Portion out{looked_, std::min(columns, looked_ + std::max<std::size_t>(1, some))};
    looked_ = out.to;
    return out;
}

}  // namespace cruscotto
