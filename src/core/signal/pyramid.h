#pragma once

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdint>
#include <limits>
#include <span>
#include <vector>

#include "core/base/time.h"
#include "core/signal/block.h"

namespace cruscotto {

/// Minimum, maximum, mean and spread of a stretch of readings; readings that are NaN are not counted. With count 0 the
/// extremes and the mean are NaN.
struct Summary {
    double min = std::numeric_limits<double>::quiet_NaN();
    double max = std::numeric_limits<double>::quiet_NaN();
    double mean = std::numeric_limits<double>::quiet_NaN();
    std::uint32_t count = 0;
    double squares = 0;  ///< sum of the squared deviations from the mean

    void add(const Summary& other);
    void add(double v) { add(Summary{v, v, v, v == v ? 1U : 0U}); }
    /// Standard deviation of the readings themselves (divided by their number); NaN for none.
    [[nodiscard]] double deviation() const { return std::sqrt(squares / static_cast<double>(count)); }
    bool operator==(const Summary&) const = default;
};

/// Of a whole stretch at once.
Summary summarise(std::span<const double> values);

/// One finished bucket: readings [index * size, (index + 1) * size) of a signal.
struct Bucket {
    Instant begin;  ///< time of its first sample
    Summary summary;
    Quality worst = Quality::good;  ///< of its samples
};

/// Level 1 sums up 64 samples a bucket, every further level 16 buckets of the one below. Frozen: runs store it.
inline constexpr int pyramidLevels = 5;
/// Samples in one bucket of a level, 1 to pyramidLevels; level 0 is the samples themselves.
constexpr std::uint64_t bucketSamples(int level) {
    return level == 0 ? 1 : level == 1 ? 64 : 16 * bucketSamples(level - 1);
}

/// Turns a stream of readings into finished buckets. Confined to one thread.
class PyramidBuilder {
public:
    /// Adds readings, the i-th of them taken at timeOf(i); calls finished(level, bucket) for each bucket that they
    /// complete, the lowest level first.
    /// `quality`: what is not good among them; see worstOfEach().
    template <class TimeOf, class Finished>
    void add(std::span<const double> values, TimeOf&& timeOf, Finished&& finished,
             std::span<const QualityInterval> quality = {}) {
        Open& first = open_[0];
        for (std::size_t i = 0; i < values.size();) {
            const std::size_t part = std::min<std::size_t>(bucketSamples(1) - first.parts, values.size() - i);
            if (first.parts == 0) first.bucket = {timeOf(i), {}};
            first.bucket.summary.add(summarise(values.subspan(i, part)));
            for (const QualityInterval& q : quality)
                if (q.begin < i + part && q.end > i) first.bucket.worst = worse(first.bucket.worst, q.quality);
            i += part;
            if ((first.parts += part) < bucketSamples(1)) return;
            Bucket done = first.bucket;
            first.parts = 0;
            finished(1, done);
            for (int level = 2; level <= pyramidLevels; ++level) {
                Open& open = open_[static_cast<std::size_t>(level - 1)];
                if (open.parts == 0) open.bucket = {done.begin, {}};
                open.bucket.summary.add(done.summary);
                open.bucket.worst = worse(open.bucket.worst, done.worst);
                if (++open.parts < 16) break;
                done = open.bucket;
                open.parts = 0;
                finished(level, done);
            }
        }
    }

private:
    struct Open {
        Bucket bucket;
        std::uint64_t parts = 0;
    };
    std::array<Open, pyramidLevels> open_{};
};

}  // namespace cruscotto
