#pragma once

#include <array>
#include <atomic>
#include <memory>
#include <optional>
#include <unordered_map>
#include <vector>

#include "core/chain.h"
#include "core/guarded.h"
#include "core/pyramid.h"
#include "core/shared_ring.h"
#include "core/source.h"

namespace cruscotto {

/// How much a history keeps. The summaries reach back far longer than the samples do.
struct HistorySize {
    std::size_t samples = std::size_t{1} << 17;
    std::size_t buckets = std::size_t{1} << 17;  ///< per level

    /// Bytes of one signal, when all is full.
    [[nodiscard]] std::size_t bytes() const;
    /// As much of this as lets so many signals take 1 GiB together when all is full; 1024 samples and 256 buckets at
    /// least.
    [[nodiscard]] HistorySize sharedBy(std::size_t signals) const;
};

/// When the samples of one scan group were taken: a piecewise straight line from sample number to time, shared by the
/// group's signals. One writer (append), any readers.
class Timeline {
public:
    explicit Timeline(std::size_t segments)
        : first_(segments),
          t0_(segments),
          dt_(segments),
          afterGap_(segments),
          gapBegins_(4096),
          gapQualities_(4096),
          gapEnds_(4096) {}

    /// Writer. Blocks must come in time order. A block that goes on where the last one ended costs nothing.
    void append(const Block& block);

    /// Samples so far. Any thread, like all below.
    [[nodiscard]] std::uint64_t count() const { return count_.load(std::memory_order_acquire); }
    /// Precondition: index < count(). Nothing if it is no longer kept.
    [[nodiscard]] std::optional<Instant> timeOf(std::uint64_t index) const;
    /// Number of the last sample at or before t; nothing if t lies before all that is kept.
    [[nodiscard]] std::optional<std::uint64_t> lastAtOrBefore(Instant t) const;

    struct Segment {
        std::uint64_t first = 0, end = 0;
        Instant t0;
        double dtNs = 0;
        bool afterGap = false;
        [[nodiscard]] Instant timeOf(std::uint64_t i) const {
            return {t0.ns + std::llround(static_cast<double>(i - first) * dtNs)};
        }
    };
    /// Calls each(Instant) for the ends of the gaps in the span, as far as they are kept.
    template <class Each>
    void gapEnds(Span span, Each&& each) const {
        for (std::uint64_t i = gapEnds_.written(); i-- > gapEnds_.firstKept();) {
            const Instant t{gapEnds_.at(i)};
            if (t < span.from) break;
            if (t < span.to) each(t);
        }
    }
    struct Hole {
        Span span;
        Quality quality = Quality::gap;  ///< stale: nothing new came, though somebody was there
    };
    /// The gap in which nothing was measured at t, as far as it is kept. It is known once samples have come again.
    [[nodiscard]] std::optional<Hole> gapAt(Instant t) const;
    /// The segment that holds a sample, if it is kept.
    [[nodiscard]] std::optional<Segment> segmentOf(std::uint64_t index) const;

private:
    [[nodiscard]] Segment segmentAt(std::uint64_t number, std::uint64_t segments, std::uint64_t samples) const;

    SharedRing<std::uint64_t> first_;
    SharedRing<std::int64_t> t0_;
    SharedRing<double> dt_;
    SharedRing<std::uint32_t> afterGap_;  // written last of the four
    SharedRing<std::int64_t> gapBegins_;
    SharedRing<std::uint8_t> gapQualities_;
    SharedRing<std::int64_t> gapEnds_;  // written last of the three
    std::atomic<std::uint64_t> count_{0};
    Segment last_;  // writer's own
};

/// Raw samples in the type in which they came. Threads: as SharedRing.
class RawRing {
public:
    RawRing(SampleType type, std::size_t capacity);
    /// Samples of another type stand for nothing and read as 0.
    void append(const Samples& samples);
    [[nodiscard]] SampleType type() const { return static_cast<SampleType>(rings_.index()); }
    [[nodiscard]] std::uint64_t firstKept() const {
        return std::visit([](const auto& r) { return r->firstKept(); }, rings_);
    }
    [[nodiscard]] double at(std::uint64_t index) const {
        return std::visit([&](const auto& r) { return static_cast<double>(r->at(index)); }, rings_);
    }
    /// As they came. What has been overwritten meanwhile is of no use: look at firstKept() behind it.
    [[nodiscard]] Samples copy(std::uint64_t first, std::size_t n) const;

private:
    template <class T>
    using Ring = std::unique_ptr<SharedRing<T>>;
    // the alternatives stand as in Samples
    std::variant<Ring<std::int16_t>, Ring<std::int32_t>, Ring<std::uint32_t>, Ring<float>, Ring<double>,
                 Ring<std::uint8_t>>
        rings_;
};

/// A bucket that has become full, for whoever keeps them.
struct FinishedBucket {
    int level = 1;
    Bucket bucket;
};

/// Raw samples, readings and their summaries of one signal. One writer, any readers; no reader blocks the writer.
class SignalHistory {
public:
    /// Sample 0 of this history is sample timeline->count() at this moment.
    SignalHistory(std::shared_ptr<const Timeline> timeline, SampleType type, const HistorySize& size);

    /// Writer. The timeline must hold the block's times already. Both have the block's length. Buckets that become full
    /// are put behind `finished` where it is given.
    void append(const Samples& raw, const Readings& readings, std::vector<FinishedBucket>* finished = nullptr);
    [[nodiscard]] SampleType rawType() const { return raw_.type(); }
    /// Writer. From here on the last reading has this quality (stale, gap) until the next append, or until it is marked
    /// as there.
    void markLost(Instant at, Quality quality) {
        lostQuality_.store(quality, std::memory_order_relaxed);
        lostAt_.store(at.ns, std::memory_order_release);
    }
    void markThere() { lostAt_.store(std::numeric_limits<std::int64_t>::max(), std::memory_order_release); }

    [[nodiscard]] std::uint64_t count() const;
    [[nodiscard]] std::optional<Span> extent() const;
    [[nodiscard]] Reading at(Instant t) const;
    [[nodiscard]] std::optional<Instant> lastChange(Instant t) const;
    int columns(const ColumnRequest& request, std::vector<Column>& out) const;
    [[nodiscard]] bool points(Span span, std::size_t most, std::vector<Point>& out) const;
    /// Samples [first, end) by the timeline's count that are held now; what is asked for soon after is still there.
    [[nodiscard]] std::pair<std::uint64_t, std::uint64_t> held() const;
    struct Stretch {
        Samples raw;
        std::vector<double> readings;
        std::vector<QualityInterval> quality;  ///< what the device said: open sensor and worse
    };
    /// Samples [first, first + n) by the timeline's count; false if they are no longer all held.
    [[nodiscard]] bool copy(std::uint64_t first, std::size_t n, Stretch& out) const;
    /// The raw samples that end at t: at least n of them and at least `reach` back, where that much is kept.
    [[nodiscard]] bool rawBefore(Instant t, std::size_t n, Duration reach, std::vector<double>& raw,
                                 std::vector<Instant>& times) const;

private:
    struct Level {
        explicit Level(std::size_t n) : begin(n), min(n), max(n), mean(n), squares(n), worst(n), samples(n) {}
        SharedRing<std::int64_t> begin;
        SharedRing<double> min, max, mean, squares;
        SharedRing<std::uint8_t> worst;     // Quality
        SharedRing<std::uint32_t> samples;  // written last
        [[nodiscard]] std::uint64_t count() const { return samples.written(); }
        [[nodiscard]] Summary summary(std::uint64_t i) const {
            return {min.at(i), max.at(i), mean.at(i), samples.at(i), squares.at(i)};
        }
        /// Number of the last bucket that begins at or before t.
        [[nodiscard]] std::optional<std::uint64_t> lastAtOrBefore(Instant t) const;
    };
    [[nodiscard]] const Level& level(int l) const { return *levels_[static_cast<std::size_t>(l - 1)]; }
    [[nodiscard]] std::uint64_t firstKeptSample() const;
    [[nodiscard]] std::optional<std::uint64_t> sampleAt(Instant t) const;
    [[nodiscard]] Quality qualityOf(std::uint64_t sample) const;
    [[nodiscard]] Reading lastTaken(Instant t) const;

    const std::shared_ptr<const Timeline> timeline_;
    const std::uint64_t base_;
    RawRing raw_;
    SharedRing<double> readings_;               // written after raw_
    SharedRing<std::uint64_t> qualityChanges_;  // sample << 8 | quality, from that sample on
    std::array<std::unique_ptr<Level>, pyramidLevels> levels_;
    std::atomic<std::int64_t> lostAt_{std::numeric_limits<std::int64_t>::max()};
    std::atomic<Quality> lostQuality_{Quality::gap};
    PyramidBuilder builder_;               // writer's own
    Quality lastQuality_ = Quality::good;  // writer's own
};

/// The histories of many signals as one Source. The set of signals changes under `mutex_`; everything in a history is
/// read without it.
class HistorySource : public Source {
public:
    void set(const std::string& signal, std::shared_ptr<SignalHistory> history, const ChainSpec& chain,
             ChannelKind kind);
    /// The same, where what was measured before stays the signal's past: its samples come from elsewhere from now on,
    /// on another clock.
    void follow(const std::string& signal, std::shared_ptr<SignalHistory> history, const ChainSpec& chain,
                ChannelKind kind);
    /// Only for stagesAt() and stageMeans().
    void setChain(const std::string& signal, const ChainSpec& chain);
    void remove(const std::string& signal);
    void clear();
    void setExtent(Span extent);
    void setAnchor(WallAnchor anchor);

    [[nodiscard]] Span extent() const override;
    [[nodiscard]] WallAnchor anchor() const override;
    [[nodiscard]] Reading at(const std::string& signal, Instant t) const override;
    [[nodiscard]] std::vector<double> stagesAt(const std::string& signal, Instant t) const override;
    [[nodiscard]] StageMeans stageMeans(const std::string& signal, Span span) const override;
    [[nodiscard]] std::optional<Instant> lastChange(const std::string& signal, Instant t) const override;
    int columns(const std::string& signal, const ColumnRequest& request, std::vector<Column>& out) const override;
    bool points(const std::string& signal, Span span, std::size_t most, std::vector<Point>& out) const override;

protected:
    struct Entry {
        std::shared_ptr<SignalHistory> history;
        ChainSpec chain;
        ChannelKind kind = ChannelKind::analogInput;
        std::vector<std::shared_ptr<SignalHistory>> earlier{};  ///< oldest first
        /// The one that knows what was at t.
        [[nodiscard]] const SignalHistory* at(Instant t) const;
    };
    [[nodiscard]] Entry find(const std::string& signal) const;

private:
    mutable Mutex mutex_;
    std::unordered_map<std::string, Entry> entries_ GUARDED_BY(mutex_);
    WallAnchor anchor_ GUARDED_BY(mutex_);
    std::atomic<std::int64_t> extentFrom_{0}, extentTo_{0};
};

}  // namespace cruscotto
