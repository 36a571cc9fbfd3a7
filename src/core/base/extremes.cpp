#include "core/base/extremes.h"

#include <algorithm>
#include <array>
#include <limits>

#include "core/base/pair.h"

namespace cruscotto {

Extremes extremesOf(std::span<const double> values) {
    // Several chains side by side, so that no comparison waits for the one before it.
    constexpr std::size_t chains = 4;
    constexpr double huge = std::numeric_limits<double>::infinity();
    std::array<Pair, chains> low, high;
    low.fill(Pair::both(huge));
    high.fill(Pair::both(-huge));
    const double* p = values.data();
    const double* const end = p + values.size() / (2 * chains) * (2 * chains);
    for (; p != end; p += 2 * chains)
        for (std::size_t c = 0; c < chains; ++c) {
            const Pair v = Pair::load(p + 2 * c);
            low[c] = Pair::least(v, low[c]);
            high[c] = Pair::most(v, high[c]);
        }
    const Pair allLow = Pair::least(Pair::least(low[0], low[1]), Pair::least(low[2], low[3]));
    const Pair allHigh = Pair::most(Pair::most(high[0], high[1]), Pair::most(high[2], high[3]));
    Extremes out{std::min(allLow.first(), allLow.second()), std::max(allHigh.first(), allHigh.second())};
    for (; p != values.data() + values.size(); ++p) {
        if (*p < out.least) out.least = *p;
        if (*p > out.most) out.most = *p;
    }
    return out;
}

}  // namespace cruscotto
