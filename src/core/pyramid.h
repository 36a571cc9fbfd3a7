#pragma once

#include <array>
#include <cstdint>
#include <limits>
#include <vector>

#include "core/time.h"

namespace cruscotto {

/// Minimum, maximum and mean of a stretch of readings; readings that are NaN are not counted. With count 0 the rest
/// is NaN.
struct Summary {
    double min = std::numeric_limits<double>::quiet_NaN();
    double max = std::numeric_limits<double>::quiet_NaN();
    double mean = std::numeric_limits<double>::quiet_NaN();
    std::uint32_t count = 0;

    void add(const Summary& other);
    void add(double v) { add(Summary{v, v, v, v == v ? 1U : 0U}); }
    bool operator==(const Summary&) const = default;
};

/// One finished bucket: readings [index * size, (index + 1) * size) of a signal.
struct Bucket {
    Instant begin;  ///< time of its first sample
    Summary summary;
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
    /// Adds one reading; calls finished(level, bucket) for each bucket that it completes, the lowest level first.
    template <class Finished>
    void add(Instant t, double v, Finished&& finished) {
        Open& first = open_[0];
        if (first.parts == 0) first.bucket = {t, {}};
        first.bucket.summary.add(v);
        if (++first.parts < bucketSamples(1)) return;
        Bucket done = first.bucket;
        first.parts = 0;
        finished(1, done);
        for (int level = 2; level <= pyramidLevels; ++level) {
            Open& open = open_[static_cast<std::size_t>(level - 1)];
            if (open.parts == 0) open.bucket = {done.begin, {}};
            open.bucket.summary.add(done.summary);
            if (++open.parts < 16) return;
            done = open.bucket;
            open.parts = 0;
            finished(level, done);
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
