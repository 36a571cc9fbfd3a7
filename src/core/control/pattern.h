#pragma once

#include <cstddef>
#include <span>
#include <utility>
#include <vector>

namespace cruscotto {

/// Seconds from 0 on, ascending, and the value from then on: what is played over time (PlayedSpec).
using Pattern = std::vector<std::pair<double, double>>;

/// Values that follow each other, each with the seconds that it stays.
using PlayedList = std::vector<std::pair<double, double>>;

/// The point goes to this time and value, but not past its neighbours, of which it stays `least` seconds away, nor
/// before 0. Precondition: there is such a point.
Pattern movedPoint(Pattern pattern, std::size_t point, double seconds, double value, double least);
/// One point more, in its place; one that is less than `least` seconds away takes the value instead.
Pattern withPoint(Pattern pattern, double seconds, double value, double least);
/// Of on and off: the other state from this time on for `width` seconds, or until the next change, whichever comes
/// first.
Pattern withPulse(Pattern pattern, double seconds, double width);
/// Without this point. `states`: of on and off, what says nothing new any more goes too. One point stays always.
Pattern withoutPoint(Pattern pattern, std::size_t point, bool states);
/// What was read, as something to be played: `seconds` from its beginning, as long as `values`. What is no number is
/// left out; `states`: only the changes are kept. Empty where there is nothing.
Pattern recordedPattern(std::span<const double> seconds, std::span<const double> values, bool states);
/// The value at a time: of the last point before it, or on the line between two. Before the first: the first's.
double valueAt(const Pattern& pattern, double seconds, bool lines);
/// A round number of seconds, about a hundredth of the time: 1, 2 or 5 times a power of ten.
double roundStep(double lasts);

}  // namespace cruscotto
