// Runs side by side, and the list of a folder, from the command line.
#include <nlohmann/json.hpp>

#include "cli/commands.h"
#include "program.h"

namespace cruscotto {
namespace {

using nlohmann::json;
using test::TempFolder;

TEST(Compare, TellsWhatDiffersTheMeasuresOfAllAndJudgesByABand) {
    const TempFolder folder;
    const auto run = [&](std::vector<std::string> arguments) { return test::run(folder, std::move(arguments)); };
    std::vector<std::string> paths;
    for (const char* drive : {"7", "7.02", "6.97", "8"}) {
        paths.push_back(folder.file("r" + std::to_string(paths.size()) + ".run"));
        ASSERT_EQ(run({"record", test::example("pump-bench"), "--for", "10s", "--as-fast-as-possible", "--set",
                       std::string("drive=") + drive, "--out", paths.back()})
                      .code,
                  0);
    }
    const test::Output out = run({"compare", paths[0], paths[3], "--json"});
    ASSERT_EQ(out.code, 0) << out.out;
    const json j = json::parse(out.out);
    EXPECT_EQ(j["shift-s"], 0);
    double before = 1e9;
    bool pressure = false;
    for (const json& s : j["signals"]) {
        EXPECT_LE(s["size"].get<double>(), before) << "the largest first";
        before = s["size"].get<double>();
        if (s["signal"] != "outlet-pressure") continue;
        pressure = true;
        EXPECT_EQ(s["parts"][0]["kind"], "level");
        EXPECT_GT(s["parts"][0]["amount"].get<double>(), 0.2);
        EXPECT_EQ(s["parts"][0]["unit"], "bar");
    }
    EXPECT_TRUE(pressure);
    ASSERT_EQ(j["written"].size(), 1U);
    EXPECT_NE(j["written"][0].get<std::string>().find("drive"), std::string::npos);

    const json table = json::parse(
        run({"compare", paths[0], paths[1], paths[2], "--signal", "P2", "--measures", "mean", "--json"}).out);
    EXPECT_EQ(table["measures"].size(), 1U);
    EXPECT_EQ(table["measures"]["mean"]["values"].size(), 3U);
    EXPECT_GT(table["measures"]["mean"]["standard-deviation"].get<double>(), 0);

    const std::vector<std::string> band = {"compare", paths[0], paths[1], paths[2]};
    const auto judged = [&](const std::string& path, const std::string& signal) {
        std::vector<std::string> arguments = band;
        arguments.insert(arguments.end(), {path, "--band", "--signal", signal});
        return run(arguments);
    };
    EXPECT_EQ(judged(paths[1], "N1").code, cli::ok);
    const test::Output bad = judged(paths[3], "N1");
    EXPECT_EQ(bad.code, cli::failed);
    EXPECT_NE(bad.out.find("above it by"), std::string::npos) << bad.out;

    EXPECT_EQ(run({"compare", paths[0]}).code, cli::wrongUsage);
    EXPECT_EQ(run({"compare", paths[0], paths[1], paths[2]}).code, cli::wrongUsage);
    EXPECT_EQ(run({"compare", paths[0], paths[1], "--band"}).code, cli::wrongUsage);
    EXPECT_EQ(run({"compare", paths[0], paths[1], "--align", "mark"}).code, cli::failed) << "there is none";
    EXPECT_EQ(run({"compare", paths[0], folder.file("none.run")}).code, cli::badFile);

    ASSERT_EQ(run({"describe", paths[0], "--title", "First of all", "--verdict", "good", "--mark", "2=start"}).code, 0);
    const json listed = json::parse(run({"runs", folder.file(""), "--json"}).out);
    EXPECT_EQ(listed.size(), 4U);
    const json one = json::parse(run({"runs", folder.file(""), "--find", "first good", "--json"}).out);
    ASSERT_EQ(one.size(), 1U);
    EXPECT_EQ(one[0]["verdict"], "good");
    EXPECT_EQ(one[0]["marks"], 1);
    EXPECT_NEAR(one[0]["seconds"].get<double>(), 10, 0.2);
    EXPECT_EQ(json::parse(run({"runs", folder.file(""), "--since", "2999-01-01", "--json"}).out).size(), 0U);
    EXPECT_EQ(run({"runs", folder.file(""), "--since", "soon"}).code, cli::wrongUsage);
}

}  // namespace
}  // namespace cruscotto
