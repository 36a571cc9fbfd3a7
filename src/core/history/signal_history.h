#pragma once

#include <array>
#include <atomic>
#include <limits>
#include <memory>
#include <optional>
#include <utility>
#include <variant>
#include <vector>

#include "core/base/shared_ring.h"
#include "core/chain/chain.h"
#include "core/history/source.h"
#include "core/history/timeline.h"
#include "core/signal/pyramid.h"

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
    /// Every `stride`-th sample before `end`, the last one always, `n` at most, in order.
    void thinned(std::uint64_t end, std::size_t n, std::size_t stride, std::vector<double>& out) const;
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
    [[nodiscard]] StretchSummary summaryOver(Span span) const;
    [[nodiscard]] bool points(Span span, std::size_t most, std::vector<Point>& out) const;
    /// Samples [first, end) by the timeline's count that are held now; what is asked for soon after is still there.
    [[nodiscard]] std::pair<std::uint64_t, std::uint64_t> held() const;
    struct Stretch {
        Samples raw;
        std::vector<double> readings;
        std::vector<QualityInterval> quality;  ///< of the readings
        std::vector<QualityInterval> said;     ///< of it what the chain does not find again by itself
    };
    /// Samples [first, first + n) by the timeline's count; false if they are no longer all held.
    [[nodiscard]] bool copy(std::uint64_t first, std::size_t n, Stretch& out) const;
    /// The newest raw samples, every `stride`-th of them, `n` at most, as far as they are held. Returns the number of
    /// the sample behind the last one, by the timeline's count.
    std::uint64_t newestRaw(std::size_t n, std::size_t stride, std::vector<double>& out) const;
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

}  // namespace cruscotto
