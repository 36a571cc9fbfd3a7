// Procedures from the command line: verdicts, reports, answers, the run.
#include <nlohmann/json.hpp>

#include "cli/commands.h"
#include "program.h"

namespace cruscotto {
namespace {

using nlohmann::json;
using test::TempFolder;

class RunCommand : public testing::Test {
protected:
    test::Output run(std::vector<std::string> arguments) { return test::run(folder, std::move(arguments)); }
    /// The pump bench with this procedure instead of its own.
    std::string bench(const std::string& steps) {
        json b = json::parse(test::readFile(test::example("pump-bench")));
        b["procedures"] = json::array({{{"id", "p"}, {"name", "Trial"}, {"steps", json::parse(steps)}}});
        const std::string path = folder.file("trial.bench");
        test::writeFile(path, b.dump());
        return path;
    }
    const TempFolder folder;
};

TEST_F(RunCommand, TheExamplesPassAndAreTheSameEveryTime) {
    const auto once = [&](const std::string& name, const std::string& procedure, const std::string& out) {
        return run({"run", test::example(name), "--procedure", procedure, "--out", folder.file(out),
                    "--as-fast-as-possible", "--json", "--begins-at", "1700000000"});
    };
    const test::Output pump = once("pump-bench", "pump-curve", "a.run");
    EXPECT_EQ(pump.code, cli::ok) << pump.out << pump.err;
    const json j = json::parse(pump.out);
    int points = 0;
    double flow = 0, head = 0;
    for (const json& s : j["steps"])
        if (s.contains("values")) {
            ++points;
            EXPECT_EQ(s["values"].size(), 3U);
            EXPECT_EQ(s["verdict"], "passed");
            if (points == 1) head = s["values"][1]["value"];
            flow = s["values"][0]["value"];
        }
    EXPECT_EQ(points, 7);
    EXPECT_GT(flow, 50);
    // Head goes with the square of the speed: at 4 of 10 V about a sixth of 5 bar at standstill of the flow, less
    // losses.
    EXPECT_NEAR(head, 0.6, 0.2);
    EXPECT_EQ(once("pump-bench", "pump-curve", "b.run").out, pump.out);
    const test::Output sorter = once("seed-sorter", "Amplifier gain", "c.run");
    EXPECT_EQ(sorter.code, cli::ok) << sorter.out;
    ASSERT_EQ(run({"replay", folder.file("a.run"), "--out", folder.file("again.bench")}).code, cli::ok);
    EXPECT_EQ(run({"check", folder.file("again.bench")}).code, cli::ok) << "what drives is left out, rules look on";
    const test::Output info = run({"info", folder.file("a.run")});
    EXPECT_NE(info.out.find("good"), std::string::npos) << "the verdict is in the run";
}

TEST_F(RunCommand, AFailureIsItsExitCodeAndInJUnitsXml) {
    const std::string path = bench(R"([
        {"do": "set", "output": "drive", "value": 5},
        {"do": "measure", "seconds": 3, "take": [{"signal": "flow", "measure": "mean", "low": 500, "unit": "L/min"}]},
        {"do": "wait", "until": {"is": "above", "signal": "outlet-pressure", "level": 99, "unit": "bar"}, "at-most-s": 1},
        {"do": "mark", "words": "never"}])");
    const test::Output out = run({"run", path, "--procedure", "p", "--out", folder.file("a.run"), "--junit",
                                  folder.file("a.xml"), "--as-fast-as-possible"});
    EXPECT_EQ(out.code, cli::verdictFailed) << out.err;
    EXPECT_NE(out.out.find("is below 500 L/min"), std::string::npos) << out.out;
    EXPECT_NE(out.out.find("Trial: failed"), std::string::npos);
    const std::string xml = test::readFile(folder.file("a.xml"));
    EXPECT_NE(xml.find("tests=\"4\" failures=\"2\" errors=\"0\" skipped=\"1\""), std::string::npos) << xml;
    EXPECT_EQ(run({"run", path, "--procedure", "p", "--out", folder.file("a.run"), "--as-fast-as-possible"}).code,
              cli::failed)
        << "a run is not replaced unasked";
    EXPECT_EQ(run({"run", path, "--procedure", "none", "--out", folder.file("b.run")}).code, cli::wrongUsage);
}

TEST_F(RunCommand, AnswersComeFromAFile) {
    const std::string path = bench(R"([
        {"do": "ask", "words": "Is the hose connected?", "answer": "yes-no"},
        {"do": "ask", "words": "How fast?", "answer": "number", "name": "speed"},
        {"do": "set", "output": "drive", "value": "speed"},
        {"do": "hold", "seconds": 1}])");
    const auto with = [&](const std::string& answers) {
        test::writeFile(folder.file("a.json"), answers);
        return run({"run", path, "--procedure", "p", "--out", folder.file("a.run"), "--force", "--answers",
                    folder.file("a.json"), "--as-fast-as-possible"});
    };
    EXPECT_EQ(with(R"(["yes", 4])").code, cli::ok);
    EXPECT_EQ(with(R"({"1": true, "speed": 6.5})").code, cli::ok);
    EXPECT_EQ(with(R"({"1": "no", "speed": 6.5})").code, cli::verdictFailed);
    EXPECT_EQ(with(R"({"1": "yes", "speed": 60})").code, cli::verdictFailed) << "the output may not be that";
    const test::Output none = with(R"(["yes"])");
    EXPECT_EQ(none.code, cli::notFinished);
    EXPECT_NE(none.out.find("Nothing answers step 2"), std::string::npos) << none.out;
    EXPECT_EQ(with("{").code, cli::badFile);
    EXPECT_EQ(with(R"([[1]])").code, cli::badFile);
}

}  // namespace
}  // namespace cruscotto
