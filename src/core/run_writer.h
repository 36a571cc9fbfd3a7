#pragma once

#include <memory>
#include <string>
#include <vector>

#include "core/bench.h"
#include "core/block.h"
#include "core/chain.h"
#include "core/result.h"

namespace cruscotto {

/// A column of a block together with the signal that it belongs to and the readings that its chain made of it.
struct RecordedColumn {
    std::size_t column = 0;
    std::string signal;
    std::shared_ptr<const Readings> readings;  ///< for the pyramid; the raw samples are what is kept
};

/// Writes one run file (docs/run-format.md). Confined to one thread. Everything handed over is on disk after the next
/// commit() that succeeds; after one that fails everything is still held and the next one tries again.
class RunWriter {
public:
    /// Refuses to overwrite an existing file.
    static Result<std::unique_ptr<RunWriter>> create(const std::string& path, const Bench& bench, WallAnchor start);
    ~RunWriter();
    RunWriter(const RunWriter&) = delete;
    RunWriter& operator=(const RunWriter&) = delete;

    void add(const BlockPtr& block, const std::vector<RecordedColumn>& columns);
    /// The signal has this definition for all samples of blocks added from now on, the first of them at `from`.
    void define(const SignalSpec& signal, Instant from);
    void addBench(const Bench& bench, Instant at);
    void addAnchor(WallAnchor anchor);
    void addEvent(Instant at, const std::string& kind, const std::string& words);
    void addMark(Instant at, const std::string& words);

    /// Bytes held in memory and not yet on disk.
    [[nodiscard]] std::size_t pendingBytes() const;
    Result<void> commit();
    /// Gives up what is pending of the samples and notes it as a gap with its exact number of samples. Returns the
    /// number of samples given up, over all signals.
    std::uint64_t dropPending(const std::string& cause);
    /// Commits and marks the run as closed.
    Result<void> close();

    [[nodiscard]] std::uint64_t bytesOnDisk() const;
    [[nodiscard]] std::uint64_t samplesWritten() const;

private:
    struct State;
    explicit RunWriter(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace cruscotto
