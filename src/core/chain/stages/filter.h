#pragma once

#include <cmath>
#include <functional>

#include "core/chain/stage_kind.h"

namespace cruscotto::stages {

/// What is left of the past in a filter is below the last digit of a double after this many of its time constants.
inline constexpr double forgottenAfter = 36;

/// The seconds from the sample before to each sample of a stretch: of a clocked block its own interval, however the
/// stream is cut.
class Intervals {
public:
    double next(const SampleTimes& times, std::size_t i) {
        const Instant now = times[i];
        const bool clocked = times.block && times.block->times.empty();
        const double seconds = clocked ? times.block->dtNs * 1e-9 : static_cast<double>(now.ns - last_.ns) * 1e-9;
        last_ = now;
        return seconds;
    }

private:
    Instant last_;
};

/// y = b0 x + b1 x1 + b2 x2 - a1 y1 - a2 y2, with a gain of 1 at 0 Hz.
struct Biquad {
    double b0 = 1, b1 = 0, b2 = 0, a1 = 0, a2 = 0;
    double z1 = 0, z2 = 0;
    double step(double x) {
        const double y = b0 * x + z1;
        z1 = b1 * x - a1 * y + z2;
        z2 = b2 * x - a2 * y;
        return y;
    }
    /// As if x had come forever.
    void settle(double x) {
        z1 = x * (1 - b0);
        z2 = x * (b2 - a2);
    }
};

/// Biquads one behind the other, designed for the interval between samples. What is no number passes and leaves the
/// state alone; the first sample counts as if it had always been there.
class Cascade : public StageProcessor {
public:
    using Design = std::function<std::vector<Biquad>(double seconds)>;
    explicit Cascade(Design design) : design_(std::move(design)) {}
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double seconds = intervals_.next(s.times, i);
            double& x = s.values[i];
            if (!std::isfinite(x)) continue;
            if (!begun_) {
                begun_ = true;
                first_ = x;
                continue;  // the interval is not known yet
            }
            if (std::fabs(seconds - designedFor_) > 1e-6 * designedFor_) {
                const bool fresh = parts_.empty();
                auto parts = design_(seconds);
                for (std::size_t k = 0; k < parts.size(); ++k)
                    if (fresh || k >= parts_.size())
                        parts[k].settle(fresh ? first_ : x);
                    else
                        parts[k].z1 = parts_[k].z1, parts[k].z2 = parts_[k].z2;
                parts_ = std::move(parts);
                designedFor_ = seconds;
            }
            for (Biquad& part : parts_) x = part.step(x);
        }
    }
    void reset() override {
        begun_ = false;
        parts_.clear();
        designedFor_ = 0;
    }

private:
    Design design_;
    Intervals intervals_;
    std::vector<Biquad> parts_;
    double designedFor_ = 0, first_ = 0;
    bool begun_ = false;
};

}  // namespace cruscotto::stages
