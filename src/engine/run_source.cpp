#include "engine/run_source.h"

#include <algorithm>
#include <chrono>
#include <cmath>

#include "core/history/signal_history.h"
#include "core/history/timeline.h"
#include "core/run/run_format.h"
#include "core/run/run_replay.h"

namespace cruscotto {

namespace {

constexpr Instant never{std::numeric_limits<std::int64_t>::max()};
constexpr Instant always{std::numeric_limits<std::int64_t>::min()};
constexpr std::size_t bytesPerSample = 16;               // raw and reading, at most
constexpr std::uint64_t samplesSoonSummed = 20'000'000;  // the finest summaries of so many are read in a moment
constexpr auto revisionEvery = std::chrono::milliseconds(100);

Span joined(Span a, Span b) {
    return {std::min(a.from, b.from), std::max(a.to, b.to)};
}
bool inside(Span inner, Span outer) {
    return inner.from >= outer.from && inner.to <= outer.to;
}

}  // namespace

RunSource::RunSource(std::string path, std::size_t memoryBytes, std::optional<int> version)
    : path_(std::move(path)), memoryBytes_(memoryBytes), version_(version) {
    thread_ = std::jthread([this](const std::stop_token& stop) { read(stop); });
}

RunSource::~RunSource() {
    thread_.request_stop();
    thread_.join();
}

RunSource::State RunSource::state() const {
    const Lock lock(mutex_);
    return state_;
}

std::shared_ptr<const RunInfo> RunSource::info() const {
    const Lock lock(mutex_);
    return info_;
}

// ---- the reading thread

void RunSource::read(const std::stop_token& stop) {
    auto opened = RunReader::open(path_, version_);
    if (!opened) {
        const Lock lock(mutex_);
        state_.error = opened.error();
        state_.done = true;
        return;
    }
    RunReader& reader = *opened.value();
    const RunInfo& info = reader.info();
    loaded_.setExtent(info.span);
    if (!info.anchors.empty()) loaded_.setAnchor(info.anchors.front());
    std::uint64_t total = 0;
    for (const RunSignal& s : info.signals) total += s.samples;
    for (const RunSignal& s : info.signals) {
        if (auto needs = neededSignals(info.measuredAs(s).chain); s.raw && !needs.empty())
            needs_[s.key] = std::move(needs);
        Overview& o = overviews_[s.key];
        for (int level = runformat::firstStoredLevel + 1; level <= pyramidLevels; ++level)
            o.levels[static_cast<std::size_t>(level - 1)] = reader.summaries(s.id, level);
        for (const RunGroup& g : info.groups)
            if (g.id == s.group && s.samples > 1)
                o.intervalNs = static_cast<double>((g.span.to - g.span.from).ns) / static_cast<double>(s.samples);
        if (total <= samplesSoonSummed) readFinest(reader, s);
    }
    overviewsStand_.store(true, std::memory_order_release);
    const bool inParts = total * bytesPerSample > memoryBytes_;
    inParts_.store(inParts, std::memory_order_release);
    for (const RunEvent& e : info.events) {
        const auto noted = evidenceFromEvent(e.at, e.words);
        if (noted && e.kind == evidenceBegins) loaded_.evidence().begins(*noted);
        if (noted && e.kind == evidenceEnds) loaded_.evidence().ends(noted->signal, noted->evidence.doubt, e.at);
    }
    {
        const Lock lock(mutex_);
        info_ = std::make_shared<const RunInfo>(info);
        state_.opened = true;
        state_.inParts = inParts;
    }
    revision_.fetch_add(1, std::memory_order_release);
    if (total > samplesSoonSummed) {
        for (const RunSignal& s : info.signals)
            if (!stop.stop_requested()) readFinest(reader, s);
        revision_.fetch_add(1, std::memory_order_release);
    }
    if (inParts)
        readWanted(reader, stop);
    else
        readWhole(reader, stop);
}

void RunSource::readFinest(RunReader& reader, const RunSignal& signal) {
    Overview& o = overviews_.at(signal.key);
    o.levels[runformat::firstStoredLevel - 1] = reader.summaries(signal.id, runformat::firstStoredLevel);
    o.finest.store(true, std::memory_order_release);
}

int RunSource::Overview::finestLevel() const {
    return finest.load(std::memory_order_acquire) ? runformat::firstStoredLevel : runformat::firstStoredLevel + 1;
}

void RunSource::readWhole(RunReader& reader, const std::stop_token& stop) {
    for (const RunGroup& group : reader.info().groups) load(reader, group, {}, stop);
    const Lock lock(mutex_);
    state_.fraction = 1;
    state_.done = true;
}

void RunSource::readWanted(RunReader& reader, const std::stop_token& stop) {
    {
        const Lock lock(mutex_);
        state_.fraction = 1;
        state_.done = true;
    }
    while (!stop.stop_requested()) {
        std::map<std::string, Span> wanted;
        {
            Lock lock(mutex_);
            if (!wanting_.wait(lock, stop, [&]() HOLDING(mutex_) { return !wanted_.empty(); })) return;
            wanted.swap(wanted_);
            // It may have come while it was asked for again.
            std::erase_if(wanted, [&](const auto& w) HOLDING(mutex_) {
                const auto it = loadedSpans_.find(w.first);
                return it != loadedSpans_.end() && inside(w.second, it->second);
            });
        }
        for (const RunGroup& group : reader.info().groups) {
            RunReader::Part part;
            bool any = false;
            double counted = 0;
            for (const RunSignal& s : reader.info().signals) {
                const auto it = wanted.find(s.key);
                if (s.group != group.id || it == wanted.end()) continue;
                part.signals.push_back(s.id);
                part.span = any ? joined(part.span, it->second) : it->second;
                any = true;
                // A count goes on from the very beginning; it cannot be begun in the middle.
                const auto evaluator = ChainEvaluator::make(s.current().chain, s.current().kind);
                if (!evaluator) continue;
                const Duration reach{std::min(evaluator.value().memoryTime().ns, furthestNs)};
                const double samples =
                    static_cast<double>(evaluator.value().memorySamples()) * overviews_.at(s.key).intervalNs;
                const Duration back = std::min(reach + fromNs(samples), part.span.from - group.span.from);
                part.span.from = std::max(group.span.from, part.span.from - back);
                counted += static_cast<double>((part.span.to - part.span.from).ns) /
                           std::max(1.0, overviews_.at(s.key).intervalNs);
            }
            if (any && counted * bytesPerSample < static_cast<double>(memoryBytes_)) load(reader, group, part, stop);
        }
    }
}

void RunSource::load(RunReader& reader, const RunGroup& group, const RunReader::Part& part,
                     const std::stop_token& stop) {
    const bool whole = part.signals.empty();
    RunReader::Part withRaw = part;
    withRaw.raw = true;
    RunReplay replay(reader, group.id, withRaw);
    const auto& signals = replay.signals();
    std::vector<std::size_t> rawColumn;  // of each, in the blocks
    std::size_t beside = signals.size();
    for (std::size_t i = 0; i < signals.size(); ++i) rawColumn.push_back(signals[i]->raw ? beside++ : i);
    // As many samples as there can be: all of the group, or as many as its pace brings into the span, and the rest of
    // the first and the last block.
    std::uint64_t room = group.samples;
    if (!whole && !signals.empty()) {
        const double interval = std::max(1.0, overviews_.at(signals.front()->key).intervalNs);
        room = std::min<std::uint64_t>(
            room, static_cast<std::uint64_t>(
                      std::max(0.0, static_cast<double>((part.span.to - part.span.from).ns) / interval * 1.1)) +
                      2 * runformat::blockBytes / signals.size());
    }
    room = std::max<std::uint64_t>(room, 64);
    auto timeline = std::make_shared<Timeline>(group.rateHz > 0 ? 65536 : room);
    std::vector<std::shared_ptr<SignalHistory>> histories;
    for (const RunSignal* s : signals) {
        const HistorySize size{room, room / bucketSamples(1) + 1};
        const SampleType type = s->raw ? reader.info().raw.at(*s->raw).type : s->type;
        histories.push_back(std::make_shared<SignalHistory>(timeline, type, size));
    }
    const auto set = [&] {
        for (std::size_t i = 0; i < signals.size(); ++i) {
            const SignalSpec& as = reader.info().measuredAs(*signals[i]);
            loaded_.set(signals[i]->key, histories[i], as.chain, as.kind);
        }
    };
    if (whole) set();
    const auto cover = [&](Span span) HOLDING(mutex_) {
        for (const RunSignal* s : signals) loadedSpans_[s->key] = span;
    };
    auto told = std::chrono::steady_clock::now();
    RunReplay::Step step;
    while (!stop.stop_requested() && replay.next(step)) {
        timeline->append(*step.block);
        for (std::size_t i = 0; i < signals.size(); ++i)
            histories[i]->append(step.block->columns[rawColumn[i]], step.readings[i]);
        if (!whole) continue;
        const Lock lock(mutex_);
        cover({always, step.block->timeOf(step.block->size() - 1)});
        state_.fraction += static_cast<double>(step.block->size()) /
                           (static_cast<double>(group.samples) * static_cast<double>(info_->groups.size()));
        const auto now = std::chrono::steady_clock::now();
        if (now - told > revisionEvery) {
            told = now;
            revision_.fetch_add(1, std::memory_order_release);
        }
    }
    if (!whole) set();
    {
        const Lock lock(mutex_);
        cover(whole ? Span{always, never} : part.span);
        state_.damagedBlocks += replay.damagedBlocks();
    }
    revision_.fetch_add(1, std::memory_order_release);
}

// ---- answers

bool RunSource::covers(const std::string& signal, Span span) const {
    const Span all = extent();
    span = {std::max(span.from, all.from), std::min(span.to, all.to)};
    const Lock lock(mutex_);
    const auto it = loadedSpans_.find(signal);
    return it != loadedSpans_.end() && (span.from >= span.to || inside(span, it->second));
}

bool RunSource::coversStages(const std::string& signal, Span span) const {
    if (!covers(signal, span)) return false;
    const auto needs = needs_.find(signal);
    return needs == needs_.end() ||
           std::ranges::all_of(needs->second, [&](const NeededSignal& n) { return covers(n.id, span); });
}

void RunSource::want(const std::string& signal, Span span) const {
    if (!inParts_.load(std::memory_order_acquire)) return;  // it comes by itself
    // A little more than is looked at, so that the next step to either side is there already.
    const Span all = loaded_.extent();
    span = {std::max(span.from, all.from), std::min(span.to, all.to)};
    if (span.from > span.to) return;
    const Duration margin{(span.to - span.from).ns / 2 + 1};
    span = {span.from - margin, span.to + margin};
    const Lock lock(mutex_);
    Span& last = last_[signal];
    // What was asked for a moment ago and overlaps belongs to the same picture.
    if (last.to > last.from && span.from < last.to && last.from < span.to &&
        (last.to - last.from).ns < 8 * (span.to - span.from).ns)
        span = joined(last, span);
    else if (last.from <= span.from && span.to <= last.to)
        span = last;
    last = span;
    wanted_[signal] = span;
    if (const auto needs = needs_.find(signal); needs != needs_.end())
        for (const NeededSignal& n : needs->second) {
            const auto [at, fresh] = wanted_.try_emplace(n.id, span);
            if (!fresh) at->second = joined(at->second, span);
        }
    wanting_.notify_all();
}

const RunSource::Overview* RunSource::overview(const std::string& signal) const {
    if (!overviewsStand_.load(std::memory_order_acquire)) return nullptr;
    const auto it = overviews_.find(signal);
    return it == overviews_.end() ? nullptr : &it->second;
}

int RunSource::columnsOf(const Overview& o, const ColumnRequest& request, std::vector<Column>& out) {
    out.assign(request.n, {});
    const std::int64_t width = request.width.ns;
    for (std::size_t i = 0; i < request.n; ++i) out[i].begin = {request.from.ns + static_cast<std::int64_t>(i) * width};
    const auto wide = [&](int level) {
        return 2 * static_cast<double>(bucketSamples(level)) * o.intervalNs <= static_cast<double>(width);
    };
    int level = o.finestLevel();
    while (level < pyramidLevels && wide(level + 1) && !o.buckets(level + 1).empty()) ++level;
    const auto& buckets = o.buckets(level);
    const Instant to{request.from.ns + static_cast<std::int64_t>(request.n) * width};
    auto it = std::upper_bound(buckets.begin(), buckets.end(), request.from,
                               [](Instant t, const Bucket& b) { return t < b.begin; });
    const bool coarse = !wide(level);
    if (it != buckets.begin() && coarse) --it;  // the bucket that reaches into the first column
    const double length = static_cast<double>(bucketSamples(level)) * o.intervalNs * 1.5;
    for (; it != buckets.end() && it->begin < to; ++it) {
        if (!coarse) {
            if (it->begin >= request.from)
                out[static_cast<std::size_t>((it->begin - request.from).ns / width)].add(it->summary);
            continue;
        }
        // Columns narrower than a bucket all show it until the samples are there.
        Instant end = std::min(it->begin + fromNs(length), to);
        if (it + 1 != buckets.end()) end = std::min(end, (it + 1)->begin);
        for (std::int64_t t = std::max(it->begin, request.from).ns; t < end.ns;) {
            const auto i = static_cast<std::size_t>((t - request.from.ns) / width);
            out[i].add(it->summary);
            t = out[i].begin.ns + width;
        }
    }
    return level;
}

int RunSource::columns(const std::string& signal, const ColumnRequest& request, std::vector<Column>& out) const {
    const Span span{request.from, {request.from.ns + static_cast<std::int64_t>(request.n) * request.width.ns}};
    const Overview* o = overview(signal);
    if (!o || covers(signal, span)) return loaded_.columns(signal, request, out);
    if (2 * static_cast<double>(bucketSamples(runformat::firstStoredLevel)) * o->intervalNs >
        static_cast<double>(request.width.ns))
        want(signal, span);
    return columnsOf(*o, request, out);
}

Reading RunSource::at(const std::string& signal, Instant t) const {
    const Overview* o = overview(signal);
    if (!o || covers(signal, {t, t})) return loaded_.at(signal, t);
    const Duration around = fromNs(o->intervalNs * 4096);
    want(signal, {t - around, t + around});
    Reading r;
    const auto& buckets = o->buckets(o->finestLevel());
    auto it =
        std::upper_bound(buckets.begin(), buckets.end(), t, [](Instant a, const Bucket& b) { return a < b.begin; });
    if (it == buckets.begin()) return r;
    --it;
    r.value = it->summary.mean;
    r.taken = it->begin;
    r.quality = it->summary.count ? Quality::good : Quality::gap;
    r.summary = true;
    return r;
}

std::vector<double> RunSource::stagesAt(const std::string& signal, Instant t) const {
    if (!coversStages(signal, {t, t})) return {};
    return loaded_.stagesAt(signal, t);
}

bool RunSource::stageSeries(const std::string& signal, std::size_t stages, Span span, std::size_t most,
                            std::vector<double>& values, std::vector<Instant>& times) const {
    values.clear();
    times.clear();
    return coversStages(signal, span) && loaded_.stageSeries(signal, stages, span, most, values, times);
}

StageMeans RunSource::stageMeans(const std::string& signal, Span span) const {
    if (!coversStages(signal, span)) return {};
    return loaded_.stageMeans(signal, span);
}

std::optional<Instant> RunSource::lastChange(const std::string& signal, Instant t) const {
    if (!covers(signal, {t, t})) return std::nullopt;
    return loaded_.lastChange(signal, t);
}

void RunSource::addOver(const Overview& o, int level, int finestLevel, Span span, StretchSummary& out) {
    if (!(span.from < span.to)) return;
    const auto& buckets = o.buckets(level);
    const auto beginsBefore = [](const Bucket& b, Instant t) { return b.begin < t; };
    const auto first = std::lower_bound(buckets.begin(), buckets.end(), span.from, beginsBefore);
    auto last = std::lower_bound(first, buckets.end(), span.to, beginsBefore);
    const bool finest = level == finestLevel;
    // The last that begins within ends within only where another begins before the end.
    if (!finest && last != first) --last;
    for (auto it = first; it != last; ++it) out.add(it->summary);
    if (finest) {
        out.exact = false;
        return;
    }
    if (first == last) return addOver(o, level - 1, finestLevel, span, out);
    addOver(o, level - 1, finestLevel, {span.from, first->begin}, out);
    addOver(o, level - 1, finestLevel, {last->begin, span.to}, out);
}

StretchSummary RunSource::summaryOver(const std::string& signal, Span span) const {
    const Overview* o = overview(signal);
    if (!o || covers(signal, span)) return loaded_.summaryOver(signal, span);
    want(signal, span);
    StretchSummary out;
    const int finest = o->finestLevel();
    int level = pyramidLevels;
    while (level > finest && o->buckets(level).empty()) --level;
    addOver(*o, level, finest, span, out);
    return out;
}

bool RunSource::points(const std::string& signal, Span span, std::size_t most, std::vector<Point>& out) const {
    out.clear();
    const Overview* o = overview(signal);
    if (!o || covers(signal, span)) return loaded_.points(signal, span, most, out);
    return false;
}

}  // namespace cruscotto
