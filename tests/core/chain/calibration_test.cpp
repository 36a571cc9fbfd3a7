#include "core/chain/calibration_sheet.h"

#include <cmath>

#include "core/chain/chain.h"
#include "core/chain/stage_kind.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

std::vector<CalibrationPoint> linePoints() {
    return {{0, 0.1}, {1, 2.1}, {2, 4.1}, {3, 6.1}};
}

Stage calibrated(CalibrationSheet sheet) {
    return withSheet(Stage::of("calibration"), sheet);
}

std::vector<double> through(const Stage& stage, std::vector<double> raw) {
    auto made = ChainEvaluator::make({slopeOffset(1, 0, "V"), stage}, ChannelKind::analogInput);
    EXPECT_TRUE(made.ok());
    std::vector<Instant> times;
    for (std::size_t i = 0; i < raw.size(); ++i) times.push_back({static_cast<std::int64_t>(i) * 1'000'000});
    Readings out;
    made.value().process(raw, times, out);
    return out.values;
}

TEST(Calibration, EachKindOfFitIsApplied) {
    CalibrationSheet sheet{linePoints(), "line", "bar"};
    EXPECT_NEAR(through(calibrated(sheet), {2.5})[0], 5.1, 1e-12);
    sheet.points = {{0, 0.5}, {1, 1.5}};
    sheet.fit = "offset";
    EXPECT_NEAR(through(calibrated(sheet), {7})[0], 7.5, 1e-12);
    sheet.points = {{1, 2}, {2, 4}};
    sheet.fit = "proportional";
    EXPECT_NEAR(through(calibrated(sheet), {7})[0], 14, 1e-12);
    sheet.points = {{0, 0}, {1, 1}, {2, 4}, {3, 9}};
    sheet.fit = "polynomial-2";
    EXPECT_NEAR(through(calibrated(sheet), {4})[0], 16, 1e-9);
    sheet.fit = "table";
    const auto table = through(calibrated(sheet), {0.5, 2.5, 4});
    EXPECT_NEAR(table[0], 0.5, 1e-12);
    EXPECT_NEAR(table[1], 6.5, 1e-12);
    EXPECT_NEAR(table[2], 14, 1e-12) << "it goes on as it did between the last two";
    EXPECT_NEAR(through(Stage::of("calibration"), {3.5})[0], 3.5, 0) << "no points: nothing is changed";
}

TEST(Calibration, WhatDoesNotHoldIsSaid) {
    const auto problem = [](CalibrationSheet sheet) {
        const auto checked =
            checkChain({slopeOffset(1, 0, "V"), calibrated(std::move(sheet))}, ChannelKind::analogInput);
        return checked ? std::string() : checked.error().english();
    };
    EXPECT_EQ(problem({linePoints(), "line", "bar"}), "");
    EXPECT_NE(problem({{{1, 2}}, "line", "V"}).find("2 points that differ are needed"), std::string::npos);
    EXPECT_NE(problem({{{1, 2}, {1, 3}}, "table", "V"}).find("two points at 1"), std::string::npos);
    EXPECT_NE(problem({{{1, 2, -1}, {2, 3}}, "line", "V"}).find("Point 1"), std::string::npos);
    EXPECT_NE(problem({{}, "line", "bar"}).find("cannot turn V into bar"), std::string::npos);
    EXPECT_EQ(problem({{}, "line", "V"}), "");
}

TEST(Calibration, TheLowestDegreeThatExplainsThePointsIsProposed) {
    EXPECT_EQ(proposeFit({}).kind, "");
    EXPECT_EQ(proposeFit({{1, 2}}).kind, "offset");
    EXPECT_EQ(proposeFit({{1, 2}, {2, 3}}).kind, "line");
    std::vector<CalibrationPoint> scattered, bent, cubic;
    const double scatter[]{0.011, -0.008, 0.003, -0.012, 0.009, -0.002, 0.006, -0.007, 0.001};
    for (int i = 0; i < 9; ++i) {
        scattered.push_back({double(i), 3 * i + scatter[i]});
        bent.push_back({double(i), 3 * i + 0.05 * i * i + scatter[i]});
        cubic.push_back({double(i), 3 * i + 0.02 * i * i * i + scatter[i]});
    }
    EXPECT_EQ(proposeFit(scattered).kind, "line");
    EXPECT_NE(proposeFit(scattered).reason.english().find("tells nothing"), std::string::npos);
    EXPECT_EQ(proposeFit(bent).kind, "polynomial-2");
    EXPECT_EQ(proposeFit(cubic).kind, "polynomial-3");
}

TEST(Calibration, ANewSheetKeepsTheOnesBefore) {
    const CalibrationSheet first{linePoints(), "line", "bar", "2025-01-20", "2026-01-20", "one"};
    Stage stage = calibrated(first);
    EXPECT_TRUE(historyOf(stage).empty());
    const CalibrationSheet second{{{0, 0}, {1, 2}}, "line", "bar", "2026-01-18", "2027-01-18", "two"};
    stage = withNextSheet(stage, second);
    EXPECT_EQ(sheetOf(stage).person, "two");
    ASSERT_EQ(historyOf(stage).size(), 1U);
    EXPECT_EQ(historyOf(stage)[0].date, "2025-01-20");
    EXPECT_EQ(historyOf(stage)[0].points, first.points);
    stage = withNextSheet(stage, second);
    EXPECT_EQ(historyOf(stage).size(), 2U);
}

TEST(Calibration, IsOverdueWhenItsDayIsPast) {
    CalibrationSheet sheet{linePoints(), "line", "bar", "2025-01-20", "2026-01-20"};
    EXPECT_EQ(daysUntilDue(sheet, "2026-01-15"), 5);
    EXPECT_EQ(daysUntilDue(sheet, "2026-03-01"), -40);
    EXPECT_NE(calibrationState(sheet, "2026-03-01").english().find("overdue: it was due on 2026-01-20, 40 days ago"),
              std::string::npos);
    sheet.due = "soon";
    EXPECT_FALSE(daysUntilDue(sheet, "2026-01-15"));
    sheet.due = "2026-02-30";
    EXPECT_FALSE(daysUntilDue(sheet, "2026-01-15"));
}

TEST(Calibration, AddsWhatTheCurveIsUnsureOf) {
    CalibrationSheet sheet{{{0, 0.1, 0.1}, {5, 4.8, 0.1}, {10, 10.1, 0.1}}, "line", "bar", "2026-01-18"};
    sheet.reference = "gauge";
    const Stage stage = calibrated(sheet);
    const auto parts = stage.kind().contributions(stage, 5, 5);
    ASSERT_EQ(parts.size(), 2U);
    // By the scatter of 3 points about a line, in the middle: s / sqrt(3), with s = sqrt((0.1^2 + 0.2^2 + 0.1^2) / 1).
    EXPECT_NEAR(parts[0].standardUncertainty, std::sqrt(0.06) / std::sqrt(3), 1e-12);
    EXPECT_EQ(parts[0].degreesOfFreedom, 1);
    EXPECT_NEAR(parts[1].standardUncertainty, 0.1, 1e-12) << "the reference's own is the same at each point";
    EXPECT_EQ(parts[1].shared, "reference gauge");
    EXPECT_NE(stage.kind().remark(stage, 14).english().find("outside the calibrated points"), std::string::npos);
    EXPECT_TRUE(stage.kind().remark(stage, 5).empty());
}

TEST(Calibration, IsWrittenIntoTheFileAndReadBack) {
    SignalSpec s = *test::oneSignal().signal("in");
    const CalibrationSheet first{linePoints(), "line", "bar", "2025-01-20"};
    CalibrationSheet second = first;
    second.points[1].u = 0.02;
    second.person = "two";
    s.chain = {slopeOffset(1, 0, "V"), withNextSheet(calibrated(first), second)};
    const std::string text = signalToJson(s);
    EXPECT_NE(text.find("\"reference\":2.1"), std::string::npos) << text;
    EXPECT_NE(text.find("\"history\":["), std::string::npos);
    const auto again = signalFromJson(text);
    ASSERT_TRUE(again.ok()) << again.error().english();
    EXPECT_EQ(again.value(), s);
    const auto refused = [&](const std::string& from, const std::string& to) {
        std::string broken = text;
        broken.replace(broken.find(from), from.size(), to);
        return !signalFromJson(broken).ok();
    };
    EXPECT_TRUE(refused("\"indicated\":0.0", "\"indicated\":\"x\""));
    EXPECT_TRUE(refused("\"history\":[", "\"history\": [7,"));
    EXPECT_TRUE(refused("\"fit\":\"line\"", "\"fit\":\"magic\""));
}

}  // namespace
}  // namespace cruscotto
