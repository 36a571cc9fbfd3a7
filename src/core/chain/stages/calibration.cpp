#include "core/chain/calibration_sheet.h"

#include <cmath>

#include "core/base/units.h"
#include "core/chain/stages/laws.h"
#include "core/chain/stages/list.h"

namespace cruscotto::stages {

namespace {

StageField words(const char* key, Text title) {
    return {.key = key, .title = std::move(title), .type = StageField::Type::note, .first = ""};
}

std::string calibratedUnit(const Stage& s, const std::string& before) {
    return s.text("unit").empty() ? before : s.text("unit");
}

}  // namespace

/// What the chain indicated is set right by what a reference said (VIM, JCGM 200:2012, 2.39): a curve through points,
/// by least squares. Without points nothing is changed.
const StageKind& calibration() {
    static const StageKind kind{
        .key = "calibration",
        .title = CRUSCOTTO_TEXT("Calibration"),
        .group = StageGroup::law,
        .fields = {{.key = "points",
                    .title = CRUSCOTTO_TEXT("Points, what was indicated and what the reference said"),
                    .type = StageField::Type::points,
                    .first = StageTable{},
                    .columns = 3,
                    .mostRows = 1000},
                   {.key = "fit",
                    .title = CRUSCOTTO_TEXT("Fit"),
                    .type = StageField::Type::choice,
                    .first = "line",
                    .choices = calibrationFits()},
                   {.key = "unit", .title = CRUSCOTTO_TEXT("Unit"), .type = StageField::Type::unit, .first = ""},
                   words("date", CRUSCOTTO_TEXT("Calibrated on")),
                   words("due", CRUSCOTTO_TEXT("Holds until")),
                   words("person", CRUSCOTTO_TEXT("By")),
                   words("reference", CRUSCOTTO_TEXT("Reference")),
                   words("certificate", CRUSCOTTO_TEXT("Certificate")),
                   words("temperature", CRUSCOTTO_TEXT("Temperature")),
                   words("notes", CRUSCOTTO_TEXT("Notes")),
                   {.key = "history",
                    .title = CRUSCOTTO_TEXT("Sheets before this one"),
                    .type = StageField::Type::sheets,
                    .first = ""}},
        .sentence =
            [](const Stage& s) {
                const CalibrationSheet sheet = sheetOf(s);
                if (sheet.points.empty()) return Text(CRUSCOTTO_TEXT("No points yet: the reading goes on as it is."));
                const auto made = fitCalibration(sheet.points, sheet.fit);
                if (!made) return made.error().message;
                const auto& c = made.value().polynomial.coefficients;
                const std::string of = sheet.date.empty() ? std::string() : fmt::format(", of {}", sheet.date);
                if (made.value().isTable())
                    return text(CRUSCOTTO_TEXT("From point to point through {0} points{1}."), sheet.points.size(), of);
                if (c.size() == 2)
                    return c[0] < 0 ? text(CRUSCOTTO_TEXT("Times {0}, less {1}, by {2} points{3}."), number(c[1]),
                                           number(-c[0]), sheet.points.size(), of)
                                    : text(CRUSCOTTO_TEXT("Times {0}, plus {1}, by {2} points{3}."), number(c[1]),
                                           number(c[0]), sheet.points.size(), of);
                return text(CRUSCOTTO_TEXT("A polynomial of degree {0} by {1} points{2}."), c.size() - 1,
                            sheet.points.size(), of);
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            const CalibrationSheet sheet = sheetOf(s);
            if (sheet.points.empty()) return processor<Line>(1, 0);
            auto made = fitCalibration(sheet.points, sheet.fit);
            if (!made) return made.error();
            const auto& c = made.value().polynomial.coefficients;
            if (!made.value().isTable() && c.size() == 2) return processor<Line>(c[1], c[0]);
            if (made.value().isTable()) return law([f = std::move(made.value())](double x) { return f.at(x); });
            return law([c](double x) {
                double y = 0;
                for (std::size_t k = c.size(); k-- > 0;) y = y * x + c[k];
                return y;
            });
        },
        .unitAfter = calibratedUnit,
        .check = [](const Stage& s, const std::string& before) -> Result<void> {
            const CalibrationSheet sheet = sheetOf(s);
            for (std::size_t i = 0; i < sheet.points.size(); ++i)
                if (sheet.points[i].u < 0) return failure("Point {0}: its uncertainty must not be below 0.", i + 1);
            if (!s.text("unit").empty() && before != s.text("unit") && sheet.points.empty())
                return failure("Without points a calibration cannot turn {0} into {1}.", unitText(before),
                               unitText(s.text("unit")));
            if (sheet.points.empty()) return {};
            if (auto made = fitCalibration(sheet.points, sheet.fit); !made) return made.error();
            return {};
        },
        .suits = isAnalog,
        // A sheet sets right what is a little off: a scale stays as round as it was.
        .reach = [](const Stage& s, const std::optional<Scale>& in) -> std::optional<Scale> {
            const CalibrationSheet sheet = sheetOf(s);
            if (!in || sheet.points.empty()) return in;
            const auto made = fitCalibration(sheet.points, sheet.fit);
            if (!made) return in;
            const double low = made.value().at(in->low), high = made.value().at(in->high), span = in->high - in->low;
            constexpr double little = 0.05;
            if (std::fabs(low - in->low) < little * span && std::fabs(high - in->high) < little * span) return in;
            if (low == high) return {};
            return Scale{std::min(low, high), std::max(low, high)};
        },
        // The curve by the scatter of its points; the reference is off in the same way at all of them, and at those of
        // other signals too.
        .contributions = [](const Stage& s, double in, double) -> std::vector<UncertaintyContribution> {
            std::vector<UncertaintyContribution> out;
            CalibrationSheet sheet = sheetOf(s);
            if (sheet.points.empty()) return out;
            double squares = 0;
            for (CalibrationPoint& p : sheet.points) {
                squares += p.u * p.u;
                p.u = 0;
            }
            const auto made = fitCalibration(sheet.points, sheet.fit);
            const std::string of = sheet.date.empty() ? std::string("without a date") : "of " + sheet.date;
            if (made && made.value().polynomial.degreesOfFreedom > 0)
                out.push_back({text(CRUSCOTTO_TEXT("the curve of the calibration {0}"), of),
                               made.value().standardUncertainty(in),
                               static_cast<double>(made.value().polynomial.degreesOfFreedom)});
            if (squares > 0) {
                const std::string name =
                    sheet.certificate.empty() ? sheet.reference : sheet.reference + " " + sheet.certificate;
                out.push_back({name.empty() ? Text(CRUSCOTTO_TEXT("the reference"))
                                            : text(CRUSCOTTO_TEXT("the reference {0}"), name),
                               std::sqrt(squares / static_cast<double>(sheet.points.size())),
                               std::numeric_limits<double>::infinity(),
                               name.empty() ? std::string() : "reference " + name});
            }
            return out;
        },
        .remark = [](const Stage& s, double in) -> Text {
            const CalibrationSheet sheet = sheetOf(s);
            if (sheet.points.empty() || std::isnan(in)) return {};
            const auto [low, high] = std::ranges::minmax(sheet.points, {}, &CalibrationPoint::indicated);
            const double reach = 0.1 * (high.indicated - low.indicated);
            if (in >= low.indicated - reach && in <= high.indicated + reach) return {};
            return text(CRUSCOTTO_TEXT("{0} lies outside the calibrated points, {1} to {2}: what is said of the "
                                       "reading there is a guess."),
                        number(in), number(low.indicated), number(high.indicated));
        },
        .ownPage = true,
    };
    return kind;
}

}  // namespace cruscotto::stages
