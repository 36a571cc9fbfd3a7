#pragma once

#include <optional>

#include "core/bench/uncertainty.h"
#include "core/chain/calibration_sheet.h"

namespace cruscotto {

/// Where a number comes from: from the wire to the digits, as it was at a moment.
struct Explanation {
    struct Step {
        std::string stage;  ///< its key; "raw" for what came from the terminal
        Text title, sentence;
        double value = 0;
        std::string unit;      ///< UCUM
        double standard = -1;  ///< standard uncertainty behind it; below 0: not known
    };
    std::string signal, name, wired;
    Instant at;
    std::vector<Step> steps;
    Reading reading;
    std::string unit;
    std::optional<Uncertainty> uncertainty;
    Text whyNone;  ///< where there is no uncertainty
    std::optional<CalibrationSheet> calibration;
    std::vector<Evidence> evidence;
    /// What it is computed from, each by itself.
    std::vector<Explanation> from;
};

/// Errors: no such signal.
Result<Explanation> explain(const Bench& bench, const Source& source, const std::string& signal, Instant t);

/// All of it as lines of plain text. `today`, as 2026-11-29, judges whether a calibration is overdue.
std::string explanationText(const Explanation& explanation, const std::string& today);

}  // namespace cruscotto
