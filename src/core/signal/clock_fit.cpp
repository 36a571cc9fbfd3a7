#include "core/signal/clock_fit.h"

#include <algorithm>
#include <cmath>

namespace cruscotto {

namespace {
constexpr double secondNs = 1e9;
constexpr std::size_t secondsKept = 64;
constexpr double farthest = 2000e-6;          // no sample clock is worse
constexpr double fastestSteering = 500e-6;    // nobody sees a trace stretched by that
constexpr std::uint64_t fewestSteered = 100;  // a slow clock would else be in pieces of a few samples
constexpr double jumpNs = 0.25 * secondNs;    // farther off than this, something else has happened
}  // namespace

ClockFit::ClockFit(double nominalRateHz)
    : nominalNs_(secondNs / nominalRateHz), slopeNs_(nominalNs_), steeredNs_(nominalNs_) {}

void ClockFit::observe(std::uint64_t samples, Instant arrived) {
    const Point point{static_cast<double>(samples), static_cast<double>(arrived.ns)};
    if (!best_) {
        secondBegan_ = arrived.ns;
        best_ = point;
        offsetNs_ = point.residual(slopeNs_);
        return;
    }
    if (point.residual(slopeNs_) < best_->residual(slopeNs_)) best_ = point;
    // An arrival below the line shows at once that the line was too late.
    if (points_.size() < 3) offsetNs_ = std::min(offsetNs_, point.residual(slopeNs_));
    if (arrived.ns - secondBegan_ < static_cast<std::int64_t>(secondNs)) return;
    points_.push_back(*best_);
    if (points_.size() > secondsKept) points_.pop_front();
    secondBegan_ = arrived.ns;
    best_ = point;
    refit();
}

void ClockFit::refit() {
    if (points_.size() >= 3) {
        double meanX = 0, meanY = 0, both = 0, squares = 0;
        for (const Point& p : points_) meanX += p.samples, meanY += p.ns;
        meanX /= static_cast<double>(points_.size());
        meanY /= static_cast<double>(points_.size());
        for (const Point& p : points_) {
            both += (p.samples - meanX) * (p.ns - meanY);
            squares += (p.samples - meanX) * (p.samples - meanX);
        }
        if (squares > 0)
            slopeNs_ = std::clamp(both / squares, nominalNs_ * (1 - farthest), nominalNs_ * (1 + farthest));
    }
    offsetNs_ = points_.front().residual(slopeNs_);
    for (const Point& p : points_) offsetNs_ = std::min(offsetNs_, p.residual(slopeNs_));
    steer_ = true;
}

ClockFit::Placement ClockFit::place(std::uint64_t first, std::uint64_t n) {
    const double line = offsetNs_ + static_cast<double>(first) * slopeNs_;
    double t0 = placedTo_ == first ? placedNs_ : line;
    if (placedTo_) t0 = std::max(t0, placedNs_);
    if (std::fabs(line - t0) > jumpNs) t0 = std::max(line, placedTo_ ? placedNs_ : line);
    if (placedTo_ != first || (steer_ && first - steeredAt_ >= fewestSteered)) {
        // once a second, or less often, so that blocks in between are of one piece
        const double within = std::max(secondNs, static_cast<double>(fewestSteered) * slopeNs_);
        const double correction = std::clamp((line - t0) / within, -fastestSteering, fastestSteering) * slopeNs_;
        steeredNs_ = slopeNs_ + correction;
        steer_ = false;
        steeredAt_ = first;
    }
    placedTo_ = first + n;
    const Instant start{std::llround(t0)};
    placedNs_ = t0 + static_cast<double>(n) * steeredNs_;
    return {start, steeredNs_};
}

}  // namespace cruscotto
