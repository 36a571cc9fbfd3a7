#include "core/history/signal_history.h"

#include <algorithm>
#include <cmath>

#include "core/history/last_not_after.h"

namespace cruscotto {

RawRing::RawRing(SampleType type, std::size_t capacity) {
    const Samples like = makeSamples(type, 0);
    std::visit(
        [&](const auto& v) {
            using T = typename std::decay_t<decltype(v)>::value_type;
            rings_ = std::make_unique<SharedRing<T>>(capacity);
        },
        like);
}

void RawRing::append(const Samples& samples) {
    std::visit(
        [&](auto& ring) {
            using T = std::decay_t<decltype(ring->at(0))>;
            if (const auto* v = std::get_if<std::vector<T>>(&samples))
                ring->append(v->data(), v->size());
            else
                for (std::size_t i = sizeOf(samples); i > 0; --i) ring->append(T{});
        },
        rings_);
}

Samples RawRing::copy(std::uint64_t first, std::size_t n) const {
    return std::visit(
        [&](const auto& ring) -> Samples {
            std::vector<std::decay_t<decltype(ring->at(0))>> out(n);
            for (std::size_t i = 0; i < n; ++i) out[i] = ring->at(first + i);
            return out;
        },
        rings_);
}

void RawRing::thinned(std::uint64_t end, std::size_t n, std::size_t stride, std::vector<double>& out) const {
    out.clear();
    std::visit(
        [&](const auto& ring) {
            const std::uint64_t first = ring->firstKept();
            if (end <= first) return;
            n = std::min<std::size_t>(n, (end - first - 1) / stride + 1);
            out.resize(n);
            for (std::size_t i = 0; i < n; ++i) out[i] = static_cast<double>(ring->at(end - 1 - (n - 1 - i) * stride));
        },
        rings_);
}

std::optional<std::uint64_t> SignalHistory::Level::lastAtOrBefore(Instant t) const {
    return lastNotAfter(begin.firstKept(), count(), t.ns, [&](std::uint64_t i) { return begin.at(i); });
}

std::size_t HistorySize::bytes() const {
    constexpr std::size_t sample = 2 * sizeof(double);  // raw and reading
    constexpr std::size_t bucket = 5 * sizeof(double) + sizeof(std::uint32_t) + sizeof(Quality);
    return samples * sample + pyramidLevels * buckets * bucket;
}

HistorySize HistorySize::sharedBy(std::size_t signals) const {
    constexpr std::size_t all = std::size_t{1} << 30, fewestSamples = 1024, fewestBuckets = 256;
    HistorySize out = *this;
    while (signals * out.bytes() > all && (out.samples > fewestSamples || out.buckets > fewestBuckets)) {
        // What takes more gives more, so that neither the samples nor the long past go first.
        const bool fewerBuckets =
            out.samples <= fewestSamples ||
            (out.buckets > fewestBuckets && HistorySize{0, out.buckets}.bytes() > HistorySize{out.samples, 0}.bytes());
        std::size_t& part = fewerBuckets ? out.buckets : out.samples;
        part /= 2;
    }
    return out;
}

SignalHistory::SignalHistory(std::shared_ptr<const Timeline> timeline, SampleType type, const HistorySize& size)
    : timeline_(std::move(timeline)),
      base_(timeline_->count()),
      raw_(type, size.samples),
      readings_(size.samples),
      qualityChanges_(std::max<std::size_t>(1024, size.samples / 8)) {
    for (auto& level : levels_) level = std::make_unique<Level>(size.buckets);
}

void SignalHistory::append(const Samples& raw, const Readings& readings, std::vector<FinishedBucket>* finished) {
    const std::uint64_t before = readings_.written();
    const auto note = [&](std::uint64_t sample, Quality q) {
        if (q == lastQuality_) return;
        lastQuality_ = q;
        qualityChanges_.append(sample << 8 | static_cast<std::uint64_t>(q));
    };
    // Stages mark one after the other; what is worst at a sample holds. Usually there is nothing to mark at all.
    if (readings.quality.empty()) {
        note(before, Quality::good);
    } else {
        const auto each = worstOfEach(readings.quality, readings.values.size());
        for (std::size_t i = 0; i < each.size(); ++i) note(before + i, each[i]);
    }
    raw_.append(raw);
    readings_.append(readings.values.data(), readings.values.size());
    std::optional<Timeline::Segment> segment;
    builder_.add(
        readings.values,
        [&](std::size_t i) {
            const std::uint64_t index = base_ + before + i;
            if (!segment || index >= segment->end) segment = timeline_->segmentOf(index);
            return segment ? segment->timeOf(index) : Instant{};
        },
        [&](int l, const Bucket& bucket) {
            Level& level = *levels_[static_cast<std::size_t>(l - 1)];
            level.begin.append(bucket.begin.ns);
            level.min.append(bucket.summary.min);
            level.max.append(bucket.summary.max);
            level.mean.append(bucket.summary.mean);
            level.squares.append(bucket.summary.squares);
            level.worst.append(static_cast<std::uint8_t>(bucket.worst));
            level.samples.append(bucket.summary.count);
            if (finished) finished->push_back({l, bucket});
        },
        readings.quality);
    markThere();
}

std::uint64_t SignalHistory::count() const {
    return readings_.written();
}

std::uint64_t SignalHistory::firstKeptSample() const {
    return std::max(raw_.firstKept(), readings_.firstKept());
}

std::optional<std::uint64_t> SignalHistory::sampleAt(Instant t) const {
    const std::uint64_t n = count();
    const auto index = timeline_->lastAtOrBefore(t);
    if (!index || *index < base_ || n == 0) return std::nullopt;
    const std::uint64_t sample = std::min(*index - base_, n - 1);
    if (sample < firstKeptSample()) return std::nullopt;
    return sample;
}

std::optional<Span> SignalHistory::extent() const {
    const std::uint64_t n = count();
    if (n == 0) return std::nullopt;
    const auto last = timeline_->timeOf(base_ + n - 1);
    if (!last) return std::nullopt;
    for (int l = pyramidLevels; l >= 1; --l) {
        const Level& lv = level(l);
        if (const std::uint64_t k = lv.begin.firstKept(); k < lv.count()) return Span{{lv.begin.at(k)}, *last};
    }
    return Span{timeline_->timeOf(base_ + firstKeptSample()).value_or(*last), *last};
}

Quality SignalHistory::qualityOf(std::uint64_t sample) const {
    const auto i = lastNotAfter(qualityChanges_.firstKept(), qualityChanges_.written(), sample,
                                [&](std::uint64_t k) { return qualityChanges_.at(k) >> 8; });
    return i ? static_cast<Quality>(qualityChanges_.at(*i) & 0xff) : Quality::good;
}

Reading SignalHistory::at(Instant t) const {
    Reading r = lastTaken(t);
    if (r.taken < t)
        if (const auto gap = timeline_->gapAt(t)) r.quality = gap->quality;
    return r;
}

Reading SignalHistory::lastTaken(Instant t) const {
    Reading r;
    if (const auto sample = sampleAt(t)) {
        r.value = readings_.at(*sample);
        r.quality = qualityOf(*sample);
        r.taken = timeline_->timeOf(base_ + *sample).value_or(t);
        if (t.ns >= lostAt_.load(std::memory_order_acquire) && *sample + 1 == count())
            r.quality = lostQuality_.load(std::memory_order_relaxed);
        if (*sample >= firstKeptSample()) return r;
    }
    for (int l = 1; l <= pyramidLevels; ++l) {
        const Level& lv = level(l);
        if (const auto k = lv.lastAtOrBefore(t)) {
            r.value = lv.mean.at(*k);
            r.taken = {lv.begin.at(*k)};
            r.quality = lv.samples.at(*k) ? static_cast<Quality>(lv.worst.at(*k)) : Quality::gap;
            r.summary = true;
            return r;
        }
    }
    return {};
}

std::optional<Instant> SignalHistory::lastChange(Instant t) const {
    const auto start = sampleAt(t);
    if (!start) return std::nullopt;
    const double now = readings_.at(*start);
    const auto same = [&](double v) { return v == now || (std::isnan(v) && std::isnan(now)); };
    // Walk back by single samples, and by whole buckets of any level where they line up.
    std::uint64_t i = *start;  // all in [i, *start] are the same
    while (i > 0) {
        bool jumped = false;
        for (int l = pyramidLevels; l >= 1 && !jumped; --l) {
            const std::uint64_t size = bucketSamples(l);
            const std::uint64_t k = i / size - 1;
            const Level& lv = level(l);
            if (i % size != 0 || k < lv.begin.firstKept() || k >= lv.count()) continue;
            const Summary s = lv.summary(k);
            if (s.count == size && s.min == now && s.max == now) {
                i -= size;
                jumped = true;
            }
        }
        if (jumped) continue;
        if (i - 1 < firstKeptSample()) {
            // The samples are gone: the change lies within the bucket before, if there is one.
            const Level& lv = level(1);
            const std::uint64_t k = (i - 1) / bucketSamples(1);
            if (k >= lv.begin.firstKept() && k < lv.count()) return Instant{lv.begin.at(k)};
            return std::nullopt;
        }
        if (!same(readings_.at(i - 1))) break;
        --i;
    }
    if (i == 0) return std::nullopt;
    return timeline_->timeOf(base_ + i);
}

int SignalHistory::columns(const ColumnRequest& request, std::vector<Column>& out) const {
    out.assign(request.n, {});
    const std::int64_t width = request.width.ns;
    for (std::size_t i = 0; i < request.n; ++i) out[i].begin = {request.from.ns + static_cast<std::int64_t>(i) * width};
    const std::uint64_t n = count();
    if (n == 0 || request.n == 0) return 0;
    const Instant to{request.from.ns + static_cast<std::int64_t>(request.n) * width};

    // The coarsest level with at least two buckets a column, by the mean sample interval of what is asked for.
    int used = 0;
    const auto all = extent();
    if (all && n > 1) {
        const double interval =
            std::max(1.0, static_cast<double>((all->to - all->from).ns) / static_cast<double>(n - 1));
        while (used < pyramidLevels &&
               2 * static_cast<double>(bucketSamples(used + 1)) * interval <= static_cast<double>(width))
            ++used;
    }
    const auto columnOf = [&](Instant t) { return static_cast<std::size_t>((t.ns - request.from.ns) / width); };
    // A finer level may have forgotten the beginning of the window: then the next coarser one serves it.
    const auto keptSince = [&](int l) -> Instant {
        if (l > 0) {
            const std::uint64_t k = level(l).begin.firstKept();
            return k < level(l).count() ? Instant{level(l).begin.at(k)}
                                        : Instant{std::numeric_limits<std::int64_t>::max()};
        }
        return timeline_->timeOf(base_ + firstKeptSample()).value_or(Instant{std::numeric_limits<std::int64_t>::max()});
    };
    const Instant wanted = all ? std::max(request.from, all->from) : request.from;
    while (used < pyramidLevels && keptSince(used) > wanted && level(used + 1).count() > 0 &&
           keptSince(used + 1) < keptSince(used))
        ++used;

    timeline_->gapEnds({request.from, to}, [&](Instant t) { out[columnOf(t)].gapBefore = true; });

    std::uint64_t next = 0;  // first sample not yet counted
    for (int l = used; l >= 1; --l) {
        const Level& lv = level(l);
        const std::uint64_t size = bucketSamples(l);
        std::uint64_t k = std::max((next + size - 1) / size, lv.begin.firstKept());
        if (next == 0 && l == used) {
            const auto last = lv.lastAtOrBefore(request.from);
            if (last) k = std::max(k, lv.begin.at(*last) < request.from.ns ? *last + 1 : *last);
        }
        const std::uint64_t end = lv.count();
        for (; k < end; ++k) {
            const Instant t{lv.begin.at(k)};
            if (t >= to) return used;
            if (t < request.from) continue;
            out[columnOf(t)].add(lv.summary(k));
        }
        next = std::max(next, end * size);
    }
    // The rest by single samples: all of it at level 0, else the tail that fills no bucket yet.
    std::uint64_t i = std::max(next, firstKeptSample());
    if (used == 0) {
        if (const auto before = sampleAt(request.from - nanoseconds(1))) i = std::max(i, *before + 1);
    }
    std::optional<Timeline::Segment> segment;
    for (; i < n; ++i) {
        if (!segment || base_ + i >= segment->end) segment = timeline_->segmentOf(base_ + i);
        if (!segment) continue;
        const Instant t = segment->timeOf(base_ + i);
        if (t >= to) break;
        if (t < request.from) continue;
        const double v = readings_.at(i);
        out[columnOf(t)].add(Summary{v, v, v, v == v ? 1U : 0U});
    }
    return used;
}

bool SignalHistory::points(Span span, std::size_t most, std::vector<Point>& out) const {
    out.clear();
    const std::uint64_t n = count();
    if (n == 0) return true;
    const auto before = sampleAt(span.from);
    if (!before && timeline_->timeOf(base_ + firstKeptSample()).value_or(span.from) > span.from &&
        firstKeptSample() > 0)
        return false;
    const auto last = sampleAt(span.to);
    if (!last) return true;
    const std::uint64_t begin = before.value_or(firstKeptSample());
    const std::uint64_t end = std::min(*last + 2, n);
    if (end - begin > most) return false;
    std::optional<Timeline::Segment> segment;
    for (std::uint64_t i = begin; i < end; ++i) {
        if (!segment || base_ + i >= segment->end) segment = timeline_->segmentOf(base_ + i);
        if (!segment) return false;
        const Instant t = segment->timeOf(base_ + i);
        if (segment->afterGap && base_ + i == segment->first && !out.empty()) {
            const Instant within = t - nanoseconds(1);
            const auto gap = timeline_->gapAt(within);
            out.push_back(
                {gap ? std::max(gap->span.from, out.back().t) : within, std::numeric_limits<double>::quiet_NaN()});
        }
        out.push_back({t, readings_.at(i)});
    }
    if (firstKeptSample() > begin) {
        out.clear();
        return false;
    }
    return true;
}

bool SignalHistory::rawBefore(Instant t, std::size_t n, Duration reach, std::vector<double>& raw,
                              std::vector<Instant>& times) const {
    raw.clear();
    times.clear();
    const auto last = sampleAt(t);
    if (!last) return false;
    std::uint64_t begin = *last + 1 > n ? *last + 1 - n : 0;
    if (reach.ns > 0) begin = std::min(begin, sampleAt(t - reach).value_or(0));
    const bool reaches = begin >= firstKeptSample();
    begin = std::max(begin, firstKeptSample());
    for (std::uint64_t i = begin; i <= *last; ++i) {
        const auto when = timeline_->timeOf(base_ + i);
        if (!when) return false;
        raw.push_back(raw_.at(i));
        times.push_back(*when);
    }
    return reaches && firstKeptSample() <= begin;
}

StretchSummary SignalHistory::summaryOver(Span span) const {
    StretchSummary out;
    const std::uint64_t n = count();
    const auto samplesBefore = [&](Instant t) -> std::uint64_t {
        t = t - nanoseconds(1);
        if (const auto index = timeline_->lastAtOrBefore(t))
            return *index < base_ ? 0 : std::min(*index + 1 - base_, n);
        for (int l = 1; l <= pyramidLevels; ++l)  // the times themselves are no longer kept
            if (const auto k = level(l).lastAtOrBefore(t)) {
                out.exact = false;
                return std::min((*k + 1) * bucketSamples(l), n);
            }
        return 0;
    };
    const auto keptAt = [&](int l, std::uint64_t i) {
        if (l == 0) return i >= firstKeptSample();
        const std::uint64_t k = i / bucketSamples(l);
        return k >= level(l).begin.firstKept() && k < level(l).count();
    };
    std::uint64_t i = samplesBefore(span.from);
    const std::uint64_t end = samplesBefore(span.to);
    while (i < end) {
        int l = pyramidLevels;
        while (l > 0 && (i % bucketSamples(l) != 0 || i + bucketSamples(l) > end || !keptAt(l, i))) --l;
        if (l > 0) {
            out.add(level(l).summary(i / bucketSamples(l)));
            i += bucketSamples(l);
        } else if (keptAt(0, i)) {
            Summary one;
            one.add(readings_.at(i));
            out.add(one);
            ++i;
        } else {
            // Of what is no longer kept by itself the summary counts where most of it lies within.
            out.exact = false;
            int coarse = 1;
            while (coarse < pyramidLevels && !keptAt(coarse, i)) ++coarse;
            const std::uint64_t size = bucketSamples(coarse), next = std::min((i / size + 1) * size, end);
            if (keptAt(coarse, i) && 2 * (next - i) > size) out.add(level(coarse).summary(i / size));
            i = next;
        }
    }
    return out;
}

std::uint64_t SignalHistory::newestRaw(std::size_t n, std::size_t stride, std::vector<double>& out) const {
    raw_.thinned(count(), n, stride, out);
    return base_ + count();
}

std::pair<std::uint64_t, std::uint64_t> SignalHistory::held() const {
    const std::uint64_t n = count();
    // A sixteenth of the ring is left to the writer, who goes on meanwhile.
    const std::uint64_t first = firstKeptSample();
    const std::uint64_t spare = first > 0 ? std::min<std::uint64_t>(n - first, (n - first) / 16 + 1) : 0;
    return {base_ + first + spare, base_ + n};
}

bool SignalHistory::copy(std::uint64_t first, std::size_t n, Stretch& out) const {
    if (first < base_ || first - base_ + n > count()) return false;
    const std::uint64_t from = first - base_;
    out.raw = raw_.copy(from, n);
    out.readings.resize(n);
    for (std::size_t i = 0; i < n; ++i) out.readings[i] = readings_.at(from + i);
    out.quality.clear();
    for (std::size_t i = 0; i < n; ++i) {
        const Quality q = qualityOf(from + i);
        if (q == Quality::good) continue;
        if (!out.quality.empty() && out.quality.back().end == i && out.quality.back().quality == q)
            out.quality.back().end = i + 1;
        else
            out.quality.push_back({i, i + 1, q});
    }
    out.said.clear();
    std::ranges::copy_if(out.quality, std::back_inserter(out.said), [](const QualityInterval& q) {
        return q.quality != Quality::clipped && q.quality != Quality::outOfRange;
    });
    return firstKeptSample() <= from;
}

}  // namespace cruscotto
