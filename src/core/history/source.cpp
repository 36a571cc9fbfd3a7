#include "core/history/source.h"

#include <cmath>

namespace cruscotto {

void StretchSummary::add(const Summary& other) {
    add(StretchSummary{other.min, other.max, other.mean, other.count, other.squares, true});
}

void StretchSummary::add(const StretchSummary& other) {
    exact = exact && other.exact;
    if (other.count == 0) return;
    if (count == 0) {
        const bool both = exact;
        *this = other;
        exact = both;
        return;
    }
    min = std::min(min, other.min);
    max = std::max(max, other.max);
    const auto mine = static_cast<double>(count), theirs = static_cast<double>(other.count);
    const double apart = other.mean - mean, share = theirs / (mine + theirs);
    mean += apart * share;
    squares += other.squares + apart * apart * mine * share;
    count += other.count;
}

double StretchSummary::deviation() const {
    return count < 2 ? std::numeric_limits<double>::quiet_NaN() : std::sqrt(squares / static_cast<double>(count - 1));
}

}  // namespace cruscotto
