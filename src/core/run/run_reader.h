#pragma once

#include <functional>
#include <limits>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/base/result.h"
#include "core/bench/bench.h"
#include "core/signal/block.h"
#include "core/signal/pyramid.h"

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

/// What a signal was from one of its samples on.
struct RunDefinition {
    std::uint64_t first = 0;  ///< number of that sample in its group
    Instant from;             ///< its time
    SignalSpec spec;
};

struct RunSignal {
    std::int64_t id = 0;     ///< in the file; negative: the bench has it, and nothing came of it
    std::string key;         ///< the signal's id in the bench
    std::int64_t group = 0;  ///< 0: none, as nothing came
    SampleType type = SampleType::float64;
    std::uint64_t samples = 0;
    /// In order; the first holds from the run's start.
    std::vector<RunDefinition> definitions;
    /// Of one whose readings were recorded with the raw samples beside them: the id in the file of those, which are as
    /// many. See RunInfo::raw.
    std::optional<std::int64_t> raw = {};
    [[nodiscard]] const SignalSpec& current() const { return definitions.back().spec; }
};
struct RunGroup {
    std::int64_t id = 0;
    std::string device;
    std::string name;
    double rateHz = 0;
    std::uint64_t samples = 0;  ///< per signal
    Span span;                  ///< of the first and just behind the last sample
    std::vector<Gap> gaps;
    std::vector<std::uint64_t> gapsBefore;  ///< the number of the sample behind each of them
};

/// Readings that were worked out again from the raw samples.
struct RunVersion {
    int id = 0;  ///< from 1; 0 is what was recorded
    std::int64_t madeUnixNs = 0;
    std::string words;
    std::vector<std::string> signals;  ///< whose chain it corrects
};

/// What a run file says about itself.
struct RunInfo {
    std::string path;
    Bench bench;  ///< as it was at the end; what was recorded as readings stands in it as what it is
    /// Computed signals, whose readings were recorded, as they were worked out.
    std::vector<std::shared_ptr<const SignalSpec>> computed;
    /// Raw samples that were recorded beside readings, by their id in the file: with the chain that those come by,
    /// under the key of the signal that it is.
    std::map<std::int64_t, RunSignal> raw;
    RunNotes notes;
    bool closed = false;
    Span span;
    std::vector<WallAnchor> anchors;
    std::vector<RunGroup> groups;
    std::vector<RunSignal> signals;
    std::vector<RunMark> marks;
    std::vector<RunEvent> events;
    std::vector<RunVersion> versions;
    int version = 0;              ///< the one that the definitions, summaries and bench are of
    std::uint64_t fileBytes = 0;  ///< of the file, with what is still in its journal
    /// What of the run does not read, and what is shown in its place; the samples are there all the same.
    std::vector<Text> problems;
    /// `bench` with the computations that its computed signals came from.
    [[nodiscard]] Bench benchThatComputes() const;
    [[nodiscard]] std::uint64_t lostSamples() const;
    [[nodiscard]] const RunSignal* signal(const std::string& key) const;
    /// What the signal is now, with the chain that its raw samples go through; of readings alone as
    /// RunSignal::current().
    [[nodiscard]] const SignalSpec& measuredAs(const RunSignal& s) const;
};

/// Reads a run file, also while it is being written. Damaged blocks are counted and passed over. Each object is
/// confined to one thread at a time; open several for several threads.
class RunReader {
public:
    /// `version` 0: as it was recorded; the newest where it is left out.
    static Result<std::unique_ptr<RunReader>> open(const std::string& path, std::optional<int> version = {});
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
    /// Which part of a group to read: blocks with samples in the span, and of them the named signals (ids in the file;
    /// all where empty).
    struct Part {
        Span span{{std::numeric_limits<std::int64_t>::min()}, {std::numeric_limits<std::int64_t>::max()}};
        std::vector<std::int64_t> signals;
        /// Behind the columns of those signals the raw samples beside them, of each that has some, in the same order.
        bool raw = false;
    };
    /// Valid as long as the reader.
    Blocks blocks(std::int64_t group, const Part& part);
    Blocks blocks(std::int64_t group) { return blocks(group, {}); }
    /// From when on the group must be replayed so that the readings of these signals (ids in the file; all where empty)
    /// from `from` on are those of a replay of the whole run: chains look back only so far.
    Instant replayFrom(std::int64_t group, const std::vector<std::int64_t>& signals, Instant from);
    /// The stored summaries of one signal in time order, levels 2 to pyramidLevels; what has filled no bucket yet is
    /// missing at the end.
    std::vector<Bucket> summaries(std::int64_t signal, int level);

private:
    struct State;
    explicit RunReader(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace cruscotto
