#include "core/history/history_source.h"

#include <algorithm>
#include <cmath>

#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {
std::vector<std::span<const double>> spansOf(const std::vector<std::vector<double>>& values) {
    return {values.begin(), values.end()};
}
}  // namespace

void HistorySource::set(const std::string& signal, std::shared_ptr<SignalHistory> history, const ChainSpec& chain,
                        ChannelKind kind) {
    const Lock lock(mutex_);
    entries_[signal] = std::make_shared<const Entry>(Entry{std::move(history), chain, kind});
}

void HistorySource::follow(const std::string& signal, std::shared_ptr<SignalHistory> history, const ChainSpec& chain,
                           ChannelKind kind) {
    constexpr std::size_t mostEarlier = 4;
    const Lock lock(mutex_);
    auto& entry = entries_[signal];
    Entry next = entry ? *entry : Entry{};
    next.chain = chain;
    next.kind = kind;
    if (next.history != history) {
        if (next.history && next.history->count() > 0) next.earlier.push_back(std::move(next.history));
        if (next.earlier.size() > mostEarlier) next.earlier.erase(next.earlier.begin());
        next.history = std::move(history);
    }
    entry = std::make_shared<const Entry>(std::move(next));
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
    const auto it = entries_.find(signal);
    if (it == entries_.end()) return;
    Entry next = *it->second;
    next.chain = chain;
    it->second = std::make_shared<const Entry>(std::move(next));
}

void HistorySource::remove(const std::string& signal) {
    evidence_.remove(signal);
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

std::shared_ptr<const HistorySource::Entry> HistorySource::find(const std::string& signal) const {
    static const auto none = std::make_shared<const Entry>();
    const Lock lock(mutex_);
    const auto it = entries_.find(signal);
    return it == entries_.end() ? none : it->second;
}

Reading HistorySource::at(const std::string& signal, Instant t) const {
    const auto entry = find(signal);
    const SignalHistory* history = entry->at(t);
    if (!history) return {};
    Reading r = history->at(t);
    // Between two of them nothing was measured.
    if (history != entry->history.get() && history->extent() && history->extent()->to < t) r.quality = Quality::gap;
    return r;
}

Result<ChainEvaluator> HistorySource::evaluatorOf(const Entry& entry) const {
    std::vector<std::string> units;
    for (const NeededSignal& needed : neededSignals(entry.chain)) {
        const auto other = find(needed.id);
        units.push_back(other->history ? readingUnit(other->chain, other->kind) : needed.unit);
    }
    return ChainEvaluator::make(entry.chain, entry.kind, units);
}

std::vector<std::vector<double>> HistorySource::neededAt(const Entry& entry, const std::vector<Instant>& times) const {
    std::vector<std::vector<double>> out;
    for (const NeededSignal& needed : neededSignals(entry.chain)) {
        auto& values = out.emplace_back();
        for (const Instant t : times) values.push_back(at(needed.id, t).value);
    }
    return out;
}

std::vector<double> HistorySource::stagesAt(const std::string& signal, Instant t) const {
    const auto entry = find(signal);
    if (!entry->history) return {};
    auto evaluator = evaluatorOf(*entry);
    if (!evaluator) return {};
    std::vector<double> raw;
    std::vector<Instant> times;
    const SignalHistory* history = entry->at(t);
    const bool whole =
        history->rawBefore(t, evaluator.value().memorySamples(), evaluator.value().memoryTime(), raw, times);
    if (raw.empty()) return {};
    // Of a stage that remembers all there ever was, what is held does not tell its value.
    constexpr std::size_t enough = 100'000;
    if (!whole && raw.size() > enough) {
        raw.erase(raw.begin(), raw.end() - enough);
        times.erase(times.begin(), times.end() - enough);
    }
    Readings readings;
    const auto needed = neededAt(*entry, times);
    evaluator.value().process(raw, times, readings, spansOf(needed));
    std::vector<double> out = evaluator.value().stageValues();
    if (whole) return out;
    std::size_t samples = 1;
    Duration reach;
    for (std::size_t k = 0; k < entry->chain.size(); ++k) {
        const StageMemory memory = memoryOf(entry->chain[k]);
        samples += memory.samples;
        reach = std::max(reach, memory.time);
        const bool known = raw.size() >= samples && t - times.front() >= reach;
        if (!known) out[k + 1] = std::numeric_limits<double>::quiet_NaN();
    }
    out.back() = history->at(t).value;
    return out;
}

bool HistorySource::stageSeries(const std::string& signal, std::size_t stages, Span span, std::size_t most,
                                std::vector<double>& values, std::vector<Instant>& times) const {
    values.clear();
    times.clear();
    const auto whole = find(signal);
    if (!whole->history || span.from >= span.to) return false;
    Entry part = *whole;
    if (stages < part.chain.size()) part.chain.erase(part.chain.begin() + std::ptrdiff_t(stages), part.chain.end());
    auto made = evaluatorOf(part);
    if (!made) return false;
    std::vector<double> raw;
    std::vector<Instant> when;
    constexpr Duration longest = milliseconds(600'000);
    const Duration reach = (span.to - span.from) + std::min(made.value().memoryTime(), longest);
    (void)part.at(span.to)->rawBefore(span.to - Duration{1}, made.value().memorySamples(), reach, raw, when);
    if (raw.empty()) return false;
    // What lies before is only there for the filters to begin with.
    const std::size_t first = raw.size() > most ? raw.size() - most : 0;
    std::size_t begin = first;
    while (begin < raw.size() && when[begin] < span.from) ++begin;
    const std::size_t lead = std::min(begin, made.value().memorySamples() + most);
    raw.erase(raw.begin(), raw.begin() + std::ptrdiff_t(begin - lead));
    when.erase(when.begin(), when.begin() + std::ptrdiff_t(begin - lead));
    Readings readings;
    const auto needed = neededAt(part, when);
    made.value().process(raw, when, readings, spansOf(needed));
    values.assign(readings.values.begin() + std::ptrdiff_t(lead), readings.values.end());
    times.assign(when.begin() + std::ptrdiff_t(lead), when.end());
    return !values.empty();
}

StageMeans HistorySource::stageMeans(const std::string& signal, Span span) const {
    constexpr std::size_t most = 10'000;
    const auto entry = find(signal);
    if (!entry->history || span.from >= span.to) return {};
    auto made = evaluatorOf(*entry);
    if (!made) return {};
    ChainEvaluator& chain = made.value();
    const std::size_t memory = std::max<std::size_t>(chain.memorySamples(), 1);
    const Duration reach = chain.memoryTime();
    std::vector<double> raw;
    std::vector<Instant> times;
    const bool whole =
        entry->at(span.from)->rawBefore(span.to - Duration{1}, memory - 1 + most,
                                        reach.ns > 0 ? reach + (span.to - span.from) : Duration{}, raw, times);
    // Before the first that the chain was ever given, it remembers nothing.
    const bool fromTheStart = whole && raw.size() < memory - 1 + most;
    std::size_t first = raw.size() > most ? raw.size() - most : 0;
    while (first < raw.size() &&
           (times[first] < span.from || (!fromTheStart && (first + 1 < memory || times[first] - times[0] < reach))))
        ++first;
    if (first == raw.size()) return {};

    Readings readings;
    const auto evaluate = [&](std::size_t from, std::size_t to) {
        const std::vector<Instant> when(times.begin() + std::ptrdiff_t(from), times.begin() + std::ptrdiff_t(to));
        const auto needed = neededAt(*entry, when);
        chain.process({raw.begin() + std::ptrdiff_t(from), raw.begin() + std::ptrdiff_t(to)}, when, readings,
                      spansOf(needed));
    };
    evaluate(0, first);
    StageMeans out{std::vector<double>(entry->chain.size() + 1, 0), raw.size() - first};
    std::vector<std::size_t> counted(out.means.size(), 0);
    for (std::size_t i = first; i < raw.size(); ++i) {
        evaluate(i, i + 1);
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
    const auto entry = find(signal);
    const SignalHistory* history = entry->at(t);
    return history ? history->lastChange(t) : std::nullopt;
}

int HistorySource::columns(const std::string& signal, const ColumnRequest& request, std::vector<Column>& out) const {
    const auto entry = find(signal);
    int level = 0;
    out.assign(request.n, {});
    if (entry->history) level = entry->history->columns(request, out);
    std::vector<Column> before;
    for (const auto& earlier : entry->earlier) {
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

StretchSummary HistorySource::summaryOver(const std::string& signal, Span span) const {
    const auto entry = find(signal);
    StretchSummary out;
    for (const auto& earlier : entry->earlier) out.add(earlier->summaryOver(span));
    if (entry->history) out.add(entry->history->summaryOver(span));
    return out;
}

bool HistorySource::points(const std::string& signal, Span span, std::size_t most, std::vector<Point>& out) const {
    const auto entry = find(signal);
    out.clear();
    std::vector<Point> part;
    for (const auto& earlier : entry->earlier) {
        const auto all = earlier->extent();
        if (!all || all->to < span.from) continue;
        if (!earlier->points(span, most - out.size(), part)) {
            out.clear();
            return false;
        }
        out.insert(out.end(), part.begin(), part.end());
        if (!part.empty()) out.push_back({part.back().t + nanoseconds(1), std::numeric_limits<double>::quiet_NaN()});
    }
    if (!entry->history) return true;
    if (out.empty()) return entry->history->points(span, most, out);
    if (out.size() >= most || !entry->history->points(span, most - out.size(), part)) {
        out.clear();
        return false;
    }
    out.insert(out.end(), part.begin(), part.end());
    return true;
}

}  // namespace cruscotto
