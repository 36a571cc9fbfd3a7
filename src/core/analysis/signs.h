#pragma once

#include <cstddef>
#include <optional>
#include <span>
#include <vector>

/// Signs, in a stretch of samples, that they are not what a source made. Samples are equally spaced and in order; what
/// is no number is to be left out before. `step`: the least by which they can differ (one count of a converter); 0: not
/// known.
namespace cruscotto::signs {

/// How the samples move from one to the next.
struct Movement {
    double low = 0, high = 0;
    double noise = 0;      ///< standard deviation of what is white in them, from the median of their second differences
    double changes = 0;    ///< share of neighbours that differ
    double reversals = 0;  ///< share of the changes that go back on the change before: white noise 2/3, smooth 0
    /// Share of all their change that happens in leaps of more than a third of their extent, and how many leaps.
    double leapShare = 0;
    std::size_t leaps = 0;
    [[nodiscard]] double extent() const { return high - low; }
};
/// Fewer than four samples do not move.
Movement movementOf(std::span<const double> x);

/// What the mains put into the samples.
struct MainsLine {
    double hz = 50;
    double amplitude = 0;
    double share = 0;          ///< of the variance
    std::vector<double> rest;  ///< the samples without it, its next two harmonics, and a straight line
};
/// The line at 50 or 60 Hz, where one stands out from its neighbourhood and from the rest; from half a second of
/// samples at 150 Hz or more.
std::optional<MainsLine> mainsIn(std::span<const double> x, double rateHz, double step);

/// How an input that nothing drives wanders: like a random walk.
struct Wander {
    double deviation = 0;  ///< of the means over one period of the mains
    double exponent = 0;   ///< with which the variance of the change grows with time: noise 0, a walk 1, smooth 2
};
std::optional<Wander> wanderOf(std::span<const double> rest, double rateHz, double mainsHz);

/// The same extreme again and again, entered at full slope: an amplifier at its rail.
struct FlatTops {
    double level = 0;
    bool top = true;
    double share = 0;  ///< of the samples that stand there
    std::size_t count = 0;
    double both = 0;  ///< of those that stand there or at the other rail
};
/// Told from a square wave and from ramps that are held: either the noise that is everywhere else is gone at the
/// level, or what lies between is a sine that goes on beyond it.
std::optional<FlatTops> flatTopsOf(std::span<const double> x, double step);

/// Enough of the samples stand at one of their extremes that flat tops are worth a closer look.
bool standsAtAnEnd(std::span<const double> x, double step);

/// Single samples far off both neighbours, which agree, by `noise` of movementOf().
struct Jump {
    std::size_t at = 0;
    double from = 0, to = 0;
};
inline constexpr std::size_t jumpNeighbours = 8;  ///< on either side; the first and the last samples are left out
std::vector<Jump> jumpsIn(std::span<const double> x, double noise, double step);

/// A contact's changes that come three or more within 20 ms, an odd number of them, with 50 ms of calm on either side.
struct Bounce {
    std::size_t begin = 0, end = 0;  ///< first and last change
    std::size_t changes = 0;
};
std::vector<Bounce> bouncesIn(std::span<const double> bits, double rateHz);

/// Pearson's, of the common length from the start; 0 where one of them does not move.
double correlation(std::span<const double> a, std::span<const double> b);

/// Takes the part that is the same as in `other` out of x.
void takeAway(std::vector<double>& x, std::span<const double> other);

}  // namespace cruscotto::signs
