#pragma once

#include <algorithm>
#include <array>
#include <limits>

#if defined(__SSE2__)
#include <emmintrin.h>
#endif

namespace cruscotto {

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

struct Extremes {
    double least = 0, most = 0;
};

/// The least and the greatest of pairs that are handed to several lanes in turn, so that no comparison waits for the
/// one before it. NaN is left aside; plus and minus infinity where nothing came.
class ExtremeLanes {
public:
    static constexpr std::size_t lanes = 4;
    ExtremeLanes() {
        low_.fill(Pair::both(std::numeric_limits<double>::infinity()));
        high_.fill(Pair::both(-std::numeric_limits<double>::infinity()));
    }
    void take(std::size_t lane, Pair v) {
        low_[lane] = Pair::least(v, low_[lane]);
        high_[lane] = Pair::most(v, high_[lane]);
    }
    [[nodiscard]] Extremes all() const {
        const Pair low = Pair::least(Pair::least(low_[0], low_[1]), Pair::least(low_[2], low_[3]));
        const Pair high = Pair::most(Pair::most(high_[0], high_[1]), Pair::most(high_[2], high_[3]));
        return {std::min(low.first(), low.second()), std::max(high.first(), high.second())};
    }

private:
    std::array<Pair, lanes> low_, high_;
};

}  // namespace cruscotto
