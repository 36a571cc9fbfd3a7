#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/base/text.h"
#include "core/compare/alignment.h"

namespace cruscotto {

/// What several runs laid over each other read at one place.
struct BandPlace {
    double mean = 0;    ///< of the runs that have readings there; NaN: fewer than two
    double spread = 0;  ///< standard deviation between them, pooled over the places around it
    std::size_t runs = 0;
};
/// n places of `width`, the first beginning at `from`.
struct RunBand {
    ColumnRequest places;
    std::vector<BandPlace> at;
};
/// What may be off the mean: `spreads` times the spread, widened by how badly few runs know it (by sqrt(1 + 1/n)), and
/// `allowance` besides, in the signal's unit.
struct BandLimits {
    double spreads = 3, allowance = 0;
    /// This share of the time may lie outside.
    double outside = 0.01;
    [[nodiscard]] double halfWidth(const BandPlace& place) const;
    bool operator==(const BandLimits&) const = default;
};

/// The mean and the spread of a signal over several runs. The spread is pooled over a fiftieth of the places on either
/// side: that of few runs at one place alone is worth little.
RunBand bandOf(const std::string& signal, const std::vector<LaidOver>& runs, const ColumnRequest& places);

struct BandVerdict {
    std::size_t judged = 0;   ///< places that both have
    double outsideShare = 0;  ///< of them
    double farthest = 0;      ///< beyond the band, in the signal's unit; above 0 above it, 0: never
    Instant farthestAt;
    std::optional<Instant> firstOutside;
    bool fine = true;
};
/// How a source's means over the same places lie to it.
BandVerdict judgedBy(const RunBand& band, const BandLimits& limits, const Source& source, const std::string& signal);
/// "inside the band for 99.8 % of the time", "outside for 12 %, below it by 0.42 bar at most, at 12.3 s". `unit` is
/// UCUM; times count from `zero`.
Text verdictText(const BandVerdict& verdict, const std::string& unit, Instant zero);

}  // namespace cruscotto
