#pragma once

#include <condition_variable>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <optional>
#include <set>
#include <thread>
#include <vector>

#include "core/base/guarded.h"
#include "core/signal/block.h"

namespace cruscotto {

/// Blocks of one layout that follow each other without a gap, joined until the next commit.
struct PendingBlock {
    std::int64_t id = 0;      // 0: not on disk yet
    std::size_t written = 0;  // samples that are on disk
    std::int64_t layout = 0;
    std::uint64_t firstIndex = 0;
    std::size_t n = 0;
    Instant t0;
    double dtNs = 0;
    std::vector<Instant> times;
    std::vector<Samples> columns;
    std::size_t counted = 0;                            // of these; see RecordedColumn
    std::vector<std::vector<QualityInterval>> quality;  // counted from the pending block's first sample
    std::optional<Gap> gapBefore;
    bool open = true;
    bool handedOver = false;        // to the packer
    std::vector<std::byte> packed;  // in its stored form, behind BlockPacker::waitFor()
    [[nodiscard]] bool clocked() const { return times.empty(); }
    [[nodiscard]] Instant timeOf(std::size_t i) const {
        return clocked() ? Instant{t0.ns + std::llround(static_cast<double>(i) * dtNs)} : times[i];
    }
    [[nodiscard]] Instant end() const { return clocked() ? timeOf(n) : times.back(); }
    [[nodiscard]] std::size_t bytes() const {
        std::size_t sum = times.size() * sizeof(Instant);
        for (const Samples& c : columns) sum += bytesOf(c).size();
        return sum;
    }
};

/// The bytes that a run keeps of the block (docs/run-format.md), in place of what is in `data`.
void storedForm(const PendingBlock& b, std::vector<std::byte>& data);

/// Brings blocks that are complete into their stored form, on a thread of its own: the writer meanwhile takes more, or
/// waits for the disk. Its calls come from the writer's thread; a block handed over stays where it is, and as it is,
/// until it has been waited for.
class BlockPacker {
public:
    BlockPacker();
    /// Leaves what has not been packed.
    ~BlockPacker() = default;
    void add(PendingBlock& block);
    /// Until it is in `packed`.
    void waitFor(const PendingBlock& block);
    /// Room that somebody else needs no more, for the next block.
    void reuse(std::vector<std::byte> room);

private:
    void work(const std::stop_token& stop);

    Mutex mutex_;
    std::condition_variable_any changed_;
    std::deque<PendingBlock*> queue_ GUARDED_BY(mutex_);
    std::set<const PendingBlock*> unfinished_ GUARDED_BY(mutex_);
    std::vector<std::vector<std::byte>> spare_ GUARDED_BY(mutex_);
    std::jthread thread_;
};

}  // namespace cruscotto
