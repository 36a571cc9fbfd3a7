#pragma once

#include <optional>

#include "core/bench/keep.h"
#include "engine/shot_gate.h"

namespace cruscotto {

/// Leaves of a signal's samples what its policy asks for, as blocks of a group of its own ("kept" and the signal's id).
/// Confined to one thread.
class KeepFilter {
public:
    /// With the policy that the signal has now, resolved. Precondition: it is not every raw sample.
    explicit KeepFilter(const SignalSpec& signal);
    /// The signal's chain or name is another one from the next block on; what is kept of it stays as it was.
    void define(SignalSpec signal);

    /// What is kept of the block's column, whose readings these are; nothing where that is nothing.
    std::optional<ShotGate::Part> look(const Block& block, std::size_t column, const Readings& readings);
    /// What was held back for a later decision; to be asked for when the recording ends.
    std::optional<ShotGate::Part> rest();

private:
    /// One sample as it would be kept.
    struct Sample {
        Instant time;
        Samples raw;  // of one; empty where readings are kept
        double reading = 0;
        Quality quality = Quality::good;
    };
    void begin(const Block& block, std::size_t column);
    [[nodiscard]] Sample sampleAt(const Block& block, std::size_t column, const Readings& readings, std::size_t i,
                                  Quality quality) const;
    void put(const Sample& sample);
    void everyNth(const Block& block, std::size_t column, const Readings& readings);
    void changes(const Block& block, std::size_t column, const Readings& readings);
    void intervals(const Block& block, const Readings& readings);
    void endInterval();
    std::optional<ShotGate::Part> give();

    std::string id_;
    KeepSpec keep_;
    Recorder::Columns columns_;
    std::shared_ptr<const ScanGroup> from_;   // the group that the samples come from
    std::shared_ptr<const ScanGroup> group_;  // the one they are kept in
    std::shared_ptr<Block> out_;
    std::vector<double> values_;  // the readings of what is kept
    std::vector<PyramidBuilder> pyramids_;
    std::uint64_t next_ = 0;  // unclocked: number of the next sample
    std::optional<Gap> gap_;  // before it

    // changes
    std::optional<Sample> kept_, skipped_;
    // summary
    std::int64_t interval_ = 0;
    Instant intervalBegin_;
    Summary sum_;
    Quality worst_ = Quality::good;
    bool any_ = false;
};

}  // namespace cruscotto
