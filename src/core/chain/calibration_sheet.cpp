#include "core/chain/calibration_sheet.h"

#include <algorithm>
#include <charconv>
#include <chrono>
#include <cmath>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {

constexpr int highestDegree = 5;

using Words = std::pair<const char*, std::string CalibrationSheet::*>;
constexpr std::array<Words, 9> wordFields{{{"fit", &CalibrationSheet::fit},
                                           {"unit", &CalibrationSheet::unit},
                                           {"date", &CalibrationSheet::date},
                                           {"due", &CalibrationSheet::due},
                                           {"person", &CalibrationSheet::person},
                                           {"reference", &CalibrationSheet::reference},
                                           {"certificate", &CalibrationSheet::certificate},
                                           {"temperature", &CalibrationSheet::temperature},
                                           {"notes", &CalibrationSheet::notes}}};

std::vector<CalibrationPoint> pointsOf(const StageTable& rows) {
    std::vector<CalibrationPoint> out;
    for (const auto& row : rows)
        if (row.size() >= 2) out.push_back({row[0], row[1], row.size() > 2 ? row[2] : 0});
    return out;
}

StageTable rowsOf(const std::vector<CalibrationPoint>& points) {
    StageTable out;
    for (const CalibrationPoint& p : points) out.push_back({p.indicated, p.reference, p.u});
    return out;
}

nlohmann::ordered_json jsonOf(const CalibrationSheet& sheet) {
    nlohmann::ordered_json j;
    j["points"] = nlohmann::ordered_json::array();
    for (const CalibrationPoint& p : sheet.points) {
        nlohmann::ordered_json one{{"indicated", p.indicated}, {"reference", p.reference}};
        if (p.u > 0) one["u"] = p.u;
        j["points"].push_back(std::move(one));
    }
    for (const auto& [key, member] : wordFields)
        if (!(sheet.*member).empty()) j[key] = sheet.*member;
    return j;
}

CalibrationSheet sheetFrom(const nlohmann::ordered_json& j) {
    CalibrationSheet out;
    const auto number = [](const nlohmann::ordered_json& o, const char* key) {
        const auto it = o.find(key);
        return it != o.end() && it->is_number() ? it->get<double>() : 0.0;
    };
    if (!j.is_object()) return out;
    if (const auto points = j.find("points"); points != j.end() && points->is_array())
        for (const auto& p : *points)
            if (p.is_object()) out.points.push_back({number(p, "indicated"), number(p, "reference"), number(p, "u")});
    for (const auto& [key, member] : wordFields)
        if (const auto it = j.find(key); it != j.end() && it->is_string()) out.*member = it->get<std::string>();
    return out;
}

PolynomialForm formOf(const std::string& kind) {
    if (kind == "offset") return {1, true, false};
    if (kind == "proportional") return {1, false, true};
    if (kind.starts_with("polynomial-")) return {kind.back() - '0', false, false};
    return {1, false, false};
}

Result<CalibrationFit> fitTable(std::vector<CalibrationPoint> points) {
    if (points.size() < 2) return failure("A table needs two points; there are {0}.", points.size());
    std::ranges::sort(points, {}, &CalibrationPoint::indicated);
    CalibrationFit out;
    out.kind = "table";
    for (const CalibrationPoint& p : points) {
        if (!out.x.empty() && out.x.back() == p.indicated)
            return failure("A table cannot have two points at {0}. Take one out, or take another fit.",
                           shortNumber(p.indicated));
        out.x.push_back(p.indicated);
        out.y.push_back(p.reference);
        out.u.push_back(p.u);
    }
    out.polynomial.residuals.assign(points.size(), 0);
    return out;
}

std::optional<std::chrono::sys_days> dayOf(const std::string& text) {
    int y = 0;
    unsigned m = 0, d = 0;
    const char* end = text.data() + text.size();
    auto r = std::from_chars(text.data(), end, y);
    if (r.ec != std::errc{} || r.ptr == end || *r.ptr != '-') return {};
    r = std::from_chars(r.ptr + 1, end, m);
    if (r.ec != std::errc{} || r.ptr == end || *r.ptr != '-') return {};
    r = std::from_chars(r.ptr + 1, end, d);
    const std::chrono::year_month_day day{std::chrono::year(y), std::chrono::month(m), std::chrono::day(d)};
    if (r.ec != std::errc{} || r.ptr != end || !day.ok()) return {};
    return std::chrono::sys_days(day);
}

}  // namespace

double CalibrationFit::at(double indicated) const {
    if (!isTable()) return polynomial.at(indicated);
    const auto above = std::upper_bound(x.begin() + 1, x.end() - 1, indicated);
    const auto i = static_cast<std::size_t>(above - x.begin()) - 1;
    return y[i] + (indicated - x[i]) * (y[i + 1] - y[i]) / (x[i + 1] - x[i]);
}

double CalibrationFit::standardUncertainty(double indicated) const {
    if (!isTable()) return polynomial.standardUncertainty(indicated);
    const auto above = std::upper_bound(x.begin() + 1, x.end() - 1, indicated);
    const auto i = static_cast<std::size_t>(above - x.begin()) - 1;
    const double t = (indicated - x[i]) / (x[i + 1] - x[i]);
    return std::hypot((1 - t) * u[i], t * u[i + 1]);
}

const std::vector<StageField::Choice>& calibrationFits() {
    static const std::vector<StageField::Choice> all{{"offset", CRUSCOTTO_TEXT("offset only")},
                                                     {"proportional", CRUSCOTTO_TEXT("slope through zero")},
                                                     {"line", CRUSCOTTO_TEXT("straight line")},
                                                     {"polynomial-2", CRUSCOTTO_TEXT("polynomial of degree 2")},
                                                     {"polynomial-3", CRUSCOTTO_TEXT("polynomial of degree 3")},
                                                     {"polynomial-4", CRUSCOTTO_TEXT("polynomial of degree 4")},
                                                     {"polynomial-5", CRUSCOTTO_TEXT("polynomial of degree 5")},
                                                     {"table", CRUSCOTTO_TEXT("from point to point")}};
    return all;
}

Result<CalibrationFit> fitCalibration(const std::vector<CalibrationPoint>& points, const std::string& kind) {
    if (kind == "table") return fitTable(points);
    std::vector<double> x, y, u;
    for (const CalibrationPoint& p : points) x.push_back(p.indicated), y.push_back(p.reference), u.push_back(p.u);
    auto made = fitPolynomial(x, y, u, formOf(kind));
    if (!made) return made.error();
    CalibrationFit out;
    out.kind = kind;
    out.polynomial = std::move(made.value());
    return out;
}

FitProposal proposeFit(const std::vector<CalibrationPoint>& points) {
    if (points.empty()) return {};
    if (points.size() == 1) return {"offset", CRUSCOTTO_TEXT("One point tells an offset and no more.")};
    std::vector<PolynomialFit> fits;
    for (int degree = 1; degree <= highestDegree; ++degree) {
        auto made = fitCalibration(points, degree == 1 ? "line" : fmt::format("polynomial-{}", degree));
        if (!made) break;
        fits.push_back(made.value().polynomial);
    }
    if (fits.empty()) return {"offset", CRUSCOTTO_TEXT("The points do not differ: they tell an offset and no more.")};
    // Highest degree whose last term is more than its uncertainty; without degrees of freedom none tells.
    int degree = 1, tried = 0;
    for (std::size_t i = 1; i < fits.size(); ++i) {
        const PolynomialFit& f = fits[i];
        if (f.degreesOfFreedom < 1) break;
        if (static_cast<int>(i) > degree + 1) break;  // two terms that tell nothing are enough
        tried = static_cast<int>(i) + 1;
        const double term = std::fabs(f.coefficients.back()), u = f.standardUncertainties.back();
        if (term > studentT95(f.degreesOfFreedom) * u && term > 0) degree = static_cast<int>(i) + 1;
    }
    const std::string kind = degree == 1 ? "line" : fmt::format("polynomial-{}", degree);
    if (points.size() == 2) return {kind, CRUSCOTTO_TEXT("Two points tell a line; nothing says how good it is.")};
    if (tried == 0)
        return {kind,
                CRUSCOTTO_TEXT("A line is the most that so few points can bear with something left to check it.")};
    const PolynomialFit& next = fits[static_cast<std::size_t>(std::min(tried, degree + 1) - 1)];
    if (degree == tried)
        return {kind,
                text(CRUSCOTTO_TEXT("Each term up to degree {0} is more than its uncertainty; more points would be "
                                    "needed to tell a higher one."),
                     degree)};
    return {kind, text(CRUSCOTTO_TEXT("The term of degree {0} is {1}, within its uncertainty of {2} (95 %): it tells "
                                      "nothing."),
                       next.coefficients.size() - 1, threeDigits(next.coefficients.back()),
                       threeDigits(studentT95(next.degreesOfFreedom) * next.standardUncertainties.back()))};
}

CalibrationSheet sheetOf(const Stage& calibration) {
    CalibrationSheet out;
    out.points = pointsOf(calibration.table("points"));
    for (const auto& [key, member] : wordFields) out.*member = calibration.text(key);
    return out;
}

Stage withSheet(const Stage& calibration, const CalibrationSheet& sheet) {
    Stage out = calibration.with("points", rowsOf(sheet.points));
    for (const auto& [key, member] : wordFields) out = out.with(key, sheet.*member);
    return out;
}

Stage withNextSheet(const Stage& calibration, const CalibrationSheet& sheet) {
    auto history = parseOrderedJson(calibration.text("history"));
    if (!history.is_array()) history = nlohmann::ordered_json::array();
    if (!calibration.table("points").empty()) history.push_back(jsonOf(sheetOf(calibration)));
    return withSheet(calibration, sheet).with("history", history.empty() ? std::string() : jsonText(history));
}

std::vector<CalibrationSheet> historyOf(const Stage& calibration) {
    std::vector<CalibrationSheet> out;
    const auto history = parseOrderedJson(calibration.text("history"));
    if (history.is_array())
        for (const auto& sheet : history) out.push_back(sheetFrom(sheet));
    return out;
}

const Stage* calibrationIn(const std::vector<Stage>& chain) {
    const Stage* out = nullptr;
    for (const Stage& stage : chain)
        if (stageKey(stage) == "calibration") out = &stage;
    return out;
}

std::optional<int> daysUntilDue(const CalibrationSheet& sheet, const std::string& today) {
    const auto due = dayOf(sheet.due), now = dayOf(today);
    if (!due || !now) return {};
    return static_cast<int>((*due - *now).count());
}

Text calibrationState(const CalibrationSheet& sheet, const std::string& today) {
    if (sheet.points.empty()) return CRUSCOTTO_TEXT("Not calibrated yet: the sheet has no points.");
    const std::string done = sheet.date.empty() ? std::string("a day that is not given") : sheet.date;
    const auto days = daysUntilDue(sheet, today);
    if (!days) return text(CRUSCOTTO_TEXT("Calibrated on {0}; until when it holds is not given."), done);
    if (*days < 0)
        return text(CRUSCOTTO_TEXT("Calibration overdue: it was due on {0}, {1} days ago (calibrated on {2})."),
                    sheet.due, -*days, done);
    return text(CRUSCOTTO_TEXT("Calibrated on {0}, holds until {1}."), done, sheet.due);
}

}  // namespace cruscotto
