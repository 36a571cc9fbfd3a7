#pragma once

#include <chrono>
#include <condition_variable>
#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <thread>

#include "core/base/guarded.h"
#include "core/run/run_writer.h"
#include "devices/device.h"

namespace cruscotto {

/// What there is to say about a recording. Sizes in bytes, samples over all signals.
struct RecordingStatus {
    bool active = false;
    std::string path;
    Instant since;
    int parts = 1;              ///< files so far; `path` is the last one
    std::uint64_t bytes = 0;    ///< of all of them
    std::uint64_t samples = 0;  ///< on disk
    std::uint64_t lost = 0;     ///< not recorded, each one noted in the run as part of a gap
    std::string lostTo{};       ///< why the last of those were lost, a sentence
    Text problem;               ///< empty: all is well
    /// What the run did not get, of all that was recorded so far.
    struct Skipped {
        std::string device;       ///< its id
        std::uint64_t count = 0;  ///< of lines, frames or replies that did not fit
        std::string last{};       ///< why the last one did not
    };
    std::vector<Skipped> skipped{};
    std::map<std::string, std::string>
        troubles{};                    ///< devices that did not deliver at some time, and what was said then
    std::vector<std::string> empty{};  ///< ids of signals of which nothing came; told at the end
    bool stuck = false;                ///< nothing can be written now
    bool byShots = false;              ///< only shots are recorded
    int shots = 0;                     ///< taken so far
    bool complete = false;  ///< nothing more will be recorded: all planned shots taken, or the disk nearly full
    /// How long the disk takes the run at the rate of the last seconds, down to what is kept free; empty: not known
    /// yet.
    std::optional<Duration> diskLeft;
    /// While nothing can be written: how long memory holds what comes.
    std::optional<Duration> memoryLeft;
};

struct RecorderLimits {
    std::size_t queueBytes = std::size_t{128} << 20;
    std::size_t pendingBytes = std::size_t{128} << 20;  ///< kept in memory while the disk refuses
    Duration commitEvery = milliseconds(250);
    /// So much in memory is committed sooner, after `commitSoon`: it leaves time for a disk that hesitates.
    std::size_t soonBytes = std::size_t{128} << 10;
    Duration commitSoon = milliseconds(100);
    /// A new file after so much of the bench's time, or so many bytes; 0: never. See Recorder::nextFile.
    Duration splitEvery;
    std::uint64_t splitBytes = 0;
    /// With less than this free on the disk a recording ends in order; 0: never.
    std::uint64_t keepFreeBytes = std::uint64_t{256} << 20;
    /// Bytes free where the path is; the file system's answer where empty. Called on the recorder's thread.
    std::function<std::optional<std::uint64_t>(const std::string& path)> freeBytes;
};

/// Writes one run on a thread of its own. add() and the others never wait for the disk in real time; as fast as
/// possible they wait while the queue is full. Those and close() are called from one thread; status() from any.
class Recorder {
public:
    /// Which columns of a group's blocks are recorded; one object as long as they stay the same.
    using Columns = RecordedColumns;

    /// What the files after the first begin with.
    struct Beginning {
        Bench bench;
        WallAnchor anchor;
    };
    Recorder(std::unique_ptr<RunWriter> writer, std::string path, Instant since, Pace pace, RecorderLimits limits = {},
             Beginning beginning = {});
    ~Recorder();

    void add(BlockPtr block, Columns columns, std::vector<RecordedBucket> buckets = {});
    /// Something small, in its place between the blocks.
    void note(std::function<void(RunWriter&)> what);
    /// The bench as it is from here on.
    void take(const Bench& bench, Instant at);
    void anchor(WallAnchor anchor);
    /// Everything handed over so far is written and the run closed.
    void close();
    [[nodiscard]] RecordingStatus status() const;

private:
    struct Item {
        BlockPtr block;
        Columns columns;
        std::vector<RecordedBucket> buckets;
        std::function<void(RunWriter&)> note;
        std::function<void()> remember;  // the recorder's own part of a note
        std::size_t bytes = 0;
    };
    void push(Item item);
    void lose(const Item& item) HOLDING(mutex_);
    void noteLost(const ScanGroup* group) HOLDING(mutex_);
    void hurry() HOLDING(mutex_);
    void work();
    void commit();
    void watchDisk();
    void splitWhereItIsTime();
    void repeatStanding();

    // fixed after construction
    const Pace pace_;
    const RecorderLimits limits_;
    // the recorder thread's own
    std::unique_ptr<RunWriter> writer_;
    struct Moment {
        std::chrono::steady_clock::time_point at;
        std::uint64_t onDisk = 0, taken = 0;
    };
    std::deque<Moment> lately_;  // the last seconds
    std::uint64_t taken_ = 0;    // bytes handed over
    Beginning beginning_;
    const std::string firstPath_;
    std::string path_;         // of the file that is being written
    Instant fileSince_, end_;  // of that file, and of what has been taken so far
    std::uint64_t samplesBefore_ = 0, bytesBefore_ = 0;
    int part_ = 1;
    /// The last sample of each output, so that each file tells what it stands at from its beginning.
    struct Standing {
        BlockPtr block;
        Columns columns;
    };
    std::map<std::pair<std::string, std::string>, Standing> standing_;  // by device and group
    mutable Mutex mutex_;
    std::condition_variable_any changed_;
    std::deque<Item> queue_ GUARDED_BY(mutex_);
    std::size_t queuedBytes_ GUARDED_BY(mutex_) = 0;
    bool closing_ GUARDED_BY(mutex_) = false;
    bool hurry_ GUARDED_BY(mutex_) = false;  // what is queued is to be fetched now
    bool ended_ GUARDED_BY(mutex_) = false;  // by itself; nothing more is taken
    RecordingStatus status_ GUARDED_BY(mutex_);
    std::map<const ScanGroup*, LostSamples> losing_ GUARDED_BY(mutex_);  // what is being lost just now, a group each

    std::thread thread_;
};

}  // namespace cruscotto
