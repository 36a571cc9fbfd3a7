// What rules would have done over a run, from the command line.
#include <nlohmann/json.hpp>

#include "cli/commands.h"
#include "program.h"

namespace cruscotto {
namespace {

using nlohmann::json;
using test::TempFolder;

TEST(Rehearse, ListsWhatTheRulesWouldHaveDone) {
    const TempFolder folder;
    const auto run = [&](std::vector<std::string> arguments) { return test::run(folder, std::move(arguments)); };
    json bench = json::parse(test::readFile(test::example("pump-bench")));
    bench["rules"] = json::parse(R"([
      {"id": "high", "name": "Too much", "when": {"is": "above", "signal": "outlet-pressure", "level": 1, "hysteresis": 0.2},
       "then": [{"do": "set", "output": "beacon", "value": 1}], "else": [{"do": "mark", "words": "over"}]},
      {"id": "often", "when": {"is": "every", "seconds": 2}, "then": [{"do": "mark", "words": "now"}]}])");
    const std::string path = folder.file("ruled.bench"), recorded = folder.file("a.run");
    test::writeFile(path, bench.dump());
    ASSERT_EQ(run({"record", path, "--for", "9s", "--as-fast-as-possible", "--out", recorded}).code, 0);
    const test::Output out = run({"rehearse", path, recorded, "--json"});
    ASSERT_EQ(out.code, 0) << out.out;
    const json j = json::parse(out.out);
    EXPECT_EQ(j["rules"]["high"], 1);
    EXPECT_EQ(j["rules"]["often"], 4);
    const auto firing = std::ranges::find_if(j["firings"], [](const json& f) { return f["rule"] == "high"; });
    ASSERT_NE(firing, j["firings"].end());
    EXPECT_TRUE((*firing)["holds"]);
    EXPECT_NEAR((*firing)["readings"]["outlet-pressure"].get<double>(), 1, 0.05);
    EXPECT_EQ((*firing)["actions"][0]["output"], "beacon");
    EXPECT_EQ(run({"rehearse", path, folder.file("none.run")}).code, cli::badFile);
    EXPECT_EQ(run({"rehearse", folder.file("none.bench"), recorded}).code, cli::badFile);
    EXPECT_NE(run({"rehearse", path, recorded}).out.find("Too much"), std::string::npos);
}

}  // namespace
}  // namespace cruscotto
