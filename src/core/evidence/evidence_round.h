#pragma once

#include <cstddef>
#include <limits>

#include "core/base/time.h"

namespace cruscotto {

/// Which columns of a group's blocks are looked at for evidence: each once a round, a few with each block, so that no
/// block is held up by all of them.
class EvidenceRound {
public:
    struct Portion {
        std::size_t from = 0, to = 0;  ///< places of columns; none where they are equal
        [[nodiscard]] bool has(std::size_t i) const { return i >= from && i < to; }
    };
    explicit EvidenceRound(Duration every) : every_(every) {}
    /// Of a block with so many columns that ends at `end` and lasts so long (0: not known, then all are looked at). A
    /// round takes half of its time at most, and begins when the one before began so long ago.
    Portion next(std::size_t columns, Instant end, Duration lasts);

private:
    Duration every_;
    Instant begins_;                                                // of the next round
    std::size_t looked_ = std::numeric_limits<std::size_t>::max();  // of this round
};

}  // namespace cruscotto
