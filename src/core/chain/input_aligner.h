#pragma once

#include <deque>
#include <vector>

#include "core/chain/chain.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

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
    void feed(std::size_t input, const SampleTimes& times, const Readings& readings, Instant until);
    /// It has come to its end, or is one that comes only when it changes: what is not there now is not waited for.
    void doNotWait(std::size_t input, bool on = true) { inputs_[input].notAwaited = on; }
    /// From here to there nothing came of it.
    void gap(std::size_t input, Instant from);

    /// Before this, something is known of some input.
    [[nodiscard]] Instant farthest() const;
    /// Of the first sample that is held of any input; nothing where none is.
    [[nodiscard]] std::optional<Instant> begins() const;

    struct Aligned {
        std::vector<std::vector<double>> values;  ///< by input, one for each moment
        std::vector<QualityInterval> quality;
    };
    /// How many of the first of these n moments, in order, can be worked out now.
    [[nodiscard]] std::size_t ready(const SampleTimes& moments, std::size_t n, Instant clockUntil) const;
    /// What the inputs read at moments [begin, end), which come after those of the calls before.
    void take(const SampleTimes& moments, std::size_t begin, std::size_t end, Aligned& out);

private:
    struct Sample {
        Instant at;
        double value;
        Quality quality;
    };
    struct Input {
        std::deque<Sample> samples;  // from the one that holds now
        Instant until;               // known before this
        bool notAwaited = false;
    };
    Rule rule_;
    std::vector<Input> inputs_;
};

}  // namespace cruscotto
