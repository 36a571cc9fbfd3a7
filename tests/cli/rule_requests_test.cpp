// What rules want of a command that records.
#include <nlohmann/json.hpp>

#include "cli/commands.h"
#include "core/run/run_reader.h"
#include "program.h"

namespace cruscotto {
namespace {

using nlohmann::json;
using test::TempFolder;

TEST(RuleRequests, ARuleEndsTheRecordingKeepsSecondsAndSetsATotalToZero) {
    const TempFolder folder;
    json bench = json::parse(test::readFile(test::example("pump-bench")));
    bench["rules"] = json::parse(R"([
      {"id": "some", "name": "Some", "when": {"is": "every", "seconds": 0.6}, "then": [{"do": "keep", "seconds": 0.2}]},
      {"id": "zero", "name": "Zero", "when": {"is": "every", "seconds": 0.6}, "then": [{"do": "reset", "signal": "volume"}]},
      {"id": "enough", "name": "Enough", "when": {"is": "every", "seconds": 1.5}, "then": [{"do": "end-recording"}]}])");
    const std::string path = folder.file("ruled.bench"), recorded = folder.file("a.run");
    test::writeFile(path, bench.dump());
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

}  // namespace
}  // namespace cruscotto
