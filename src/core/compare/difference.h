#pragma once

#include <string>
#include <vector>

#include "core/base/progress.h"
#include "core/base/text.h"
#include "core/compare/alignment.h"

namespace cruscotto {

/// In which way a signal differs between two runs.
enum class DifferenceKind { level, noise, timing, shape, missing };
/// "level", "noise", "timing", "shape", "missing": in files and on the command line.
const char* differenceName(DifferenceKind kind);

struct DifferencePart {
    DifferenceKind kind = DifferenceKind::level;
    double amount =
        0;  ///< level, shape: in `unit`; noise: ratio, other over own; timing: seconds that the other is later
    std::string unit;  ///< UCUM
    double size = 0;   ///< as a share of what the signal does in the two
    Text words;        ///< "0.42 bar higher"
};

struct SignalDifference {
    std::string signal;                 ///< its id
    std::vector<DifferencePart> parts;  ///< what is more than chance gives, the largest first; empty: nothing
    /// Of the largest; a signal that only one of them has is larger than all.
    [[nodiscard]] double size() const;
};

/// How the signals of `other` differ from those of `own` where both are there, the largest difference first. A level
/// differs where the means of sixteen parts do by more than 4.5 times their standard error; noise (what moves faster
/// than two thousandths of the stretch, or between two readings) where its ratio is more than its number of readings
/// lets happen by chance; timing where laying one later explains a fifth and more of what is between them; shape is
/// what is left then. Nothing where cancelled.
std::vector<SignalDifference> differencesBetween(const Bench& ownBench, const Source& own, const Bench& otherBench,
                                                 const LaidOver& other, Span span, Progress* progress = nullptr);

/// The two runs' bench, chains, calibrations, what was expected and what people wrote, where they are not the same: a
/// sentence each.
std::vector<Text> writtenDifferences(const Bench& own, const Bench& other);
std::vector<Text> writtenDifferences(const RunNotes& own, const RunNotes& other);

}  // namespace cruscotto
