// What a stretch comes to, from the command line.
#include <nlohmann/json.hpp>

#include <cmath>

#include "cli/commands.h"
#include "core/analysis/measures.h"
#include "program.h"

namespace cruscotto {
namespace {

using nlohmann::json;
using test::TempFolder;

TEST(Measure, TheSieveIsHeldAgainstItsExciter) {
    TempFolder folder;
    const auto run = [&](std::vector<std::string> arguments) { return test::run(folder, std::move(arguments)); };
    const std::string path = folder.file("a.run");
    ASSERT_EQ(
        run({"record", test::example("seed-sorter"), "--for", "12s", "--as-fast-as-possible", "--out", path}).code, 0);
    const test::Output out =
        run({"measure", path, "--signal", "sieve", "--against", "exciter", "--from", "10s", "--to", "10.4s", "--json"});
    ASSERT_EQ(out.code, 0) << out.out;
    const json j = json::parse(out.out);
    EXPECT_EQ(j["signal"], "sieve");
    EXPECT_EQ(j["against"], "exciter");
    EXPECT_EQ(j["from-s"], 10);
    const json& m = j["measures"];
    for (const MeasureKind& kind : measureKinds())
        EXPECT_EQ(m.contains(kind.name), measureFits(kind, false)) << kind.name;
    EXPECT_TRUE(m["gain"].contains("note")) << "it is clipped";
    EXPECT_NEAR(m["delay"]["value"].get<double>(), 1.5e-3, 1e-4);
    EXPECT_LT(m["gain"]["value"].get<double>(), -5) << "it inverts";
    EXPECT_GT(m["clipped-share"]["value"].get<double>(), 0.1) << "at its highest gain it stands at its rail";
    EXPECT_NEAR(m["maximum"]["value"].get<double>(), 3.4, 0.02);
    EXPECT_EQ(m["frequency"]["unit"], "Hz");
    EXPECT_GT(m["frequency"]["u"].get<double>(), 0);
    const json few =
        json::parse(run({"measure", path, "--signal", "drum", "--measures", "mean,frequency", "--json"}).out);
    EXPECT_EQ(few["measures"].size(), 2U);
    EXPECT_TRUE(few["measures"]["frequency"]["value"].is_null());
    EXPECT_FALSE(few["measures"]["frequency"]["why-not"].get<std::string>().empty());
    EXPECT_EQ(run({"measure", path, "--signal", "nobody"}).code, cli::wrongUsage);
    EXPECT_EQ(run({"measure", path, "--signal", "drum", "--measures", "gain"}).code, cli::wrongUsage);
    EXPECT_EQ(run({"measure", path, "--signal", "drum", "--measures", "beauty"}).code, cli::wrongUsage);
    EXPECT_EQ(run({"measure", path, "--signal", "drum", "--from", "9s", "--to", "8s"}).code, cli::wrongUsage);
    EXPECT_EQ(run({"measure", folder.file("none.run"), "--signal", "drum"}).code, cli::badFile);
    const test::Output live =
        run({"measure", test::example("pump-bench"), "--signal", "N1", "--to", "1s", "--measures", "count"});
    EXPECT_EQ(live.code, 0) << live.out;
    EXPECT_NE(live.out.find("count"), std::string::npos);
}

}  // namespace
}  // namespace cruscotto
