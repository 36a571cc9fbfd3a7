#pragma once

#include <cmath>
#include <optional>
#include <span>

namespace cruscotto {

/// Tells when readings cross a level. With a hysteresis h they count as above from `level` on, and as below only from
/// level - h down, so noise around the level is one crossing. Readings that are NaN are passed over. Confined to one
/// thread.
class LevelDetector {
public:
    explicit LevelDetector(double level, double hysteresis = 0) : level_(level), low_(level - std::fabs(hysteresis)) {}

    /// Calls crossed(index, above) for every change of side; where it stood first is none.
    template <class Crossed>
    void look(std::span<const double> readings, Crossed&& crossed) {
        for (std::size_t i = 0; i < readings.size(); ++i) {
            const double v = readings[i];
            if (!(v >= level_ || v < low_ || (!above_ && v < level_))) continue;  // NaN, or within the hysteresis
            const bool above = v >= level_;
            if (above_ && *above_ != above) crossed(i, above);
            above_ = above;
        }
    }
    /// Nothing before the first reading.
    [[nodiscard]] std::optional<bool> above() const { return above_; }

private:
    double level_, low_;
    std::optional<bool> above_;
};

}  // namespace cruscotto
