#include "core/signal/pyramid.h"

#include <cmath>
#include <random>

#include "core/base/log.h"
#include "core/base/shared_ring.h"
#include "support.h"

namespace cruscotto {
namespace {

TEST(Summary, AddsUpToWhatAllReadingsWouldGive) {
    std::mt19937 random(2);
    std::uniform_real_distribution<double> value(-1e3, 1e3);
    Summary joined, single;
    double sum = 0;
    int n = 0;
    for (int part = 0; part < 50; ++part) {
        Summary one;
        for (int i = 0; i < part % 7; ++i) {
            const double v = i == 3 ? std::nan("") : value(random);
            one.add(v);
            single.add(v);
            if (!std::isnan(v)) sum += v, ++n;
        }
        joined.add(one);
    }
    EXPECT_EQ(joined.count, static_cast<std::uint32_t>(n));
    EXPECT_EQ(joined.min, single.min);
    EXPECT_EQ(joined.max, single.max);
    EXPECT_NEAR(joined.mean, sum / n, 1e-9);
    EXPECT_TRUE(std::isnan(Summary{}.mean)) << "of nothing there is no mean";
}

TEST(Summary, ASmallSpreadOfLargeReadingsIsNotLost) {
    std::mt19937 random(6);
    Summary all;
    std::vector<double> noise;
    for (int part = 0; part < 100; ++part) {
        std::vector<double> v(64);
        for (double& x : v) {
            noise.push_back(static_cast<double>(random() % 1000) / 1024);  // exact beside the large number
            x = 1e9 + noise.back();
        }
        all.add(summarise(v));
    }
    double mean = 0, squares = 0;
    for (const double x : noise) mean += x / static_cast<double>(noise.size());
    for (const double x : noise) squares += (x - mean) * (x - mean);
    EXPECT_NEAR(all.squares, squares, 1e-5 * squares);
    EXPECT_NEAR(all.deviation(), std::sqrt(squares / static_cast<double>(noise.size())), 1e-6);
    EXPECT_EQ(summarise(std::vector<double>(64, 0.1)).squares, 0) << "of equal readings there is none";
}

template <class Finished>
void addOne(PyramidBuilder& builder, Instant t, double v, Finished&& finished) {
    builder.add(
        std::span(&v, 1), [t](std::size_t) { return t; }, finished);
}

TEST(Summary, OfAStretchIsThatOfItsReadingsOneByOne) {
    std::mt19937 random(4);
    for (int round = 0; round < 3000; ++round) {
        std::vector<double> v(random() % 70);
        for (double& x : v) {
            x = static_cast<double>(random() % 2001) / 8 - 100;
            if (round % 3 == 1 && random() % 9 == 0) x = std::nan("");
            if (round % 7 == 2 && random() % 30 == 0) x = std::numeric_limits<double>::infinity();
        }
        Summary expected;
        for (const double x : v) expected.add(x);
        const Summary got = summarise(v);
        ASSERT_EQ(got.count, expected.count);
        if (!got.count) continue;
        ASSERT_EQ(got.min, expected.min);
        ASSERT_EQ(got.max, expected.max);
        if (std::isfinite(got.max)) {
            ASSERT_NEAR(got.mean, expected.mean, 1e-9);
            ASSERT_NEAR(got.squares, expected.squares, 1e-9 * std::max(1.0, expected.squares));
        }
    }
}

TEST(PyramidBuilder, GivesTheSameBucketsHoweverTheStreamIsCut) {
    std::mt19937 random(8);
    std::vector<double> v(20'000);
    for (double& x : v) x = static_cast<double>(random() % 1000);
    const auto bucketsOf = [&](std::size_t most) {
        std::vector<std::tuple<int, std::int64_t, double, double, double>> out;
        PyramidBuilder builder;
        for (std::size_t at = 0; at < v.size();) {
            const std::size_t n = std::min(v.size() - at, 1 + random() % most);
            builder.add(
                std::span(v).subspan(at, n), [&](std::size_t i) { return Instant{static_cast<std::int64_t>(at + i)}; },
                [&](int level, const Bucket& b) {
                    out.emplace_back(level, b.begin.ns, b.summary.min, b.summary.max, std::round(b.summary.mean * 1e6));
                });
            at += n;
        }
        return out;
    };
    const auto whole = bucketsOf(v.size());
    EXPECT_EQ(whole.size(), 312 + 19 + 1U);
    EXPECT_EQ(bucketsOf(1), whole);
    EXPECT_EQ(bucketsOf(100), whole);
    EXPECT_EQ(bucketsOf(3000), whole);
}

TEST(PyramidBuilder, FinishesBucketsInOrderAndWhole) {
    PyramidBuilder builder;
    std::array<std::uint64_t, pyramidLevels + 1> finished{};
    const std::uint64_t n = bucketSamples(4) + 100;
    for (std::uint64_t i = 0; i < n; ++i)
        addOne(builder, {static_cast<std::int64_t>(i) * 10}, static_cast<double>(i),
               [&](int level, const Bucket& bucket) {
                   const std::uint64_t size = bucketSamples(level), k = finished[static_cast<std::size_t>(level)]++;
                   ASSERT_EQ(bucket.begin.ns, static_cast<std::int64_t>(k * size) * 10);
                   ASSERT_EQ(bucket.summary.count, size);
                   ASSERT_EQ(bucket.summary.min, static_cast<double>(k * size));
                   ASSERT_EQ(bucket.summary.max, static_cast<double>((k + 1) * size - 1));
                   ASSERT_NEAR(bucket.summary.mean, (bucket.summary.min + bucket.summary.max) / 2, 1e-6);
               });
    for (int level = 1; level <= pyramidLevels; ++level)
        EXPECT_EQ(finished[static_cast<std::size_t>(level)], n / bucketSamples(level)) << level;
}

TEST(PyramidBuilder, ABucketWithoutAnyReadingIsEmptyNotZero) {
    PyramidBuilder builder;
    int seen = 0;
    for (int i = 0; i < 64; ++i)
        addOne(builder, {i}, std::nan(""), [&](int, const Bucket& b) {
            ++seen;
            EXPECT_EQ(b.summary.count, 0U);
            EXPECT_TRUE(std::isnan(b.summary.min));
        });
    EXPECT_EQ(seen, 1);
}

TEST(SharedRing, KeepsTheLastAndTellsWhatItKept) {
    SharedRing<std::int64_t> ring(6);
    EXPECT_EQ(ring.capacity(), 8U) << "rounded up to a power of two";
    for (std::int64_t i = 0; i < 20; ++i) ring.append(i);
    EXPECT_EQ(ring.written(), 20U);
    EXPECT_EQ(ring.firstKept(), 12U);
    for (std::uint64_t i = 12; i < 20; ++i) EXPECT_EQ(ring.at(i), static_cast<std::int64_t>(i));
}

TEST(SharedRing, AReaderNeverTakesAnOverwrittenItemForAnOldOne) {
    SharedRing<std::uint64_t> ring(256);
    std::atomic<bool> stop{false};
    std::atomic<std::uint64_t> wrong{0}, whole{0};
    std::thread reader([&] {
        while (!stop) {
            const std::uint64_t end = ring.written(), begin = ring.firstKept();
            for (std::uint64_t i = begin; i < end; ++i) {
                const std::uint64_t v = ring.at(i);
                if (ring.firstKept() > i) continue;  // overwritten meanwhile: thrown away
                v == i * 3 ? ++whole : ++wrong;
            }
        }
    });
    std::vector<std::uint64_t> items(37);
    for (std::uint64_t i = 0; i < 2'000'000 || whole < 1000; i += items.size()) {
        for (std::size_t k = 0; k < items.size(); ++k) items[k] = (i + k) * 3;
        ring.append(items.data(), items.size());
    }
    stop = true;
    reader.join();
    EXPECT_EQ(wrong, 0U);
}

TEST(Log, IsMadeWhereItIsToldAndSaysWhyNot) {
    test::TempFolder folder;
    ASSERT_TRUE(logTo(folder.file("deep/er/x.log")).ok());
    logInfo("{} is not a format here");
    logWarning("careful");
    const std::string log = test::readFile(folder.file("deep/er/x.log"));
    EXPECT_NE(log.find("{} is not a format here"), std::string::npos);
    EXPECT_NE(log.find("warning careful"), std::string::npos);
    EXPECT_FALSE(logTo("/proc/none/x.log").ok());
    EXPECT_FALSE(defaultLogPath().empty());
}

}  // namespace
}  // namespace cruscotto
