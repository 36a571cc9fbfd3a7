#pragma once

#include <atomic>
#include <condition_variable>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <thread>

#include "core/base/guarded.h"
#include "core/history/history_source.h"
#include "core/run/run_reader.h"

namespace cruscotto {

/// A recorded run as a Source. A thread of its own reads the stored summaries first, so that the whole length can be
/// shown at once, and then the samples, through the chains they were recorded with: all of them where they fit into the
/// memory given, else those of the stretches that are looked at. Until they are there the summaries answer, and
/// revision() tells when it is worth asking again. All members may be called from any thread.
class RunSource : public Source {
public:
    /// Begins to read. `memoryBytes` bounds what single samples may take. `version`: see RunReader::open.
    explicit RunSource(std::string path, std::size_t memoryBytes = std::size_t{1} << 30,
                       std::optional<int> version = {});
    /// Stops reading, if it has not ended.
    ~RunSource() override;

    struct State {
        bool opened = false;  ///< info() can be asked for, and the whole length be shown
        bool done = false;    ///< nothing more will come by itself
        double fraction = 0;
        bool inParts = false;  ///< the samples do not all fit; they are read where somebody looks
        std::uint64_t damagedBlocks = 0;
        std::optional<Error> error;
    };
    [[nodiscard]] State state() const;
    /// Precondition: state().opened.
    [[nodiscard]] std::shared_ptr<const RunInfo> info() const;

    [[nodiscard]] Span extent() const override { return loaded_.extent(); }
    [[nodiscard]] WallAnchor anchor() const override { return loaded_.anchor(); }
    [[nodiscard]] Reading at(const std::string& signal, Instant t) const override;
    [[nodiscard]] std::vector<double> stagesAt(const std::string& signal, Instant t) const override;
    [[nodiscard]] bool stageSeries(const std::string& signal, std::size_t stages, Span span, std::size_t most,
                                   std::vector<double>& values, std::vector<Instant>& times) const override;
    [[nodiscard]] StageMeans stageMeans(const std::string& signal, Span span) const override;
    [[nodiscard]] std::optional<Instant> lastChange(const std::string& signal, Instant t) const override;
    int columns(const std::string& signal, const ColumnRequest& request, std::vector<Column>& out) const override;
    bool points(const std::string& signal, Span span, std::size_t most, std::vector<Point>& out) const override;
    [[nodiscard]] StretchSummary summaryOver(const std::string& signal, Span span) const override;
    [[nodiscard]] std::vector<Evidence> evidenceAt(const std::string& signal, Instant t) const override {
        return loaded_.evidenceAt(signal, t);
    }
    /// From now on stagesAt() tells what this chain makes of the signal's raw samples; readings stay as they are.
    void tryChain(const std::string& signal, const ChainSpec& chain) { loaded_.setChain(signal, chain); }
    [[nodiscard]] std::uint64_t revision() const override { return revision_.load(std::memory_order_acquire); }

private:
    /// The stored summaries of a signal. The coarse levels are fixed once it is opened, the finest once `finest` says
    /// so: of a long run it is most of them, and the first picture does not need it.
    struct Overview {
        std::array<std::vector<Bucket>, pyramidLevels> levels;  ///< by level - 1; levels that are not stored are empty
        double intervalNs = 0;                                  ///< between samples, on average
        std::atomic<bool> finest{false};
        [[nodiscard]] const std::vector<Bucket>& buckets(int level) const {
            return levels[static_cast<std::size_t>(level - 1)];
        }
        [[nodiscard]] int finestLevel() const;
    };
    void readFinest(RunReader& reader, const RunSignal& signal);
    void read(const std::stop_token& stop);
    void readWhole(RunReader& reader, const std::stop_token& stop);
    void readWanted(RunReader& reader, const std::stop_token& stop);
    void load(RunReader& reader, const RunGroup& group, const RunReader::Part& part, const std::stop_token& stop);
    [[nodiscard]] bool covers(const std::string& signal, Span span) const;
    /// With those that its chain takes.
    [[nodiscard]] bool coversStages(const std::string& signal, Span span) const;
    void want(const std::string& signal, Span span) const;
    [[nodiscard]] const Overview* overview(const std::string& signal) const;
    static void addOver(const Overview& overview, int level, int finestLevel, Span span, StretchSummary& out);
    static int columnsOf(const Overview& overview, const ColumnRequest& request, std::vector<Column>& out);

    const std::string path_;
    const std::size_t memoryBytes_;
    const std::optional<int> version_;
    HistorySource loaded_;
    std::atomic<std::uint64_t> revision_{0};
    std::map<std::string, Overview> overviews_;               // written before `opened`, fixed from then on, as are:
    std::map<std::string, std::vector<NeededSignal>> needs_;  // what chains take
    std::atomic<bool> overviewsStand_{false};
    std::atomic<bool> inParts_{false};

    mutable Mutex mutex_;
    mutable std::condition_variable_any wanting_;
    State state_ GUARDED_BY(mutex_);
    std::shared_ptr<const RunInfo> info_ GUARDED_BY(mutex_);
    std::map<std::string, Span> loadedSpans_ GUARDED_BY(mutex_);
    mutable std::map<std::string, Span> wanted_ GUARDED_BY(mutex_);
    mutable std::map<std::string, Span> last_
        GUARDED_BY(mutex_);  // what was wanted last, so that a look at a moment joins it

    std::jthread thread_;
};

}  // namespace cruscotto
