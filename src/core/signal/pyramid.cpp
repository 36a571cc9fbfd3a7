#include "core/signal/pyramid.h"

#if defined(__SSE2__)
#include <emmintrin.h>
#endif

namespace cruscotto {

void Summary::add(const Summary& other) {
    if (other.count == 0) return;
    if (count == 0) {
        *this = other;
        return;
    }
    if (other.min < min) min = other.min;
    if (other.max > max) max = other.max;
    const auto mine = static_cast<double>(count), theirs = static_cast<double>(other.count);
    const double apart = other.mean - mean, share = theirs / (mine + theirs);
    mean += apart * share;
    squares += other.squares + apart * apart * mine * share;
    count += other.count;
}

namespace {

/// Two doubles at once. least() and most() give `b` where `a` is NaN, so a NaN leaves extremes alone.
#if defined(__SSE2__)
struct Pair {
    __m128d v;
    static Pair load(const double* from) { return {_mm_loadu_pd(from)}; }
    static Pair both(double x) { return {_mm_set1_pd(x)}; }
    static Pair least(Pair a, Pair b) { return {_mm_min_pd(a.v, b.v)}; }
    static Pair most(Pair a, Pair b) { return {_mm_max_pd(a.v, b.v)}; }
    static Pair sum(Pair a, Pair b) { return {_mm_add_pd(a.v, b.v)}; }
    static Pair less(Pair a, Pair b) { return {_mm_sub_pd(a.v, b.v)}; }
    static Pair square(Pair a) { return {_mm_mul_pd(a.v, a.v)}; }
    [[nodiscard]] double first() const { return _mm_cvtsd_f64(v); }
    [[nodiscard]] double second() const { return _mm_cvtsd_f64(_mm_unpackhi_pd(v, v)); }
};
#else
struct Pair {
    double a, b;
    static Pair load(const double* from) { return {from[0], from[1]}; }
    static Pair both(double x) { return {x, x}; }
    static double lower(double x, double y) { return x < y ? x : y; }
    static double higher(double x, double y) { return x > y ? x : y; }
    static Pair least(Pair x, Pair y) { return {lower(x.a, y.a), lower(x.b, y.b)}; }
    static Pair most(Pair x, Pair y) { return {higher(x.a, y.a), higher(x.b, y.b)}; }
    static Pair sum(Pair x, Pair y) { return {x.a + y.a, x.b + y.b}; }
    static Pair less(Pair x, Pair y) { return {x.a - y.a, x.b - y.b}; }
    static Pair square(Pair x) { return {x.a * x.a, x.b * x.b}; }
    [[nodiscard]] double first() const { return a; }
    [[nodiscard]] double second() const { return b; }
};
#endif

}  // namespace

Summary summarise(std::span<const double> values) {
    // Several chains side by side, so that no addition waits for the one before it. A NaN leaves the extremes alone; in
    // the sum it shows, and then the slow way is taken. What is summed up is how far each lies from the first, so that
    // a small spread of large readings is not lost in rounding.
    if (values.empty()) return {};
    const double base = values[0];
    constexpr std::size_t chains = 4;
    constexpr double huge = std::numeric_limits<double>::infinity();
    std::array<Pair, chains> low, high, sum, squares;
    const Pair bases = Pair::both(base);
    low.fill(Pair::both(huge));
    high.fill(Pair::both(-huge));
    sum.fill(Pair::both(0));
    squares.fill(Pair::both(0));
    const double* p = values.data();
    const double* const end = p + values.size() / (2 * chains) * (2 * chains);
    for (; p != end; p += 2 * chains)
        for (std::size_t c = 0; c < chains; ++c) {
            const Pair v = Pair::load(p + 2 * c);
            low[c] = Pair::least(v, low[c]);
            high[c] = Pair::most(v, high[c]);
            const Pair d = Pair::less(v, bases);
            sum[c] = Pair::sum(d, sum[c]);
            squares[c] = Pair::sum(Pair::square(d), squares[c]);
        }
    const Pair allLow = Pair::least(Pair::least(low[0], low[1]), Pair::least(low[2], low[3]));
    const Pair allHigh = Pair::most(Pair::most(high[0], high[1]), Pair::most(high[2], high[3]));
    const Pair allSum = Pair::sum(Pair::sum(sum[0], sum[1]), Pair::sum(sum[2], sum[3]));
    const Pair allSquares = Pair::sum(Pair::sum(squares[0], squares[1]), Pair::sum(squares[2], squares[3]));
    double least = std::min(allLow.first(), allLow.second());
    double most = std::max(allHigh.first(), allHigh.second());
    double total = allSum.first() + allSum.second(), square = allSquares.first() + allSquares.second();
    for (; p != values.data() + values.size(); ++p) {
        least = *p < least ? *p : least;
        most = *p > most ? *p : most;
        total += *p - base;
        square += (*p - base) * (*p - base);
    }
    if (square - square == 0) {
        const auto n = static_cast<double>(values.size());
        return {least, most, base + total / n, static_cast<std::uint32_t>(values.size()),
                std::max(0.0, square - total * total / n)};
    }
    Summary out;
    for (const double v : values) out.add(v);
    return out;
}

}  // namespace cruscotto
