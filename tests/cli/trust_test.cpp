// Calibration, uncertainty and the list before it counts, at the command line.
#include <nlohmann/json.hpp>

#include <cmath>
#include <fstream>

#include "cli/commands.h"
#include "core/chain/calibration_sheet.h"
#include "program.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using nlohmann::json;
using test::run;
using test::TempFolder;

/// The pump bench with a sheet behind the outlet pressure.
std::string benchWithSheet(const TempFolder& folder, const CalibrationSheet& sheet) {
    auto loaded = loadBench(test::example("pump-bench"));
    EXPECT_TRUE(loaded.ok());
    SignalSpec s = *loaded.value().signal("outlet-pressure");
    s.chain.push_back(withSheet(Stage::of("calibration"), sheet));
    const std::string path = folder.file("sheet.bench");
    EXPECT_TRUE(saveBench(withSignal(loaded.value(), s), path).ok());
    return path;
}

TEST(Trust, TheSheetIsPrintedWithAllDigitsAndAsAPage) {
    TempFolder folder;
    std::ifstream file(std::string(CRUSCOTTO_SOURCE) + "/tests/core/analysis/regression_norris.csv");
    CalibrationSheet sheet{{}, "line", "bar", "2026-01-12", "2027-01-12", "M. Rossi", "gauge"};
    for (std::string row; std::getline(file, row);)
        if (double x = 0, y = 0; std::sscanf(row.c_str(), "%lf,%lf", &x, &y) == 2) sheet.points.push_back({x, y});
    const std::string bench = benchWithSheet(folder, sheet);
    const test::Output out = run(folder, {"calibration", bench, "P2", "--json"});
    ASSERT_EQ(out.code, 0) << out.out;
    const json j = json::parse(out.out);
    EXPECT_EQ(j["fit"]["kind"], "line");
    EXPECT_NEAR(j["fit"]["coefficients"][0].get<double>() / -0.262323073774029, 1, 1e-9);
    EXPECT_NEAR(j["fit"]["coefficients"][1].get<double>() / 1.00211681802045, 1, 1e-9);
    EXPECT_NEAR(j["fit"]["standard-uncertainties"][0].get<double>() / 0.232818234301152, 1, 1e-9);
    EXPECT_NEAR(j["fit"]["residual-standard-deviation"].get<double>() / 0.884796396144373, 1, 1e-9);
    EXPECT_EQ(j["fit"]["degrees-of-freedom"], 34);
    ASSERT_EQ(j["points"].size(), 36U);
    EXPECT_NEAR(j["points"][1]["residual"].get<double>(), 338.8 - (-0.262323073774029 + 1.00211681802045 * 337.4),
                1e-9);
    EXPECT_EQ(j["person"], "M. Rossi");

    EXPECT_EQ(run(folder, {"calibration", bench, "P2", "--out", folder.file("a.pdf")}).code, 0);
    EXPECT_TRUE(test::readFile(folder.file("a.pdf")).starts_with("%PDF"));
    EXPECT_NE(run(folder, {"calibration", bench, "P2", "--out", folder.file("a.pdf")}).code, 0) << "it is there";
    EXPECT_EQ(run(folder, {"calibration", bench, "nobody"}).code, cli::wrongUsage);
    EXPECT_EQ(run(folder, {"calibration", bench, "T1"}).code, cli::failed) << "it has no sheet";
}

TEST(Trust, ARunsNumberIsExplainedFromTheWireToTheDigits) {
    TempFolder folder;
    const std::string bench = benchWithSheet(
        folder,
        {{{0, 0.01, 0.002}, {5, 5.02, 0.002}, {10, 10.01, 0.002}}, "line", "bar", "2026-01-12", "", "", "gauge"});
    const std::string path = folder.file("a.run");
    ASSERT_EQ(run(folder, {"record", bench, "--for", "4s", "--as-fast-as-possible", "--out", path}).code, 0);
    const test::Output out = run(folder, {"explain", path, "pressure-rise", "--at", "2.5s", "--json"});
    ASSERT_EQ(out.code, 0) << out.out;
    const json j = json::parse(out.out);
    EXPECT_EQ(j["at"], 2.5);
    ASSERT_EQ(j["from"].size(), 2U);
    const json& outlet = j["from"][0]["signal"] == "outlet-pressure" ? j["from"][0] : j["from"][1];
    const json& inlet = j["from"][0]["signal"] == "outlet-pressure" ? j["from"][1] : j["from"][0];
    EXPECT_EQ(outlet["stages"][0]["stage"], "raw");
    EXPECT_EQ(outlet["stages"].back()["stage"], "calibration");
    EXPECT_NEAR(outlet["stages"].back()["value"].get<double>(), outlet["reading"]["value"].get<double>(), 1e-12);
    EXPECT_EQ(outlet["calibration"]["reference"], "gauge");
    EXPECT_NEAR(j["reading"]["value"].get<double>(),
                outlet["reading"]["value"].get<double>() - inlet["reading"]["value"].get<double>(), 1e-9);
    // The difference is as unsure as both together, its parts make up all of it.
    const double a = outlet["uncertainty"]["standard"], b = inlet["uncertainty"]["standard"];
    EXPECT_NEAR(j["uncertainty"]["standard"].get<double>(), std::hypot(a, b), 1e-9);
    double shares = 0;
    for (const json& part : j["uncertainty"]["budget"]) shares += part["share"].get<double>();
    EXPECT_NEAR(shares, 1, 1e-9);
    EXPECT_NE(run(folder, {"explain", path, "P2"}).out.find("the reference gauge"), std::string::npos);
    EXPECT_NE(run(folder, {"explain", path, "A7"}).out.find("not connected since"), std::string::npos);
    EXPECT_NE(run(folder, {"explain", path, "P2"}).out.find("Nothing speaks against it."), std::string::npos);
    EXPECT_EQ(run(folder, {"explain", path, "P2", "--out", folder.file("p.pdf")}).code, 0);
    EXPECT_TRUE(test::readFile(folder.file("p.pdf")).starts_with("%PDF"));
    EXPECT_NE(run(folder, {"explain", path, "P2", "--out", folder.file("p.pdf")}).code, 0) << "it is there";
    EXPECT_EQ(run(folder, {"explain", path, "P2", "--at", "1h"}).code, cli::wrongUsage);
    EXPECT_EQ(run(folder, {"explain", path, "nobody"}).code, cli::wrongUsage);
    EXPECT_EQ(run(folder, {"explain", folder.file("none.run"), "P2"}).code, cli::badFile);
}

TEST(Trust, TheListBeforeItCountsIsPrinted) {
    TempFolder folder;
    const std::string bench = benchWithSheet(folder, {{{0, 0}, {1, 1}}, "line", "bar", "2019-01-12", "2020-01-12"});
    // Without the input that nothing is wired to, which is red as soon as two seconds have been looked at; for long
    // enough that the pump's flow has its first pulses.
    auto loaded = loadBench(bench);
    ASSERT_TRUE(loaded.ok());
    ASSERT_TRUE(saveBench(withoutSignal(loaded.value(), "spare"), bench, NewFile::Existing::replace).ok());
    const test::Output out = run(folder, {"check", bench, "--live", "--for", "3s", "--json"});
    ASSERT_EQ(out.code, 0) << out.out;
    const json j = json::parse(out.out);
    EXPECT_EQ(j["grade"], "amber");
    EXPECT_TRUE(std::ranges::any_of(j["findings"], [](const json& f) {
        return f["about"] == "outlet-pressure" && f["topic"] == "calibration" && f["grade"] == "amber" &&
               f.contains("do");
    }));
    EXPECT_NE(run(folder, {"check", bench, "--live", "--for", "300ms"}).out.find("I/O box: is there and sends."),
              std::string::npos);
}

}  // namespace
}  // namespace cruscotto
