#include "core/base/extremes.h"

namespace cruscotto {

Extremes extremesOf(std::span<const double> values) {
    constexpr std::size_t atOnce = 2 * ExtremeLanes::lanes;
    ExtremeLanes lanes;
    const double* p = values.data();
    const double* const end = p + values.size() / atOnce * atOnce;
    for (; p != end; p += atOnce)
        for (std::size_t i = 0; i < ExtremeLanes::lanes; ++i) lanes.take(i, Pair::load(p + 2 * i));
    Extremes out = lanes.all();
    for (; p != values.data() + values.size(); ++p) {
        if (*p < out.least) out.least = *p;
        if (*p > out.most) out.most = *p;
    }
    return out;
}

}  // namespace cruscotto
