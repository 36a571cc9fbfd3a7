#pragma once

#include <algorithm>
#include <array>
#include <cmath>

#include "core/chain/stage_kind.h"

namespace cruscotto::stages {

/// The mean of the last n values, fewer at the start; what is no number is left out.
class RunningMean : public StageProcessor {
public:
    explicit RunningMean(std::size_t n) : ring_(n) {}
    void run(Stretch& s) override {
        std::vector<double>& v = s.values;
        if (filled_ == 0 && s.times.block) next_ = s.times.block->firstIndex % ring_.size();
        for (std::size_t i = 0; i < v.size();) {
            if (next_ == 0 && filled_ == ring_.size()) {
                // Taken anew once a round, so that rounding cannot add up over days; and at the same samples however
                // the stream is cut into blocks and wherever it begins, so that a recording, or a part of one, gives
                // the same readings as the live bench did.
                sum_ = 0;
                for (const double old : ring_) sum_ += std::isfinite(old) ? old : 0;
            }
            const std::size_t part = std::min(v.size() - i, ring_.size() - next_);
            const std::span<double> now = std::span(v).subspan(i, part);
            if (filled_ == ring_.size() && finite_ == filled_ && allFinite(now)) {
                const auto n = static_cast<double>(filled_);
                double running = sum_;
                double* old = ring_.data() + next_;
                for (std::size_t k = 0; k < part; ++k) {
                    running += now[k] - old[k];
                    old[k] = now[k];
                    now[k] = running / n;
                }
                sum_ = running;
                next_ = next_ + part == ring_.size() ? 0 : next_ + part;
            } else {
                for (double& x : now) one(x);
            }
            i += part;
        }
    }
    void reset() override {
        next_ = filled_ = finite_ = 0;
        sum_ = 0;
    }

private:
    static bool allFinite(std::span<const double> v) {
        std::array<double, 4> zero{};  // side by side, so that no addition waits for the one before it
        std::size_t i = 0;
        for (; i + 4 <= v.size(); i += 4)
            for (std::size_t l = 0; l < 4; ++l) zero[l] += v[i + l] * 0;
        for (; i < v.size(); ++i) zero[0] += v[i] * 0;
        return zero[0] + zero[1] + zero[2] + zero[3] == 0;
    }
    void one(double& x) {
        double change = 0;
        if (filled_ == ring_.size()) {
            if (std::isfinite(ring_[next_])) change = -ring_[next_], --finite_;
        } else {
            ++filled_;
        }
        ring_[next_] = x;
        if (std::isfinite(x)) change += x, ++finite_;
        sum_ += change;
        next_ = next_ + 1 == ring_.size() ? 0 : next_ + 1;
        x = finite_ ? sum_ / static_cast<double>(finite_) : std::numeric_limits<double>::quiet_NaN();
    }

    std::vector<double> ring_;
    std::size_t next_ = 0, filled_ = 0, finite_ = 0;
    double sum_ = 0;
};

}  // namespace cruscotto::stages
