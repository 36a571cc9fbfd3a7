#pragma once

#include <string>
#include <vector>

#include "core/bench/stretch_measures.h"
#include "core/compare/alignment.h"

namespace cruscotto {

/// One measure of several runs.
struct RunTableRow {
    std::string measure;             ///< the name of a measureKind
    std::string unit;                ///< UCUM
    std::vector<Measure> of;         ///< one for each run, in their order
    std::size_t values = 0;          ///< runs that have one
    double mean = 0;                 ///< over these; NaN for none
    double deviation = 0;            ///< between them (n - 1); NaN for fewer than two
    double least = 0, greatest = 0;  ///< NaN for none
};

/// The measures of a signal over the same stretch of several runs, with what lies between the runs. Those that none of
/// them has are left out. Each run's signal is taken as its own bench reads it. Errors: no run has the signal.
/// Cancelled: no rows.
Result<std::vector<RunTableRow>> runTable(const std::vector<std::pair<const Bench*, LaidOver>>& runs,
                                          const std::string& signal, const std::string& against, Span span,
                                          Progress* progress = nullptr);

}  // namespace cruscotto
