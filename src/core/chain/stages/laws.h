#pragma once

#include <cmath>

#include "core/chain/quality_marker.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

/// A law that works on each value by itself: y = law(x); where that is no finite number there is no reading, and it is
/// out of range.
template <class Law>
class LawProcessor : public StageProcessor {
public:
    explicit LawProcessor(Law law) : law_(std::move(law)) {}
    void run(Stretch& s) override {
        QualityMarker marker(s.quality);
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double x = s.values[i];
            if (std::isnan(x)) continue;
            const double y = law_(x);
            if (std::isfinite(y)) {
                s.values[i] = y;
            } else {
                s.values[i] = std::numeric_limits<double>::quiet_NaN();
                marker.mark(i, Quality::outOfRange);
            }
        }
    }

private:
    Law law_;
};

template <class Law>
MadeProcessor law(Law f) {
    return processor<LawProcessor<Law>>(std::move(f));
}

}  // namespace cruscotto::stages
