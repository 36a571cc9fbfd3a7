#pragma once

#include "core/signal/block.h"

namespace cruscotto {

/// Marks single samples, in order, and joins neighbours of the same quality.
class QualityMarker {
public:
    explicit QualityMarker(std::vector<QualityInterval>& out) : out_(out) {}
    void mark(std::size_t i, Quality q) {
        if (open_ && out_.back().end == i && out_.back().quality == q) {
            out_.back().end = i + 1;
        } else {
            out_.push_back({i, i + 1, q});
            open_ = true;
        }
    }

private:
    std::vector<QualityInterval>& out_;
    bool open_ = false;
};

}  // namespace cruscotto
