#include "core/history/history_source.h"
#include "core/history/signal_history.h"
#include "core/history/timeline.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <random>

#include "core/history/column_cache.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using test::clockedBlock;
using test::oneChannelGroup;

/// A history and beside it a plain list of everything that went in.
struct Model {
    explicit Model(HistorySize size = {1 << 14, 1 << 12}, double rateHz = 1000)
        : group(oneChannelGroup(rateHz)),
          timeline(std::make_shared<Timeline>(4096)),
          history(std::make_shared<SignalHistory>(timeline, SampleType::float64, size)) {}

    void add(Instant t0, const std::vector<double>& values, bool gap = false,
             std::vector<QualityInterval> quality = {}) {
        auto block = std::make_shared<Block>(*clockedBlock(group, all.size(), t0, values));
        if (gap) block->gapBefore = Gap{all.empty() ? t0 : all.back().t, t0, 0, "test"};
        for (std::size_t i = 0; i < values.size(); ++i) all.push_back({block->timeOf(i), values[i]});
        timeline->append(*block);
        history->append(values, {values, std::move(quality)});
    }
    void addSine(std::size_t n, Instant t0 = {}) {
        std::vector<double> v;
        for (std::size_t i = 0; i < n; ++i) v.push_back(std::sin(static_cast<double>(i + all.size()) * 0.01) * 10);
        add(t0, v);
    }

    std::shared_ptr<ScanGroup> group;
    std::shared_ptr<Timeline> timeline;
    std::shared_ptr<SignalHistory> history;
    std::vector<Point> all;
};

/// Counts every sample to the column in which its bucket of the level begins.
std::vector<Summary> bruteForce(const std::vector<Point>& all, const ColumnRequest& request, int level) {
    std::vector<Summary> out(request.n);
    const std::uint64_t size = bucketSamples(level);
    const std::uint64_t whole = all.size() / size * size;
    for (std::uint64_t i = 0; i < all.size(); ++i) {
        // the tail that fills no bucket counts by smaller ones
        std::uint64_t begin = i / size * size;
        if (i >= whole) {
            begin = i;
            for (int l = level - 1; l >= 1; --l)
                if (i < all.size() / bucketSamples(l) * bucketSamples(l)) {
                    begin = i / bucketSamples(l) * bucketSamples(l);
                    break;
                }
        }
        const std::int64_t at = all[begin].t.ns - request.from.ns;
        if (at < 0 || at / request.width.ns >= static_cast<std::int64_t>(request.n)) continue;
        out[static_cast<std::size_t>(at / request.width.ns)].add(all[i].value);
    }
    return out;
}

void expectSame(const std::vector<Column>& columns, const std::vector<Summary>& expected) {
    ASSERT_EQ(columns.size(), expected.size());
    for (std::size_t i = 0; i < columns.size(); ++i) {
        ASSERT_EQ(columns[i].summary.count, expected[i].count) << "column " << i;
        if (!expected[i].count) continue;
        EXPECT_EQ(columns[i].summary.min, expected[i].min) << i;
        EXPECT_EQ(columns[i].summary.max, expected[i].max) << i;
        EXPECT_NEAR(columns[i].summary.mean, expected[i].mean, 1e-9) << i;
    }
}

TEST(History, ColumnsAreWhatBruteForceSaysForAnyWindow) {
    Model m;
    std::mt19937 random(11);
    std::uniform_real_distribution<double> value(-5, 5);
    std::vector<double> v;
    for (int i = 0; i < 10'000; ++i) v.push_back(i % 97 == 0 ? std::nan("") : value(random));
    m.add({500}, v);
    for (const std::int64_t width :
         {300'000LL, 1'000'000LL, 7'000'000LL, 64'000'000LL, 150'000'000LL, 1'000'000'000LL, 5'000'000'000LL})
        for (const std::int64_t from : {-3LL, 0LL, 1LL, 40LL}) {
            const ColumnRequest request{{from * width}, {width}, 50};
            std::vector<Column> columns;
            const int level = m.history->columns(request, columns);
            expectSame(columns, bruteForce(m.all, request, level));
            if (width < 100'000'000) EXPECT_EQ(level, 0);
        }
}

/// What all the samples of a stretch come to, by themselves.
StretchSummary oneByOne(const std::vector<Point>& all, Span span) {
    StretchSummary out;
    for (const Point& p : all)
        if (p.t >= span.from && p.t < span.to && !std::isnan(p.value)) out.add(Summary{p.value, p.value, p.value, 1});
    return out;
}

TEST(History, SummariesOfAnyStretchAreThoseOfAllItsSamples) {
    Model m({1 << 17, 1 << 12});
    std::mt19937 random(3);
    m.addSine(70'000);
    m.add(m.all.back().t + seconds(3), std::vector<double>(500, std::nan("")), true);
    m.addSine(20'000, m.all.back().t + milliseconds(1));
    for (int i = 0; i < 300; ++i) {
        const auto some = [&] { return Instant{} + milliseconds(static_cast<int>(random() % 100'000)); };
        Span span{some(), some()};
        if (span.to < span.from) std::swap(span.from, span.to);
        const StretchSummary got = m.history->summaryOver(span), want = oneByOne(m.all, span);
        ASSERT_TRUE(got.exact);
        ASSERT_EQ(got.count, want.count);
        if (want.count == 0) continue;
        EXPECT_EQ(got.min, want.min);
        EXPECT_EQ(got.max, want.max);
        EXPECT_NEAR(got.mean, want.mean, 1e-12 * 10);
        if (want.count > 1) EXPECT_NEAR(got.deviation(), want.deviation(), 1e-10);
    }
}

TEST(History, WhereSamplesAreForgottenTheSummarySaysThatItIsNotExact) {
    Model m({1 << 10, 1 << 12});
    m.addSine(100'000);
    const StretchSummary part = m.history->summaryOver({Instant{} + milliseconds(10'010), Instant{} + seconds(40)});
    EXPECT_FALSE(part.exact);
    EXPECT_NEAR(static_cast<double>(part.count), 29'990, 64);
    const StretchSummary newest = m.history->summaryOver({Instant{} + milliseconds(99'500), Instant{} + seconds(200)});
    EXPECT_TRUE(newest.exact);
    EXPECT_EQ(newest.count, 500U);
    EXPECT_EQ(m.history->summaryOver({Instant{} + seconds(200), Instant{} + seconds(300)}).count, 0U);
}

TEST(History, CostFollowsTheColumnsNotTheTime) {
    Model m({1 << 16, 1 << 14});
    for (int i = 0; i < 50; ++i) m.addSine(1000, {static_cast<std::int64_t>(m.all.size()) * 1'000'000});
    std::vector<Column> columns;
    EXPECT_GE(m.history->columns({{0}, seconds(5), 10}, columns), 2)
        << "ten columns over 50,000 samples are read from large buckets";
    EXPECT_EQ(m.history->columns({{0}, milliseconds(1), 10}, columns), 0);
}

TEST(History, ValueAtAMoment) {
    Model m;
    m.add({1'000'000'000}, {1, 2, 3});
    EXPECT_TRUE(std::isnan(m.history->at({999'999'999}).value));
    EXPECT_EQ(m.history->at({999'999'999}).quality, Quality::gap);
    EXPECT_EQ(m.history->at({1'000'000'000}).value, 1);
    EXPECT_EQ(m.history->at({1'001'999'999}).value, 2);
    EXPECT_EQ(m.history->at({1'002'000'000}).value, 3);
    EXPECT_EQ(m.history->at({9'000'000'000}).value, 3);
    EXPECT_EQ(m.history->at({9'000'000'000}).taken, (Instant{1'002'000'000}));
}

TEST(History, NothingAndOneSample) {
    Model m;
    std::vector<Column> columns;
    std::vector<Point> points;
    EXPECT_FALSE(m.history->extent());
    EXPECT_EQ(m.history->columns({{0}, seconds(1), 3}, columns), 0);
    EXPECT_EQ(columns[1].summary.count, 0U);
    EXPECT_TRUE(m.history->points({{0}, {1000}}, 10, points));
    EXPECT_TRUE(points.empty());
    EXPECT_FALSE(m.history->lastChange({5}));
    m.add({100}, {4});
    m.history->columns({{0}, {50}, 4}, columns);
    EXPECT_EQ(columns[2].summary, (Summary{4, 4, 4, 1}));
    EXPECT_FALSE(m.history->lastChange({500})) << "it has never changed";
}

TEST(History, KeepsWhatItForgotAsSummaries) {
    Model m({1024, 4096});
    for (int i = 0; i < 20; ++i) m.addSine(1000, {static_cast<std::int64_t>(m.all.size()) * 1'000'000});
    const Reading old = m.history->at({1'000'000'000});
    EXPECT_TRUE(old.summary);
    double mean = 0;
    for (int i = 960; i < 1024; ++i)
        mean += m.all[static_cast<std::size_t>(i)].value / 64;  // the bucket that holds 1000
    EXPECT_NEAR(old.value, mean, 1e-9);
    EXPECT_FALSE(m.history->at({19'999'000'000}).summary);
    std::vector<Column> columns;
    const ColumnRequest request{{0}, milliseconds(64), 100};
    EXPECT_EQ(m.history->columns(request, columns), 1);
    expectSame(columns, bruteForce(m.all, request, 1));
    std::vector<Point> points;
    EXPECT_FALSE(m.history->points({{0}, {500'000'000}}, 10'000, points));
}

TEST(History, GapsBreakTheLineAndAreNeverInterpolated) {
    Model m;
    m.add({0}, {1, 1, 1});
    m.add({1'000'000'000}, {2, 2}, true);
    std::vector<Point> points;
    ASSERT_TRUE(m.history->points({{0}, {2'000'000'000}}, 100, points));
    ASSERT_EQ(points.size(), 6U);
    EXPECT_TRUE(std::isnan(points[3].value));
    EXPECT_EQ(points[3].t, (Instant{2'000'000})) << "what holds its value holds it up to the gap";
    EXPECT_EQ(points[4].t, (Instant{1'000'000'000}));
    std::vector<Column> columns;
    m.history->columns({{0}, milliseconds(500), 4}, columns);
    EXPECT_EQ(columns[0].summary.count, 3U);
    EXPECT_EQ(columns[1].summary.count, 0U);
    EXPECT_TRUE(columns[2].gapBefore);
    EXPECT_FALSE(columns[0].gapBefore);
    // Whoever goes back into it is told so, however long ago it was.
    m.addSine(3000, {1'002'000'000});
    for (const auto& [ns, quality] : {std::pair(2'000'000, Quality::good), std::pair(2'000'001, Quality::gap),
                                      std::pair(999'999'999, Quality::gap), std::pair(1'000'000'000, Quality::good)}) {
        const Reading r = m.history->at({ns});
        EXPECT_EQ(r.quality, quality) << ns;
        EXPECT_EQ(r.value, ns < 1'000'000'000 ? 1 : 2) << "the last there was";
    }
}

TEST(History, ASilenceIsStaleForWhoGoesBackIntoIt) {
    Model m;
    m.add({0}, {7});
    auto block = std::make_shared<Block>(*clockedBlock(m.group, 1, {5'000'000'000}, std::vector<double>{8}));
    block->gapBefore = Gap{{0}, {5'000'000'000}, 0, "The board says nothing.", Quality::stale};
    m.timeline->append(*block);
    m.history->append(block->columns[0], {{8}, {}});
    EXPECT_EQ(m.history->at({2'000'000'000}).quality, Quality::stale);
    EXPECT_EQ(m.history->at({2'000'000'000}).value, 7);
    EXPECT_EQ(m.history->at({5'000'000'000}).quality, Quality::good);
    std::vector<Point> points;
    ASSERT_TRUE(m.history->points({{0}, {6'000'000'000}}, 100, points));
    EXPECT_TRUE(std::isnan(points.at(1).value)) << "no line is drawn across it all the same";
}

TEST(History, QualityHoldsFromSampleToSampleAndTheWorstWins) {
    Model m;
    m.add({0}, {1, 2, 3, 4}, false, {{2, 3, Quality::clipped}, {1, 3, Quality::outOfRange}});
    EXPECT_EQ(m.history->at({0}).quality, Quality::good);
    EXPECT_EQ(m.history->at({1'000'000}).quality, Quality::outOfRange);
    EXPECT_EQ(m.history->at({2'000'000}).quality, Quality::clipped) << "whichever interval comes last";
    EXPECT_EQ(m.history->at({3'000'000}).quality, Quality::good);
    m.history->markLost({5'000'000}, Quality::stale);
    EXPECT_EQ(m.history->at({4'900'000}).quality, Quality::good);
    EXPECT_EQ(m.history->at({6'000'000}).quality, Quality::stale);
    m.add({4'000'000}, {5});
    EXPECT_EQ(m.history->at({6'000'000}).quality, Quality::good) << "it is back";
}

TEST(History, LastChangeIsFoundAcrossManyBuckets) {
    Model m({1 << 16, 1 << 12});
    std::vector<double> v(30'000, 0);
    v[0] = 1;
    v[17] = 1;
    m.add({0}, v);
    EXPECT_EQ(m.history->lastChange({29'999'000'000}), (Instant{18'000'000}));
    EXPECT_EQ(m.history->lastChange({17'500'000}), (Instant{17'000'000}));
    EXPECT_EQ(m.history->lastChange({16'000'000}), (Instant{1'000'000}));
    EXPECT_FALSE(m.history->lastChange({0}));
}

TEST(History, RawSamplesEndingAtAMoment) {
    Model m;
    m.addSine(1000);
    std::vector<double> raw;
    std::vector<Instant> times;
    ASSERT_TRUE(m.history->rawBefore({500'000'000}, 10, {}, raw, times));
    ASSERT_EQ(raw.size(), 10U);
    EXPECT_EQ(raw.back(), m.all[500].value);
    EXPECT_EQ(times.front(), m.all[491].t);
    ASSERT_TRUE(m.history->rawBefore({500'000'000}, 1, milliseconds(100), raw, times));
    EXPECT_EQ(raw.size(), 101U);
}

TEST(Timeline, UnclockedSamplesKeepTheirOwnTimes) {
    auto group = oneChannelGroup(1);
    group->rateHz = 0;
    Timeline timeline(64);
    Block block;
    block.group = group;
    block.times = {{10}, {20}, {20}, {35}};
    block.columns.emplace_back(std::vector<double>{1, 2, 3, 4});
    timeline.append(block);
    EXPECT_EQ(timeline.count(), 4U);
    EXPECT_EQ(timeline.timeOf(3), (Instant{35}));
    EXPECT_FALSE(timeline.lastAtOrBefore({9}));
    EXPECT_EQ(timeline.lastAtOrBefore({19}), 0U);
    EXPECT_EQ(timeline.lastAtOrBefore({20}), 2U);
    EXPECT_EQ(timeline.lastAtOrBefore({1000}), 3U);
}

TEST(Timeline, BlocksThatGoOnCostNothing) {
    Model m;
    for (int i = 0; i < 100; ++i) m.addSine(10, {static_cast<std::int64_t>(m.all.size()) * 1'000'000});
    const auto segment = m.timeline->segmentOf(999);
    ASSERT_TRUE(segment);
    EXPECT_EQ(segment->first, 0U);
    EXPECT_EQ(segment->end, 1000U);
}

TEST(History, ReadersSeeOnlyWholeDataWhileItIsWritten) {
    // Sample i has the value i and the time i ms: whatever a reader gets must fit together.
    auto group = oneChannelGroup(1000);
    auto timeline = std::make_shared<Timeline>(64);
    SignalHistory history(timeline, SampleType::float64, {1024, 256});
    std::atomic<bool> stop{false};
    std::atomic<int> wrong{0}, looked{0};
    std::thread reader([&] {
        std::vector<Column> columns;
        std::vector<Point> points;
        while (!stop) {
            const std::uint64_t n = history.count();
            if (n < 300) continue;
            const Instant t{static_cast<std::int64_t>(n - 200) * 1'000'000};
            const Reading r = history.at(t);
            if (!r.summary && r.quality == Quality::good && r.value * 1e6 != static_cast<double>(r.taken.ns)) ++wrong;
            if (history.points({t, t + milliseconds(50)}, 1000, points))
                for (const Point& p : points)
                    if (p.value * 1e6 != static_cast<double>(p.t.ns)) ++wrong;
            ++looked;
        }
    });
    std::vector<double> v(50);
    for (std::uint64_t i = 0; i < 400'000 || looked < 50; i += v.size()) {
        for (std::size_t k = 0; k < v.size(); ++k) v[k] = static_cast<double>(i + k);
        timeline->append(*clockedBlock(group, i, {static_cast<std::int64_t>(i) * 1'000'000}, v));
        history.append(v, {v, {}});
    }
    stop = true;
    reader.join();
    EXPECT_EQ(wrong, 0);
    EXPECT_GE(looked, 50);
}

TEST(ColumnCache, GivesWhatTheSourceWouldGiveWhileTheWindowMoves) {
    Model m({1 << 16, 1 << 12});
    HistorySource source;
    source.set("s", m.history, {}, ChannelKind::analogInput);
    ColumnCache cache;
    const Duration width = milliseconds(3);
    for (int step = 0; step < 200; ++step) {
        m.addSine(17, {static_cast<std::int64_t>(m.all.size()) * 1'000'000});
        const Instant end = m.all.back().t;
        const Span span{end - milliseconds(300), end};
        const auto& got = cache.update(source, "s", span, width, end - milliseconds(20));
        const std::vector<Column> columns(got.begin(), got.end());
        ASSERT_FALSE(columns.empty());
        expectSame(columns, bruteForce(m.all, {columns.front().begin, width, columns.size()}, 0));
        EXPECT_LE(columns.front().begin, span.from);
        EXPECT_GT(columns.back().begin + width, span.to);
    }
    // back in time: nothing of the newer columns is left over
    const auto& back = cache.update(source, "s", {{0}, {100'000'000}}, width, m.all.back().t);
    EXPECT_EQ(back.front().begin, Instant{});
    expectSame({back.begin(), back.end()}, bruteForce(m.all, {{0}, width, back.size()}, 0));
}

TEST(HistorySize, AllSignalsShareWhatThereIs) {
    const HistorySize full;
    EXPECT_EQ(full.sharedBy(1).samples, full.samples);
    EXPECT_EQ(full.sharedBy(33).buckets, full.buckets);
    std::size_t before = full.bytes();
    for (std::size_t signals = 1; signals <= 10'000; signals += 1 + signals / 10) {
        const HistorySize shared = full.sharedBy(signals);
        EXPECT_LE(signals * shared.bytes(), std::size_t{1} << 30) << signals;
        EXPECT_LE(shared.bytes(), before) << "more signals, less of each";
        before = shared.bytes();
    }
    EXPECT_GE(full.sharedBy(1'000'000).samples, 1024U);
    EXPECT_GE(full.sharedBy(1'000'000).buckets, 256U);
}

TEST(HistorySource, WorksTheStagesOutForAnyMoment) {
    Model m;
    std::vector<double> counts;
    for (int i = 0; i < 2000; ++i) counts.push_back(i);
    const ChainSpec chain{countsToVolts(16, -10, 10), movingMean(5), slopeOffset(2, 1, "bar")};
    auto evaluator = ChainEvaluator::make(chain, ChannelKind::analogInput);
    std::vector<Instant> times;
    for (int i = 0; i < 2000; ++i) times.push_back(milliseconds(i).ns ? Instant{milliseconds(i).ns} : Instant{});
    Readings readings;
    evaluator.value().process(counts, times, readings);
    m.timeline->append(*clockedBlock(m.group, 0, {0}, counts));
    m.history->append(counts, readings);
    HistorySource source;
    source.set("s", m.history, chain, ChannelKind::analogInput);
    const auto stages = source.stagesAt("s", {1'000'000'000});
    ASSERT_EQ(stages.size(), 4U);
    EXPECT_EQ(stages[0], 1000);
    EXPECT_DOUBLE_EQ(stages[1], 1000 * 20.0 / 65536);
    EXPECT_DOUBLE_EQ(stages[2], 998 * 20.0 / 65536);
    EXPECT_DOUBLE_EQ(stages[3], readings.values[1000]);
    EXPECT_TRUE(source.stagesAt("unknown", {0}).empty());
    EXPECT_EQ(source.at("unknown", {0}).quality, Quality::gap);

    // The mean of a span, against every moment of it one by one; the span's end is not in it.
    for (const auto& [from, to] : {std::pair(500, 1500), std::pair(0, 3), std::pair(1998, 5000)}) {
        const StageMeans mean = source.stageMeans("s", {Instant{} + milliseconds(from), Instant{} + milliseconds(to)});
        std::vector<double> sum(4, 0);
        const int n = std::min(to, 2000) - from;
        for (int i = from; i < from + n; ++i) {
            const auto at = source.stagesAt("s", Instant{} + milliseconds(i));
            for (std::size_t k = 0; k < 4; ++k) sum[k] += at[k] / n;
        }
        ASSERT_EQ(mean.samples, static_cast<std::size_t>(n)) << from;
        for (std::size_t k = 0; k < 4; ++k) EXPECT_NEAR(mean.means[k], sum[k], 1e-9) << from << ", stage " << k;
    }
    EXPECT_EQ(source.stageMeans("s", {Instant{} + seconds(3), Instant{} + seconds(4)}).samples, 0U);
    EXPECT_TRUE(source.stageMeans("unknown", {{0}, {1}}).means.empty());
}

}  // namespace
}  // namespace cruscotto
