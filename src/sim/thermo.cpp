#include "sim/thermo.h"

#include <array>

namespace cruscotto::sim {

double thermocoupleT(double t) {
    constexpr std::array c{0.0,
                           0.387481063640e-1,
                           0.332922278800e-4,
                           0.206182434040e-6,
                           -0.218822568460e-8,
                           0.109968809280e-10,
                           -0.308157587720e-13,
                           0.454791352900e-16,
                           -0.275129016730e-19};
    double e = 0;
    for (auto i = c.rbegin(); i != c.rend(); ++i) e = e * t + *i;
    return e;
}

double pt100(double t) {
    return 100.0 * (1 + 3.9083e-3 * t - 5.775e-7 * t * t);
}

}  // namespace cruscotto::sim
