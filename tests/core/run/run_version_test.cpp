#include "core/run/run_version.h"

#include "core/export/run_export.h"
#include "core/run/run_replay.h"
#include "core/run/run_writer.h"
#include "integrity.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using test::TempFolder;

struct Watched : Progress {
    void advance(std::uint64_t done, std::uint64_t total) override {
        last = done;
        all = total;
    }
    [[nodiscard]] bool cancelled() const override { return stop; }
    std::uint64_t last = 0, all = 0;
    bool stop = false;
};

SignalSpec scaled(double slope, const std::string& unit = "bar") {
    SignalSpec s = *test::oneSignal().signal("in");
    s.chain = {slopeOffset(slope, 0, unit)};
    return s;
}

/// A run of 5000 samples 0, 1, 2 ... of two signals; the first one's chain is corrected in its middle.
std::string recordedRun(const TempFolder& folder, KeepSpec keep = {}) {
    const std::string path = folder.file("a.run");
    SignalSpec first = scaled(2), second = scaled(1);
    first.keep = keep;
    second.id = second.name = "other";
    second.terminal = "AI1";
    const Bench bench = withSignal(withSignal(test::oneSignal(), first), second);
    auto writer = std::move(RunWriter::create(path, bench, {{0}, 1'768'467'600'000'000'000}).value());
    auto group = test::oneChannelGroup(1000);
    group->channels.push_back({"AI1", SampleType::float64, ChannelKind::analogInput});
    std::vector<PyramidBuilder> pyramids(2);
    for (std::uint64_t i = 0; i < 5000; i += 500) {
        std::vector<double> v;
        for (std::uint64_t k = 0; k < 500; ++k) v.push_back(static_cast<double>(i + k));
        auto block =
            std::const_pointer_cast<Block>(test::clockedBlock(group, i, {static_cast<std::int64_t>(i) * 1'000'000}, v));
        block->columns.push_back(v);
        if (i == 2500) {
            first.chain = {slopeOffset(3, 0, "bar")};
            writer->define(first, block->t0);
        }
        std::vector<RecordedBucket> buckets;
        for (std::size_t c = 0; c < 2; ++c) {
            const double slope = c == 1 ? 1 : i < 2500 ? 2 : 3;
            std::vector<double> readings;
            for (const double x : v) readings.push_back(slope * x);
            pyramids[c].add(
                readings, [&](std::size_t k) { return block->timeOf(k); },
                [&](int level, const Bucket& b) {
                    buckets.push_back({c, {level, b}});
                });
        }
        writer->add(block, {{0, "in"}, {1, "other"}}, buckets);
    }
    writer->addBench(withSignal(bench, first), {2'500'000'000});
    EXPECT_TRUE(writer->close().ok());
    return path;
}

double readingAt(RunReader& reader, const std::string& id, double t) {
    const RunSignal* s = reader.info().signal(id);
    RunReplay replay(reader, s->group, {RunReader::Part{}.span, {s->id}});
    for (RunReplay::Step step; replay.next(step);)
        for (std::size_t i = 0; i < step.block->size(); ++i)
            if (step.block->timeOf(i).seconds() >= t) return step.readings[0].values[i];
    return -1;
}

TEST(RunVersion, CorrectsTheReadingsOfTheWholeRunAndKeepsTheOldOnes) {
    TempFolder folder;
    const std::string path = recordedRun(folder);
    Watched progress;
    const auto made =
        addRunVersion(path, {scaled(10, "kPa")}, "the slope was a tenth", 1'800'000'000'000'000'000, progress);
    ASSERT_TRUE(made.ok()) << made.error().english();
    EXPECT_EQ(made.value(), 1);
    EXPECT_EQ(progress.last, 5000U);
    EXPECT_EQ(progress.all, 5000U);
    EXPECT_EQ(test::integrity(path), "ok");

    const auto now = RunReader::open(path);
    ASSERT_TRUE(now.ok());
    const RunInfo& info = now.value()->info();
    EXPECT_EQ(info.version, 1);
    ASSERT_EQ(info.versions.size(), 1U);
    EXPECT_EQ(info.versions[0].words, "the slope was a tenth");
    EXPECT_EQ(info.versions[0].madeUnixNs, 1'800'000'000'000'000'000);
    EXPECT_EQ(info.versions[0].signals, std::vector<std::string>{"in"});
    EXPECT_EQ(info.signals.size(), 2U);
    EXPECT_EQ(readingAt(*now.value(), "in", 1), 10'000);
    EXPECT_EQ(readingAt(*now.value(), "in", 4), 40'000);
    EXPECT_EQ(readingAt(*now.value(), "other", 4), 4000);
    EXPECT_EQ(info.signal("in")->current().unit(), "kPa");
    EXPECT_EQ(info.bench.signal("in")->unit(), "kPa") << "what is shown carries the new unit";
    EXPECT_EQ(summaryOf(*now.value(), *info.signal("in")).max, 49'990);
    const auto buckets = now.value()->summaries(info.signal("in")->id, 2);
    ASSERT_EQ(buckets.size(), 4U);
    EXPECT_EQ(buckets[3].summary.max, 40'950) << "the overview is of the new readings";

    const auto before = RunReader::open(path, 0);
    ASSERT_TRUE(before.ok());
    EXPECT_EQ(before.value()->info().version, 0);
    EXPECT_EQ(readingAt(*before.value(), "in", 1), 2000);
    EXPECT_EQ(readingAt(*before.value(), "in", 4), 12'000) << "with the change in its middle";
    EXPECT_EQ(before.value()->info().signal("in")->definitions.size(), 2U);
    EXPECT_EQ(before.value()->summaries(info.signal("in")->id, 2)[3].summary.max, 3 * 4095);
    EXPECT_EQ(before.value()->info().bench.signal("in")->unit(), "bar");
}

TEST(RunVersion, VersionsBuildOnEachOther) {
    TempFolder folder;
    const std::string path = recordedRun(folder);
    Watched progress;
    SignalSpec other = scaled(7);
    other.id = "other";
    ASSERT_EQ(addRunVersion(path, {scaled(10)}, "", 1, progress).value(), 1);
    ASSERT_EQ(addRunVersion(path, {other}, "", 2, progress).value(), 2);
    ASSERT_EQ(addRunVersion(path, {scaled(20)}, "", 3, progress).value(), 3);
    const auto at = [&](std::optional<int> version) {
        const auto reader = RunReader::open(path, version);
        return std::pair(readingAt(*reader.value(), "in", 1), readingAt(*reader.value(), "other", 1));
    };
    EXPECT_EQ(at(0), std::pair(2000.0, 1000.0));
    EXPECT_EQ(at(1), std::pair(10'000.0, 1000.0));
    EXPECT_EQ(at(2), std::pair(10'000.0, 7000.0));
    EXPECT_EQ(at(3), std::pair(20'000.0, 7000.0));
    EXPECT_EQ(at({}), at(3));
    const auto none = RunReader::open(path, 4);
    ASSERT_FALSE(none.ok());
    EXPECT_NE(none.error().english().find("has no version 4"), std::string::npos);
    ExportOptions options;
    options.version = 1;
    ASSERT_TRUE(exportCsv(path, folder.file("a.csv"), options, progress).ok());
    EXPECT_NE(test::readFile(folder.file("a.csv")).find("\n1,10000,1000"), std::string::npos);
}

TEST(RunVersion, WhatCannotBeDoneIsSaidAndTheRunStaysAsItWas) {
    TempFolder folder;
    const std::string path = recordedRun(folder);
    const auto refused = [&](const std::vector<SignalSpec>& corrected, const char* says, bool stop = false) {
        Watched progress;
        progress.stop = stop;
        const auto made = addRunVersion(path, corrected, "", 1, progress);
        ASSERT_FALSE(made.ok()) << says;
        EXPECT_NE(made.error().english().find(says), std::string::npos) << made.error().english();
    };
    refused({}, "nothing to work out again");
    refused({scaled(10)}, "Stopped", true);
    SignalSpec odd = scaled(10);
    odd.chain = {formula("x +", "bar")};
    refused({odd}, "in:");
    odd.id = "elsewhere";
    odd.chain.clear();
    refused({odd}, "no signal \"elsewhere\"");
    const auto reader = RunReader::open(path);
    EXPECT_TRUE(reader.value()->info().versions.empty());
    EXPECT_EQ(readingAt(*reader.value(), "in", 1), 2000);
    EXPECT_EQ(correctedSignals(reader.value()->info(), reader.value()->info().bench).size(), 0U);
    EXPECT_EQ(correctedSignals(reader.value()->info(), withSignal(test::oneSignal(), scaled(5))).size(), 1U);
}

TEST(RunVersion, ReadingsThatWereRecordedCannotBeMended) {
    TempFolder folder;
    KeepSpec keep;
    keep.asReadings = true;
    const std::string path = recordedRun(folder, keep);
    Watched progress;
    const auto made = addRunVersion(path, {scaled(10)}, "", 1, progress);
    ASSERT_FALSE(made.ok());
    EXPECT_NE(made.error().english().find("not the raw samples"), std::string::npos);
}

}  // namespace
}  // namespace cruscotto
