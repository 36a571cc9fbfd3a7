#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/base/result.h"
#include "core/bench/bench.h"
#include "core/history/signal_history.h"
#include "core/signal/block.h"

namespace cruscotto {

/// A column of a block together with the signal that it belongs to.
struct RecordedColumn {
    std::size_t column = 0;
    std::string signal;
    /// What the signal is for these samples: goes into the run as its definition from the first of them on. Empty: as
    /// it was defined last.
    std::shared_ptr<const SignalSpec> spec{};
    /// Raw samples beside the readings of a signal: one sample with those, where samples are counted.
    bool beside = false;
};
/// How many of them are counted.
std::size_t countedOf(const std::vector<RecordedColumn>& columns);
/// Shared, so that those of the block before are recognised by their address.
using RecordedColumns = std::shared_ptr<const std::vector<RecordedColumn>>;
/// A summary of readings that has become complete, of the column at `index` of the list of recorded columns.
struct RecordedBucket {
    std::size_t index = 0;
    FinishedBucket finished;
};

/// Samples that were taken and cannot be recorded: what is noted of them is little, however many they are.
struct LostSamples {
    std::shared_ptr<const ScanGroup> group;
    std::uint64_t firstIndex = 0;
    std::uint64_t n = 0;  ///< per signal
    Span span;            ///< of the first and just behind the last
    std::vector<std::pair<std::string, SampleType>> signals;
    std::string cause;
};

/// Writes one run file (docs/run-format.md). Confined to one thread. Everything handed over survives the process after
/// the next commit() that succeeds, and a power cut soon after (RunSettler); after a commit that fails everything is
/// still held and the next one tries again.
class RunWriter {
public:
    /// Refuses to overwrite an existing file.
    static Result<std::unique_ptr<RunWriter>> create(const std::string& path, const Bench& bench, WallAnchor start);
    ~RunWriter();
    RunWriter(const RunWriter&) = delete;
    RunWriter& operator=(const RunWriter&) = delete;

    void add(const BlockPtr& block, const RecordedColumns& columns, const std::vector<RecordedBucket>& buckets = {});
    void add(const BlockPtr& block, std::vector<RecordedColumn> columns,
             const std::vector<RecordedBucket>& buckets = {});
    /// Noted as a gap with its exact number of samples.
    void addLost(const LostSamples& lost);
    /// The signal has this definition for all samples of blocks added from now on, the first of them at `from`.
    void define(const SignalSpec& signal, Instant from);
    /// Signals of which nothing comes any more are defined as they are in it when the run is closed.
    void addBench(const Bench& bench, Instant at);
    void addAnchor(WallAnchor anchor);
    void addEvent(Instant at, const std::string& kind, const std::string& words);
    void addMark(Instant at, const std::string& words);

    /// Bytes held in memory and not yet on disk.
    [[nodiscard]] std::size_t pendingBytes() const;
    Result<void> commit();
    /// The last commits are written, but the disk does not confirm them.
    [[nodiscard]] std::optional<Error> trouble() const;
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
