#pragma once

#include <condition_variable>
#include <deque>
#include <functional>
#include <memory>
#include <mutex>
#include <string>
#include <thread>

#include "core/run_writer.h"
#include "devices/device.h"

namespace cruscotto {

/// What there is to say about a recording. Sizes in bytes, samples over all signals.
struct RecordingStatus {
    bool active = false;
    std::string path;
    Instant since;
    std::uint64_t bytes = 0;
    std::uint64_t samples = 0;  ///< on disk
    std::uint64_t lost = 0;     ///< not recorded, each one noted in the run as part of a gap
    Text problem;               ///< empty: all is well
};

struct RecorderLimits {
    std::size_t queueBytes = std::size_t{128} << 20;
    std::size_t pendingBytes = std::size_t{64} << 20;  ///< kept in memory while the disk refuses
    Duration commitEvery = milliseconds(300);
};

/// Writes one run on a thread of its own. add() and the others never wait for the disk in real time; as fast as
/// possible they wait while the queue is full. Those and close() are called from one thread; status() from any.
class Recorder {
public:
    Recorder(std::unique_ptr<RunWriter> writer, std::string path, Instant since, Pace pace, RecorderLimits limits = {});
    ~Recorder();

    void add(BlockPtr block, std::vector<RecordedColumn> columns);
    /// Something small, in its place between the blocks.
    void note(std::function<void(RunWriter&)> what);
    /// Everything handed over so far is written and the run closed.
    void close();
    [[nodiscard]] RecordingStatus status() const;

private:
    struct Item {
        BlockPtr block;
        std::vector<RecordedColumn> columns;
        std::function<void(RunWriter&)> note;
        std::size_t bytes = 0;
    };
    void push(Item item);
    void work();
    void commit();

    // fixed after construction
    const Pace pace_;
    const RecorderLimits limits_;
    // the recorder thread's own
    std::unique_ptr<RunWriter> writer_;
    // guarded by mutex_
    mutable std::mutex mutex_;
    std::condition_variable changed_;
    std::deque<Item> queue_;
    std::size_t queuedBytes_ = 0;
    bool closing_ = false;
    RecordingStatus status_;

    std::thread thread_;
};

}  // namespace cruscotto
