#include "core/history.h"

#include <algorithm>
#include <cmath>

namespace cruscotto {

namespace {
/// Index of the last i in [lo, hi) with key(i) <= wanted; nothing if there is none. Keys never decrease.
template <class Key, class T>
std::optional<std::uint64_t> lastNotAfter(std::uint64_t lo, std::uint64_t hi, const T& wanted, Key&& key) {
    if (lo >= hi || key(lo) > wanted) return std::nullopt;
    while (hi - lo > 1) {
        const std::uint64_t mid = lo + (hi - lo) / 2;
        (key(mid) <= wanted ? lo : hi) = mid;
    }
    return lo;
}
}  // namespace

// ---- Timeline

void Timeline::append(const Block& block) {
    const std::uint64_t before = count_.load(std::memory_order_relaxed);
    const std::size_t n = block.size();
    if (n == 0) return;
    const auto begin = [&](std::uint64_t first, Instant t0, double dt, bool gap) {
        last_ = {first, 0, t0, dt, gap};
        first_.append(first);
        t0_.append(t0.ns);
        dt_.append(dt);
        afterGap_.append(gap ? 1U : 0U);
    };
    const bool gap = block.gapBefore.has_value();
    if (gap) {
        gapBegins_.append(std::min(block.gapBefore->from, block.timeOf(0)).ns);
        gapQualities_.append(static_cast<std::uint8_t>(block.gapBefore->quality));
        gapEnds_.append(block.timeOf(0).ns);
    }
    if (block.times.empty()) {
        const std::int64_t predicted = last_.timeOf(before).ns;
        const bool goesOn = before > 0 && !gap && last_.dtNs == block.dtNs &&
                            std::llabs(block.t0.ns - predicted) <= std::llround(block.dtNs / 4) + 1;
        if (!goesOn) begin(before, block.t0, block.dtNs, gap);
    } else {
        for (std::size_t i = 0; i < n; ++i) begin(before + i, block.times[i], 0, gap && i == 0);
    }
    count_.store(before + n, std::memory_order_release);
}

Timeline::Segment Timeline::segmentAt(std::uint64_t number, std::uint64_t segments, std::uint64_t samples) const {
    Segment s;
    s.first = first_.at(number);
    s.end = number + 1 < segments ? first_.at(number + 1) : samples;
    s.t0 = {t0_.at(number)};
    s.dtNs = dt_.at(number);
    s.afterGap = afterGap_.at(number) != 0;
    return s;
}

std::optional<Timeline::Hole> Timeline::gapAt(Instant t) const {
    const auto number = lastNotAfter(gapBegins_.firstKept(), gapEnds_.written(), t.ns,
                                     [&](std::uint64_t i) { return gapBegins_.at(i); });
    if (!number) return std::nullopt;
    const Hole gap{{{gapBegins_.at(*number)}, {gapEnds_.at(*number)}}, static_cast<Quality>(gapQualities_.at(*number))};
    if (gapBegins_.firstKept() > *number || t >= gap.span.to) return std::nullopt;
    return gap;
}

std::optional<Timeline::Segment> Timeline::segmentOf(std::uint64_t index) const {
    const std::uint64_t samples = count();
    const std::uint64_t segments = afterGap_.written();
    const auto number =
        lastNotAfter(first_.firstKept(), segments, index, [&](std::uint64_t i) { return first_.at(i); });
    if (!number || index >= samples) return std::nullopt;
    Segment s = segmentAt(*number, segments, samples);
    if (first_.firstKept() > *number) return std::nullopt;  // overwritten meanwhile
    s.end = std::min(s.end, samples);
    return s;
}

std::optional<Instant> Timeline::timeOf(std::uint64_t index) const {
    const auto s = segmentOf(index);
    if (!s) return std::nullopt;
    return s->timeOf(index);
}

std::optional<std::uint64_t> Timeline::lastAtOrBefore(Instant t) const {
    const std::uint64_t samples = count();
    const std::uint64_t segments = afterGap_.written();
    const auto number = lastNotAfter(first_.firstKept(), segments, t.ns, [&](std::uint64_t i) { return t0_.at(i); });
    if (!number || samples == 0) return std::nullopt;
    const Segment s = segmentAt(*number, segments, samples);
    if (first_.firstKept() > *number) return std::nullopt;
    const std::uint64_t end = std::min(s.end, samples);
    if (s.first >= end) return s.first > 0 && s.first <= samples ? std::optional(s.first - 1) : std::nullopt;
    if (s.dtNs <= 0) return s.first;
    auto k = static_cast<std::uint64_t>(std::max(0.0, static_cast<double>(t.ns - s.t0.ns) / s.dtNs));
    k = std::min(k + 1, end - s.first - 1);
    while (k > 0 && s.timeOf(s.first + k) > t) --k;
    return s.first + k;
}

// ---- RawRing

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

// ---- SignalHistory

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
    begin = std::max(begin, firstKeptSample());
    for (std::uint64_t i = begin; i <= *last; ++i) {
        const auto when = timeline_->timeOf(base_ + i);
        if (!when) return false;
        raw.push_back(raw_.at(i));
        times.push_back(*when);
    }
    return firstKeptSample() <= begin;
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
        if (q < Quality::openSensor) continue;
        if (!out.quality.empty() && out.quality.back().end == i && out.quality.back().quality == q)
            out.quality.back().end = i + 1;
        else
            out.quality.push_back({i, i + 1, q});
    }
    return firstKeptSample() <= from;
}

// ---- HistorySource

void HistorySource::set(const std::string& signal, std::shared_ptr<SignalHistory> history, const ChainSpec& chain,
                        ChannelKind kind) {
    const Lock lock(mutex_);
    entries_[signal] = {std::move(history), chain, kind};
}

void HistorySource::follow(const std::string& signal, std::shared_ptr<SignalHistory> history, const ChainSpec& chain,
                           ChannelKind kind) {
    constexpr std::size_t mostEarlier = 4;
    const Lock lock(mutex_);
    Entry& entry = entries_[signal];
    entry.chain = chain;
    entry.kind = kind;
    if (entry.history == history) return;
    if (entry.history && entry.history->count() > 0) entry.earlier.push_back(std::move(entry.history));
    if (entry.earlier.size() > mostEarlier) entry.earlier.erase(entry.earlier.begin());
    entry.history = std::move(history);
}

const SignalHistory* HistorySource::Entry::at(Instant t) const {
    const auto begins = [&](const SignalHistory& h) {
        const auto all = h.extent();
        return all && all->from <= t;
    };
    if (!history || earlier.empty() || begins(*history)) return history.get();
    for (auto it = earlier.rbegin(); it != earlier.rend(); ++it)
        if (begins(**it)) return it->get();
    return earlier.front().get();
}

void HistorySource::setChain(const std::string& signal, const ChainSpec& chain) {
    const Lock lock(mutex_);
    if (const auto it = entries_.find(signal); it != entries_.end()) it->second.chain = chain;
}

void HistorySource::remove(const std::string& signal) {
    const Lock lock(mutex_);
    entries_.erase(signal);
}

void HistorySource::clear() {
    const Lock lock(mutex_);
    entries_.clear();
}

void HistorySource::setExtent(Span extent) {
    extentFrom_.store(extent.from.ns, std::memory_order_relaxed);
    extentTo_.store(extent.to.ns, std::memory_order_release);
}

void HistorySource::setAnchor(WallAnchor anchor) {
    const Lock lock(mutex_);
    anchor_ = anchor;
}

Span HistorySource::extent() const {
    const Instant to{extentTo_.load(std::memory_order_acquire)};
    return {{extentFrom_.load(std::memory_order_relaxed)}, to};
}

WallAnchor HistorySource::anchor() const {
    const Lock lock(mutex_);
    return anchor_;
}

HistorySource::Entry HistorySource::find(const std::string& signal) const {
    const Lock lock(mutex_);
    const auto it = entries_.find(signal);
    return it == entries_.end() ? Entry{} : it->second;
}

Reading HistorySource::at(const std::string& signal, Instant t) const {
    const Entry entry = find(signal);
    const SignalHistory* history = entry.at(t);
    if (!history) return {};
    Reading r = history->at(t);
    // Between two of them nothing was measured.
    if (history != entry.history.get() && history->extent() && history->extent()->to < t) r.quality = Quality::gap;
    return r;
}

std::vector<double> HistorySource::stagesAt(const std::string& signal, Instant t) const {
    const Entry entry = find(signal);
    if (!entry.history) return {};
    auto evaluator = ChainEvaluator::make(entry.chain, entry.kind);
    if (!evaluator) return {};
    std::vector<double> raw;
    std::vector<Instant> times;
    const SignalHistory* history = entry.at(t);
    const bool whole =
        history->rawBefore(t, evaluator.value().memorySamples(), evaluator.value().memoryTime(), raw, times);
    if (raw.empty()) return {};
    if (!whole) {  // only the two ends of the chain are sure
        std::vector<double> ends(entry.chain.size() + 1, std::numeric_limits<double>::quiet_NaN());
        ends.front() = raw.back();
        ends.back() = history->at(t).value;
        return ends;
    }
    Readings readings;
    evaluator.value().process(raw, times, readings);
    return evaluator.value().stageValues();
}

StageMeans HistorySource::stageMeans(const std::string& signal, Span span) const {
    constexpr std::size_t most = 10'000;
    const Entry entry = find(signal);
    if (!entry.history || span.from >= span.to) return {};
    auto made = ChainEvaluator::make(entry.chain, entry.kind);
    if (!made) return {};
    ChainEvaluator& chain = made.value();
    const std::size_t memory = std::max<std::size_t>(chain.memorySamples(), 1);
    const Duration reach = chain.memoryTime();
    std::vector<double> raw;
    std::vector<Instant> times;
    const bool whole =
        entry.at(span.from)->rawBefore(span.to - Duration{1}, memory - 1 + most,
                                       reach.ns > 0 ? reach + (span.to - span.from) : Duration{}, raw, times);
    // Before the first that the chain was ever given, it remembers nothing.
    const bool fromTheStart = whole && raw.size() < memory - 1 + most;
    std::size_t first = raw.size() > most ? raw.size() - most : 0;
    while (first < raw.size() &&
           (times[first] < span.from || (!fromTheStart && (first + 1 < memory || times[first] - times[0] < reach))))
        ++first;
    if (first == raw.size()) return {};

    const auto cut = static_cast<std::ptrdiff_t>(first);
    Readings readings;
    chain.process({raw.begin(), raw.begin() + cut}, {times.begin(), times.begin() + cut}, readings);
    StageMeans out{std::vector<double>(entry.chain.size() + 1, 0), raw.size() - first};
    std::vector<std::size_t> counted(out.means.size(), 0);
    for (std::size_t i = first; i < raw.size(); ++i) {
        chain.process({raw[i]}, {times[i]}, readings);
        for (std::size_t k = 0; k < out.means.size(); ++k)
            if (const double v = chain.stageValues()[k]; !std::isnan(v)) {
                out.means[k] += v;
                ++counted[k];
            }
    }
    for (std::size_t k = 0; k < out.means.size(); ++k) out.means[k] /= static_cast<double>(counted[k]);  // of none: NaN
    return out;
}

std::optional<Instant> HistorySource::lastChange(const std::string& signal, Instant t) const {
    const Entry entry = find(signal);
    const SignalHistory* history = entry.at(t);
    return history ? history->lastChange(t) : std::nullopt;
}

int HistorySource::columns(const std::string& signal, const ColumnRequest& request, std::vector<Column>& out) const {
    const Entry entry = find(signal);
    int level = 0;
    out.assign(request.n, {});
    if (entry.history) level = entry.history->columns(request, out);
    std::vector<Column> before;
    for (const auto& earlier : entry.earlier) {
        const auto all = earlier->extent();
        if (!all || all->to < request.from) continue;
        level = std::max(level, earlier->columns(request, before));
        std::size_t last = request.n;
        for (std::size_t i = 0; i < request.n; ++i) {
            if (!before[i].sampled) continue;
            out[i].add(before[i].summary);
            out[i].gapBefore = out[i].gapBefore || before[i].gapBefore;
            last = i;
        }
        // What follows does not join it.
        for (std::size_t i = last + 1; i < request.n; ++i)
            if (out[i].sampled) {
                out[i].gapBefore = true;
                break;
            }
    }
    return level;
}

bool HistorySource::points(const std::string& signal, Span span, std::size_t most, std::vector<Point>& out) const {
    const Entry entry = find(signal);
    out.clear();
    std::vector<Point> part;
    for (const auto& earlier : entry.earlier) {
        const auto all = earlier->extent();
        if (!all || all->to < span.from) continue;
        if (!earlier->points(span, most - out.size(), part)) {
            out.clear();
            return false;
        }
        out.insert(out.end(), part.begin(), part.end());
        if (!part.empty()) out.push_back({part.back().t + nanoseconds(1), std::numeric_limits<double>::quiet_NaN()});
    }
    if (!entry.history) return true;
    if (out.empty()) return entry.history->points(span, most, out);
    if (out.size() >= most || !entry.history->points(span, most - out.size(), part)) {
        out.clear();
        return false;
    }
    out.insert(out.end(), part.begin(), part.end());
    return true;
}

}  // namespace cruscotto
