// What rules want of a command that records.
#include <nlohmann/json.hpp>

#include "cli/commands.h"
#include "core/run/run_reader.h"
#include "program.h"

namespace cruscotto {
namespace {

using nlohmann::json;
using test::TempFolder;

std::string ruledBench(const TempFolder& folder) {
    json bench = json::parse(test::readFile(test::example("pump-bench")));
    bench["rules"] = json::parse(R"([
      {"id": "some", "name": "Some", "when": {"is": "every", "seconds": 0.6}, "then": [{"do": "keep", "seconds": 0.2}]},
      {"id": "zero", "name": "Zero", "when": {"is": "every", "seconds": 0.6}, "then": [{"do": "reset", "signal": "volume"}]},
      {"id": "enough", "name": "Enough", "when": {"is": "every", "seconds": 1.5}, "then": [{"do": "end-recording"}]}])");
    const std::string path = folder.file("ruled.bench");
    test::writeFile(path, bench.dump());
    return path;
}

TEST(RuleRequests, ARuleEndsTheRecordingKeepsSecondsAndSetsATotalToZero) {
    const TempFolder folder;
    const std::string path = ruledBench(folder), recorded = folder.file("a.run");
    const test::Output out = test::run(folder, {"record", path, "--for", "60s", "--out", recorded});
    EXPECT_EQ(out.code, cli::ok) << out.err;
    EXPECT_NE(out.err.find("\"Enough\" has ended the recording."), std::string::npos) << out.err;
    EXPECT_NE(out.err.find("\"Zero\" has begun a total anew."), std::string::npos) << out.err;
    const auto run = RunReader::open(recorded);
    ASSERT_TRUE(run.ok());
    EXPECT_TRUE(run.value()->info().closed);
    EXPECT_LT(run.value()->info().span.to, Instant{} + seconds(30));
    const auto kept = RunReader::open(folder.file("a-kept-1.run"));
    ASSERT_TRUE(kept.ok()) << out.err;
    const Span span = kept.value()->info().span;
    EXPECT_GE((span.to - span.from).seconds(), 0.2);
    EXPECT_LT(span.to - span.from, run.value()->info().span.to - run.value()->info().span.from) << "and no more";
}

/// As fast as possible the bench's time stands still meanwhile: it is done at the moment at which it is wanted.
TEST(RuleRequests, AreObeyedInTimeHoweverFastItGoes) {
    const TempFolder folder;
    const std::string path = ruledBench(folder);
    std::vector<Instant> ends;
    for (const char* name : {"a", "b"}) {
        const std::string recorded = folder.file(std::string(name) + ".run");
        const test::Output out =
            test::run(folder, {"record", path, "--for", "60s", "--as-fast-as-possible", "--out", recorded});
        EXPECT_EQ(out.code, cli::ok) << out.err;
        EXPECT_NE(out.err.find("\"Enough\" has ended the recording."), std::string::npos) << out.err;
        EXPECT_NE(out.err.find("\"Zero\" has begun a total anew."), std::string::npos) << out.err;
        const auto run = RunReader::open(recorded);
        ASSERT_TRUE(run.ok());
        EXPECT_TRUE(run.value()->info().closed);
        EXPECT_GE(run.value()->info().span.to, Instant{} + seconds(1.5));
        EXPECT_LT(run.value()->info().span.to, Instant{} + seconds(1.8)) << "a few blocks on";
        const auto kept = RunReader::open(folder.file(std::string(name) + "-kept-2.run"));
        ASSERT_TRUE(kept.ok()) << out.err;
        for (const RunGroup& g : kept.value()->info().groups)
            if (g.rateHz > 0) {
                EXPECT_NEAR((g.span.from - Instant{}).seconds(), 1.0, 0.1) << g.name << ": the 0.2 s before 1.2 s";
                EXPECT_NEAR((g.span.to - Instant{}).seconds(), 1.2, 0.1) << g.name;
                EXPECT_GT(g.samples, 0U);
            }
        ends.push_back(run.value()->info().span.to);
    }
    EXPECT_EQ(ends[0].ns, ends[1].ns);
}

}  // namespace
}  // namespace cruscotto
