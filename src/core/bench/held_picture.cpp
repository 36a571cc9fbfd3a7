#include "core/bench/held_picture.h"

#include <algorithm>
#include <cmath>

#include "core/analysis/signs.h"

namespace cruscotto {

namespace {

constexpr std::size_t mostLookedAt = 500'000;
constexpr Duration furthest = milliseconds(60'000);

/// The crossings among the points up to `until`, the newest first.
std::vector<HeldAt> crossingsAmong(const std::vector<Point>& points, const HoldOn& on, Instant until) {
    std::vector<double> values;
    values.reserve(points.size());
    for (const Point& p : points)
        if (std::isfinite(p.value)) values.push_back(p.value);
    const signs::Movement movement = signs::movementOf(values);
    const double low = movement.low, high = movement.high;
    if (values.empty() || !(high > low)) return {};
    const double level = on.level.value_or((low + high) / 2), sign = on.rises ? 1 : -1;
    constexpr double away = 0.1, furthestAway = 0.4, noises = 6;
    const double extent = high - low;
    const double band = std::min(std::max(away * extent, noises * movement.noise), furthestAway * extent);
    std::vector<HeldAt> found;
    // Noise crosses it several times on the way: the middle of the first and the last of them counts.
    std::optional<Instant> firstUp, lastUp;
    bool ready = false;
    const auto take = [&] {
        if (firstUp && *lastUp <= until) found.push_back({*firstUp + nanoseconds((*lastUp - *firstUp).ns / 2), level});
        firstUp.reset();
    };
    for (std::size_t i = 1; i < points.size(); ++i) {
        const double a = sign * (points[i - 1].value - level), b = sign * (points[i].value - level);
        if (std::isnan(a) || std::isnan(b)) {
            take();
            ready = false;
            continue;
        }
        if (a <= -band) {
            take();
            ready = true;
        }
        if (ready && a < 0 && b >= 0) {
            const double part = -a / (b - a);
            lastUp = points[i - 1].t +
                     nanoseconds(std::llround(part * static_cast<double>((points[i].t - points[i - 1].t).ns)));
            if (!firstUp) firstUp = lastUp;
        }
        if (b >= band) {
            take();
            ready = false;
        }
    }
    take();
    std::ranges::reverse(found);
    return found;
}

}  // namespace

std::vector<HeldAt> heldAt(const Source& source, const Bench& bench, const HoldOn& on, Instant end, Duration after,
                           Duration window, std::size_t most) {
    if (!bench.signal(on.signal)) return {};
    const Instant until = end - after;
    std::vector<HeldAt> found;
    std::vector<Point> points;
    // Some periods tell the middle and the extent: a few windows, and twice as much while there are too few.
    for (Duration back = window + window; back <= furthest + window; back = back + back) {
        if (!source.points(on.signal, {until - back, end}, mostLookedAt, points)) break;
        found = crossingsAmong(points, on, until);
        if (found.size() >= most || until - back < source.extent().from) break;
    }
    if (found.size() > most) found.resize(most);
    return found;
}

std::vector<double> pictureOf(const Source& source, const SignalSpec& signal, Instant from, Duration width,
                              std::size_t n) {
    std::vector<double> out(n, std::nan(""));
    const Instant to{from.ns + width.ns * static_cast<std::int64_t>(n)};
    std::vector<Point> points;
    if (source.points(signal.id, {from, to}, 2 * n, points)) {
        std::size_t k = 0;
        const bool steps = holds(signal);
        for (std::size_t i = 0; i < n; ++i) {
            const Instant t{from.ns + width.ns * static_cast<std::int64_t>(i)};
            while (k + 1 < points.size() && points[k + 1].t <= t) ++k;
            if (points.empty() || points[k].t > t) continue;
            if (steps || points[k].t == t) {
                out[i] = points[k].value;
            } else if (k + 1 < points.size()) {
                const double part =
                    static_cast<double>((t - points[k].t).ns) / static_cast<double>((points[k + 1].t - points[k].t).ns);
                out[i] = points[k].value + part * (points[k + 1].value - points[k].value);
            }
        }
        return out;
    }
    std::vector<Column> columns;
    source.columns(signal.id, {from, width, n}, columns);
    for (std::size_t i = 0; i < n; ++i)
        if (columns[i].summary.count > 0) out[i] = columns[i].summary.mean;
    return out;
}

PictureSpread spreadOf(const std::vector<std::vector<double>>& pictures) {
    PictureSpread out;
    const std::size_t n = pictures.empty() ? 0 : pictures.front().size();
    for (std::size_t i = 0; i < n; ++i) {
        Summary all;
        for (const auto& picture : pictures)
            if (i < picture.size()) all.add(picture[i]);
        out.mean.push_back(all.mean);
        out.low.push_back(all.min);
        out.high.push_back(all.max);
    }
    return out;
}

}  // namespace cruscotto
