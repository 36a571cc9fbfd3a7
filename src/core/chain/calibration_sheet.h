#pragma once

#include <string>
#include <vector>

#include "core/analysis/least_squares.h"
#include "core/chain/stage.h"

/// A calibration sheet (VIM, JCGM 200:2012, 2.39): what a chain indicated where a reference said what it was, the curve
/// between the two, and who did it when. In a chain it is the stage "calibration".
namespace cruscotto {

struct CalibrationPoint {
    double indicated = 0;
    double reference = 0;
    double u = 0;  ///< standard uncertainty of the reference there, in its unit; 0: not given
    bool operator==(const CalibrationPoint&) const = default;
};

struct CalibrationSheet {
    std::vector<CalibrationPoint> points{};
    std::string fit = "line";   ///< "offset", "proportional", "line", "polynomial-2" ... "table"
    std::string unit{};         ///< UCUM, of the reference
    std::string date{}, due{};  ///< as 2026-11-29; empty: not given
    std::string person{}, reference{}, certificate{}, temperature{}, notes{};
};

/// Between what was indicated and what the reference said.
struct CalibrationFit {
    std::string kind;
    PolynomialFit polynomial;     ///< of a table without coefficients: only its residuals, which are 0
    std::vector<double> x, y, u;  ///< of a table: its points in rising order
    [[nodiscard]] bool isTable() const { return kind == "table"; }
    /// In the reference's unit; beyond the outermost points it goes on as it does there.
    [[nodiscard]] double at(double indicated) const;
    /// Of the fit and of the reference's points together.
    [[nodiscard]] double standardUncertainty(double indicated) const;
};

/// The kinds of fit, in the order in which they are offered, and what each is called.
const std::vector<StageField::Choice>& calibrationFits();

/// Errors: too few points for that fit, a table that goes back on itself.
Result<CalibrationFit> fitCalibration(const std::vector<CalibrationPoint>& points, const std::string& kind);

/// The lowest degree that explains the points: no term of the two degrees above it is more than its own uncertainty at
/// 95 % (Student's t). Nothing is proposed of fewer than two points.
struct FitProposal {
    std::string kind;
    Text reason;
};
FitProposal proposeFit(const std::vector<CalibrationPoint>& points);

/// The stage "calibration" and the sheet, from one to the other. `replaced`: the sheet goes to the end of the history,
/// and the new one takes its place.
CalibrationSheet sheetOf(const Stage& calibration);
Stage withSheet(const Stage& calibration, const CalibrationSheet& sheet);
Stage withNextSheet(const Stage& calibration, const CalibrationSheet& sheet);
/// The sheets before this one, oldest first.
std::vector<CalibrationSheet> historyOf(const Stage& calibration);
/// The calibration stage of a chain, if there is one; of several the last.
const Stage* calibrationIn(const std::vector<Stage>& chain);

/// The days from `today` to when the sheet is due, both as 2026-11-29: negative when that is past. Nothing where no day
/// is given that can be read.
std::optional<int> daysUntilDue(const CalibrationSheet& sheet, const std::string& today);
/// "Calibrated on 2026-11-29, due 2027-11-29." and so on: in one sentence, with what is overdue.
Text calibrationState(const CalibrationSheet& sheet, const std::string& today);

}  // namespace cruscotto
