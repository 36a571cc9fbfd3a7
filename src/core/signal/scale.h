#pragma once

#include <vector>

namespace cruscotto {

/// A scale: low < high, both finite.
struct Scale {
    double low = 0;
    double high = 1;
    bool operator==(const Scale&) const = default;
};
/// 0 at low, 1 at high, clamped. NaN stays NaN.
double fractionOf(const Scale& scale, double v);
/// Whether a reading lies off the scale, by more than a hundredth of it: what noise adds at an end is no news.
enum class OffScale { no, below, above };
OffScale offScale(const Scale& scale, double v);
/// Round tick values inside the scale (both ends included where they are round), at most `most` of them, steps of 1, 2
/// or 5 times a power of ten. Empty for most < 1.
std::vector<double> ticksFor(const Scale& scale, int most);
/// As many of them as can stand between the ends of a scale that are written themselves: none nearer to an end than
/// `clear` (a fraction of the scale) unless it is the end, in which case it is left out. An even row: where one is too
/// near, the next larger step is taken, and one alone stands near the middle.
std::vector<double> ticksBetweenEnds(const Scale& scale, int most, double clear);
/// The fewest decimals that show every one of these as it is: 1 for 31.5 alone; 0 to 9.
int decimalsOf(const std::vector<double>& ticks);
/// Time ticks for [fromNs, toNs): steps of 1, 2, 5, 10, 15, 30 s / min, 1, 2, 3, 6, 12 h, days, or 1-2-5 below a
/// second, aligned to multiples of the step plus `offsetNs` (a time zone, say).
std::vector<long long> timeTicksFor(long long fromNs, long long toNs, int most, long long offsetNs, long long* stepNs);
/// The smallest round scale around [low, high], with a little air; a scale round v where low == high.
Scale niceScale(double low, double high);

}  // namespace cruscotto
