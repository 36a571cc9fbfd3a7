#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "core/bench.h"
#include "core/block.h"
#include "core/pyramid.h"
#include "core/result.h"

namespace cruscotto {

struct RunMark {
    Instant at;
    std::string words;
};
struct RunEvent {
    Instant at;
    std::string kind;
    std::string words;
};

struct RunSignal {
    std::int64_t id = 0;  ///< in the file
    std::string key;      ///< the signal's id in the bench
    std::int64_t group = 0;
    SampleType type = SampleType::float64;
    std::uint64_t samples = 0;
    /// In time order; the first holds from the run's start.
    std::vector<std::pair<Instant, SignalSpec>> definitions;
    [[nodiscard]] const SignalSpec& current() const { return definitions.back().second; }
};
struct RunGroup {
    std::int64_t id = 0;
    std::string device;
    std::string name;
    double rateHz = 0;
    std::uint64_t samples = 0;  ///< per signal
    Span span;                  ///< of the first and just behind the last sample
    std::vector<Gap> gaps;
};

/// What a run file says about itself.
struct RunInfo {
    std::string path;
    Bench bench;  ///< as it was at the end
    bool closed = false;
    Span span;
    std::vector<WallAnchor> anchors;
    std::vector<RunGroup> groups;
    std::vector<RunSignal> signals;
    std::vector<RunMark> marks;
    std::vector<RunEvent> events;
    std::uint64_t fileBytes = 0;
    [[nodiscard]] std::uint64_t lostSamples() const;
    [[nodiscard]] const RunSignal* signal(const std::string& key) const;
};

/// Reads a run file, also while it is being written. Damaged blocks are counted and passed over. Each object is
/// confined to one thread at a time; open several for several threads.
class RunReader {
public:
    static Result<std::unique_ptr<RunReader>> open(const std::string& path);
    ~RunReader();
    [[nodiscard]] const RunInfo& info() const;

    /// The blocks of one group in the order in which they were taken. Channels are named by signal key.
    class Blocks {
    public:
        ~Blocks();
        Blocks(Blocks&&) noexcept;
        /// Null at the end.
        BlockPtr next();
        /// Blocks that could not be read so far.
        [[nodiscard]] std::uint64_t damaged() const;

    private:
        friend class RunReader;
        struct State;
        explicit Blocks(std::unique_ptr<State> state);
        std::unique_ptr<State> state_;
    };
    /// Valid as long as the reader.
    Blocks blocks(std::int64_t group);
    /// The stored summaries of one signal, for a first picture; the newest seconds may be missing.
    std::vector<Bucket> summaries(std::int64_t signal, int level);

private:
    struct State;
    explicit RunReader(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

/// Runs a group's blocks through the chains that its signals had at the time.
class RunReplay {
public:
    RunReplay(RunReader& reader, std::int64_t group);
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

}  // namespace cruscotto
