#include "core/pyramid.h"

namespace cruscotto {

void Summary::add(const Summary& other) {
    if (other.count == 0) return;
    if (count == 0) {
        *this = other;
        return;
    }
    if (other.min < min) min = other.min;
    if (other.max > max) max = other.max;
    const double total = static_cast<double>(count) + static_cast<double>(other.count);
    mean += (other.mean - mean) * (static_cast<double>(other.count) / total);
    count += other.count;
}

}  // namespace cruscotto
