#include "core/bench/stretch_ends.h"

#include <cmath>

namespace cruscotto {

Instant settled(const Source& source, std::span<const SettlingSignal> among, std::span<const Instant> marks, Instant t,
                Duration within) {
    Instant best = t;
    std::int64_t nearest = within.ns;
    const auto offer = [&](Instant at) {
        const std::int64_t away = std::abs((at - t).ns);
        if (away > nearest) return;
        nearest = away;
        best = at;
    };
    for (const Instant mark : marks) offer(mark);
    constexpr std::size_t most = 20'000;
    std::vector<Point> points;
    for (const SettlingSignal& s : among) {
        if (!source.points(s.signal->id, {t - within, t + within}, most, points)) continue;
        const auto levels = s.signal->isState() ? std::vector<double>{0.5} : s.levels;
        for (std::size_t i = 1; i < points.size(); ++i) {
            const Point &a = points[i - 1], &b = points[i];
            if (std::isnan(a.value) || std::isnan(b.value)) continue;
            for (const double level : levels) {
                if ((a.value < level) == (b.value < level)) continue;
                // a state changes at its reading, what moves between two of them
                const double part = holds(*s.signal) ? 1 : (level - a.value) / (b.value - a.value);
                offer(a.t + nanoseconds(std::llround(part * static_cast<double>((b.t - a.t).ns))));
            }
        }
    }
    return best;
}

}  // namespace cruscotto
