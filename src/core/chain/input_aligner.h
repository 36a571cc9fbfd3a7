#pragma once

#include <deque>
#include <memory>
#include <optional>
#include <vector>

#include "core/chain/chain.h"

namespace cruscotto {

/// The times of a stretch of samples, in order; shared by all signals of a block.
struct StretchTimes {
    std::vector<Instant> at;
    bool distinct = false;  ///< no two are equal
};
using StretchTimesPtr = std::shared_ptr<const StretchTimes>;
StretchTimesPtr stretchTimes(const Block& block);
/// Up to, and not at, which a block tells of its signals. Precondition: it has a sample.
Instant endOf(const Block& block);

/// Brings the readings of several signals, each with samples at times of its own, to the times at which a computed
/// signal is due. What it gives depends on the samples and their times only, not on how they come in blocks, as long as
/// no input comes later than `patience`. Confined to one thread.
class InputAligner {
public:
    struct Rule {
        bool interpolated = false;  ///< between two samples; else the one before holds
        Duration oldest = {};       ///< a sample that is older when it is used is stale; 0: never
        Duration patience = {};     ///< a moment is worked out although an input has not come so far, when another
                                    ///< has come this much farther; negative: never
    };
    InputAligner(std::size_t inputs, const Rule& rule) : rule_(rule), inputs_(inputs) {}

    /// Samples of an input, in order of time, with no reading where they are NaN; it is known up to, and not at,
    /// `until`.
    void feed(std::size_t input, const StretchTimesPtr& times, const Readings& readings, Instant until);
    /// It has come to its end, or is one that comes only when it changes: what is not there now is not waited for.
    void doNotWait(std::size_t input, bool on = true) { inputs_[input].notAwaited = on; }
    /// From here on nothing came of it, until the next samples.
    void gap(std::size_t input, Instant from);
    /// Before this, something is known of some input.
    [[nodiscard]] Instant farthest() const;
    /// Of the first sample that is held of any input; nothing where none is.
    [[nodiscard]] std::optional<Instant> begins() const;

    struct Aligned {
        std::vector<std::vector<double>> values;  ///< by input, one for each moment
        std::vector<QualityInterval> quality;
    };
    /// How many of these moments, in order, can be worked out now.
    [[nodiscard]] std::size_t ready(const StretchTimes& moments, Instant clockUntil) const;
    /// What the inputs read at moments [begin, end), which come after those of the calls before.
    void take(const StretchTimesPtr& moments, std::size_t begin, std::size_t end, Aligned& out);

private:
    struct Stretch {
        StretchTimesPtr times;
        std::vector<double> values;
        std::vector<Quality> quality;  // empty: all good
    };
    struct Input {
        std::deque<Stretch> stretches;  // from the one whose sample `at` holds now; none of them is empty
        std::size_t at = 0;
        Instant until;  // known before this
        bool notAwaited = false;
    };
    void takeOne(Input& in, const StretchTimesPtr& moments, std::size_t begin, std::vector<double>& values,
                 std::vector<QualityInterval>& quality) const;
    Rule rule_;
    std::vector<Input> inputs_;
};

}  // namespace cruscotto
