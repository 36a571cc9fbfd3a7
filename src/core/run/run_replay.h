#pragma once

#include <memory>
#include <vector>

#include "core/chain/chain.h"
#include "core/run/run_reader.h"

namespace cruscotto {

/// Runs a group's blocks through the chains that its signals had at the time.
class RunReplay {
public:
    /// Begins afresh with the first block of the part.
    RunReplay(RunReader& reader, std::int64_t group, const RunReader::Part& part = {});
    ~RunReplay();
    RunReplay(RunReplay&&) noexcept;
    struct Step {
        BlockPtr block;
        std::vector<Readings> readings;  ///< one a column
    };
    /// False at the end.
    bool next(Step& step);
    [[nodiscard]] const std::vector<const RunSignal*>& signals() const;
    [[nodiscard]] std::uint64_t damagedBlocks() const;

private:
    struct State;
    std::unique_ptr<State> state_;
};

/// Extremes, mean and number of all readings of a signal: from the stored summaries, and from the samples where there
/// are none yet.
Summary summaryOf(RunReader& reader, const RunSignal& signal);

}  // namespace cruscotto
