#include "core/signal/pyramid.h"

#include "core/base/pair.h"

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

Summary summarise(std::span<const double> values) {
    // Several chains side by side, so that no addition waits for the one before it. A NaN leaves the extremes alone; in
    // the sum it shows, and then the slow way is taken. What is summed up is how far each lies from the first, so that
    // a small spread of large readings is not lost in rounding.
    if (values.empty()) return {};
    const double base = values[0];
    constexpr std::size_t chains = ExtremeLanes::lanes;
    ExtremeLanes extremes;
    std::array<Pair, chains> sum, squares;
    const Pair bases = Pair::both(base);
    sum.fill(Pair::both(0));
    squares.fill(Pair::both(0));
    const double* p = values.data();
    const double* const end = p + values.size() / (2 * chains) * (2 * chains);
    for (; p != end; p += 2 * chains)
        for (std::size_t c = 0; c < chains; ++c) {
            const Pair v = Pair::load(p + 2 * c);
            extremes.take(c, v);
            const Pair d = Pair::less(v, bases);
            sum[c] = Pair::sum(d, sum[c]);
            squares[c] = Pair::sum(Pair::square(d), squares[c]);
        }
    const Pair allSum = Pair::sum(Pair::sum(sum[0], sum[1]), Pair::sum(sum[2], sum[3]));
    const Pair allSquares = Pair::sum(Pair::sum(squares[0], squares[1]), Pair::sum(squares[2], squares[3]));
    auto [least, most] = extremes.all();
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
