#pragma once

#include <cstdint>
#include <limits>
#include <optional>
#include <string>
#include <vector>

#include "core/base/time.h"
#include "core/evidence/evidence.h"
#include "core/signal/block.h"
#include "core/signal/pyramid.h"

namespace cruscotto {

/// One reading as it stood at a moment.
struct Reading {
    double value = std::numeric_limits<double>::quiet_NaN();
    Quality quality = Quality::gap;
    Instant taken;         ///< time of the sample that it comes from
    bool summary = false;  ///< the mean of a summary bucket: the samples themselves are no longer kept
};

/// A column of pixels: what the readings with time in [begin, begin + width) were.
struct Column {
    Instant begin;
    Summary summary;
    bool gapBefore = false;  ///< nothing was measured between the column before and this one
    bool sampled = false;    ///< something was read in it, even if that has no value
    void add(const Summary& read) {
        summary.add(read);
        sampled = true;
    }
    /// What came before does not go on to here.
    [[nodiscard]] bool broken() const { return gapBefore || (sampled && summary.count == 0); }
};

/// `n` columns of `width`, the first beginning at `from`. Precondition: width.ns > 0. Give `from` as a multiple of
/// `width` so that a scrolling picture stands still in its columns.
struct ColumnRequest {
    Instant from;
    Duration width;
    std::size_t n = 0;
};

/// What was behind the stages of a chain, on average.
struct StageMeans {
    std::vector<double> means;  ///< of the raw samples and behind each stage; NaN where nothing had a value
    std::size_t samples = 0;    ///< how many were averaged
};

/// What the readings of a stretch come to; those that are NaN are not counted.
struct StretchSummary {
    double min = std::numeric_limits<double>::quiet_NaN();
    double max = std::numeric_limits<double>::quiet_NaN();
    double mean = std::numeric_limits<double>::quiet_NaN();
    std::uint64_t count = 0;
    double squares = 0;  ///< sum of the squared deviations from the mean
    /// False: summaries reach over its ends, where the samples themselves are no longer kept or not read yet.
    bool exact = true;
    void add(const Summary& other);
    void add(const StretchSummary& other);
    /// Standard deviation of a sample (divided by n - 1); NaN for fewer than two.
    [[nodiscard]] double deviation() const;
};

struct Point {
    Instant t;
    double value = 0;  ///< NaN breaks the line
};

/// Where the screen gets time and data from; live and recorded look the same through it. Signals are named by their
/// id in the bench; an unknown one has no readings. Every call may come from any thread and returns soon: it reads
/// memory only.
class Source {
public:
    virtual ~Source() = default;
    /// All the time there is.
    [[nodiscard]] virtual Span extent() const = 0;
    [[nodiscard]] virtual WallAnchor anchor() const = 0;
    /// The last reading taken at or before t; of the quality gap where t lies in a gap behind it.
    [[nodiscard]] virtual Reading at(const std::string& signal, Instant t) const = 0;
    /// The raw sample and the value behind each stage of the chain, as it is now, at t. Where too few raw samples are
    /// kept to work the stages out again, only the first and the last are given and the others are NaN; empty where
    /// none are.
    [[nodiscard]] virtual std::vector<double> stagesAt(const std::string& signal, Instant t) const = 0;
    /// The values behind the first `stages` stages of the signal's chain in the span, with their times, as far as the
    /// raw samples are still held, `most` at most (the newest). False where they are not.
    [[nodiscard]] virtual bool stageSeries(const std::string& /*signal*/, std::size_t /*stages*/, Span /*span*/,
                                           std::size_t /*most*/, std::vector<double>& /*values*/,
                                           std::vector<Instant>& /*times*/) const {
        return false;
    }
    /// The means of what stagesAt() gives over the samples with time in the span, each counting once: of the latest
    /// 10 000 of them at most, and of those before which enough is kept to work the stages out. No samples: no means.
    [[nodiscard]] virtual StageMeans stageMeans(const std::string& signal, Span span) const = 0;
    /// When the reading last changed, at or before t; nothing if it never did as far as is kept.
    [[nodiscard]] virtual std::optional<Instant> lastChange(const std::string& signal, Instant t) const = 0;
    /// Fills `out` with n columns. Whole summary buckets are counted to the column in which they begin; the returned
    /// pyramid level tells their size (0: single samples). Cost follows n, not the time covered.
    virtual int columns(const std::string& signal, const ColumnRequest& request, std::vector<Column>& out) const = 0;
    /// The single readings in the span, with one more on either side where there is one, and NaN points in gaps. False,
    /// and nothing in `out`, if there are more than `most` or they are no longer kept: ask for columns then.
    virtual bool points(const std::string& signal, Span span, std::size_t most, std::vector<Point>& out) const = 0;
    /// What the readings with time in [from, to) come to. Cost follows the depth of the pyramid, not the time covered.
    [[nodiscard]] virtual StretchSummary summaryOver(const std::string& signal, Span span) const = 0;
    /// What was to be said against the signal's readings at t, the worst first.
    [[nodiscard]] virtual std::vector<Evidence> evidenceAt(const std::string& /*signal*/, Instant /*t*/) const {
        return {};
    }
    /// Grows when what was answered about the past can now be answered better.
    [[nodiscard]] virtual std::uint64_t revision() const { return 0; }
};

}  // namespace cruscotto
