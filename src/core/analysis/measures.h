#pragma once

#include <map>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "core/base/text.h"

namespace cruscotto {

/// One number worked out from a stretch.
struct Measure {
    double value = 0;  ///< NaN where there is none
    std::string unit;  ///< UCUM
    double u = -1;     ///< standard uncertainty; below 0: not known
    Text whyNot;       ///< why there is none
    Text note = {};    ///< what to know of the value, where there is one
};

/// What it is a measure of, and where it stands among the others.
enum class MeasureGroup { ofLevel, overTime, repeating, onAndOff, asSine, ofTwo };
Text measureGroupTitle(MeasureGroup group);
struct MeasureKind {
    std::string name;  ///< frozen
    Text title;
    MeasureGroup group = MeasureGroup::ofLevel;
};
/// What can be measured of one signal, and of one against another, in the order in which they are shown.
std::span<const MeasureKind> measureKinds();
std::span<const MeasureKind> measureKindsOfTwo();
/// A state has no sine, and what is no state does not go on and off.
bool measureFits(const MeasureKind& kind, bool ofState);
/// Among both; nullptr where there is none.
const MeasureKind* measureKind(std::string_view name);

/// Readings of a stretch, each with its seconds since the stretch began, in order; NaN where nothing was read.
struct MeasuredStretch {
    std::span<const double> values, seconds;
    std::string unit;    ///< UCUM
    bool state = false;  ///< on and off
    double lasts = 0;    ///< seconds of the whole stretch; 0: until its last reading
};
/// All of measureKinds(). Levels, edges and what hangs on them as in IEEE 181-2011: the
/// levels are the modes of the histogram's halves (5.2.2), the instants those of 10, 50 and 90 % of the step, settled
/// is what stays within 2 % of it; a sine as in IEEE 1057-2017. Standard deviations are those of a sample (n - 1).
/// `only`: those of one group, and what comes by the way.
std::map<std::string, Measure> measuresOf(const MeasuredStretch& stretch, std::optional<MeasureGroup> only = {});
/// The UCUM unit of a measure of a signal that reads in `unit`, held against one that reads in `other`.
std::string measureUnit(const std::string& name, const std::string& unit, const std::string& other = {});
/// All of measureKindsOfTwo(): how `of` follows `from`. Where both are sines, by their fits; else the gain is the slope
/// of the line of one over the other and the delay the place of the highest cross-correlation. A gain below 0 inverts;
/// the phase is that of `of` less that of `from`, without the half turn of an inversion. Where one of them stands at a
/// rail, what hangs on it says so. `only`: the one of them that is wanted, and what comes by the way.
std::map<std::string, Measure> measuresOfTwo(const MeasuredStretch& from, const MeasuredStretch& of,
                                             std::string_view only = {});

/// By how many steps, with their fraction, b comes behind a, both of the same length: where their correlation is
/// highest in size, within a quarter of the length and 4000 steps. Nothing: it is below 0.3 everywhere, or highest at
/// the end.
std::optional<double> lagOf(const std::vector<double>& a, const std::vector<double>& b);

}  // namespace cruscotto
