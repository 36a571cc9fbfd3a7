#pragma once

#include <cstdint>
#include <deque>
#include <optional>

#include "core/base/time.h"

namespace cruscotto {

/// Ties a device's own sample clock to the bench's time axis by a running fit. A sample is seen some time after it was
/// taken, never before; so of each second only the earliest arrival counts, and the clock's line runs below all of
/// them. The line moves slowly and never jumps while samples follow each other, so a trace is not bent by a late
/// arrival. Confined to one thread.
class ClockFit {
public:
    explicit ClockFit(double nominalRateHz);

    /// The device had taken `samples` samples, all in all, when somebody looked at `arrived`.
    void observe(std::uint64_t samples, Instant arrived);

    struct Placement {
        Instant t0;
        double dtNs = 0;
    };
    /// Where samples [first, first + n) lie. Samples that follow those placed before follow them in time too, to the
    /// nanosecond. Precondition: observe() was called; `first` is not before the end of what was placed.
    Placement place(std::uint64_t first, std::uint64_t n);

    /// How much faster than its nominal rate the device's clock runs, in parts per million.
    [[nodiscard]] double ppm() const { return (nominalNs_ / slopeNs_ - 1) * 1e6; }

private:
    struct Point {
        double samples = 0;
        double ns = 0;
        [[nodiscard]] double residual(double dtNs) const { return ns - samples * dtNs; }
    };
    void refit();

    const double nominalNs_;
    std::deque<Point> points_;  // the earliest arrival of each past second
    std::optional<Point> best_;
    std::int64_t secondBegan_ = 0;
    double slopeNs_;
    double offsetNs_ = 0;
    double steeredNs_;  // the slope that brings what is placed back to the line, within a second or 100 samples
    std::uint64_t steeredAt_ = 0;
    bool steer_ = true;
    std::optional<std::uint64_t> placedTo_;
    double placedNs_ = 0;
};

}  // namespace cruscotto
