#include <algorithm>

#include "core/base/units.h"
#include "core/chain/stages/laws.h"
#include "core/chain/stages/list.h"

namespace cruscotto::stages {

namespace {

enum class Outside { mark, hold, extend };

/// Points in rising order of x, with the slopes of the curve through them.
struct Curve {
    std::vector<double> x, y, slope;
    bool cubic;
    Outside outside;

    explicit Curve(const Stage& s)
        : cubic(s.text("between") == "monotone-cubic"),
          outside(s.text("outside") == "hold"     ? Outside::hold
                  : s.text("outside") == "extend" ? Outside::extend
                                                  : Outside::mark) {
        StageTable rows = s.table("points");
        if (rows.front()[0] > rows.back()[0]) std::ranges::reverse(rows);
        for (const auto& row : rows) x.push_back(row[0]), y.push_back(row[1]);
        slope.assign(x.size(), 0);
        if (cubic) findSlopes();
    }
    double operator()(double at) const {
        const std::size_t last = x.size() - 1;
        if (at < x.front() || at > x.back()) {
            if (outside == Outside::mark) return std::numeric_limits<double>::quiet_NaN();
            if (outside == Outside::hold) return at < x.front() ? y.front() : y.back();
        }
        const auto above = std::upper_bound(x.begin() + 1, x.end() - 1, at);
        const auto i = static_cast<std::size_t>(above - x.begin()) - 1;
        const double width = x[i + 1] - x[i], u = (at - x[i]) / width, rise = y[i + 1] - y[i];
        if (!cubic) return y[i] + u * rise;
        if (at < x.front()) return y.front() + (at - x.front()) * slope.front();
        if (at > x.back()) return y.back() + (at - x.back()) * slope[last];
        const double m0 = slope[i] * width, m1 = slope[i + 1] * width;
        return y[i] + u * (m0 + u * (3 * rise - 2 * m0 - m1 + u * (m0 + m1 - 2 * rise)));
    }

private:
    /// F. N. Fritsch and J. Butland, SIAM J. Sci. Stat. Comput. 5 (1984): a curve that rises and falls where its points
    /// do and nowhere else; the ends by one-sided parabolas kept to that rule.
    void findSlopes() {
        const std::size_t n = x.size();
        const auto step = [&](std::size_t i) { return x[i + 1] - x[i]; };
        const auto secant = [&](std::size_t i) { return (y[i + 1] - y[i]) / step(i); };
        if (n == 2) {
            slope.assign(2, secant(0));
            return;
        }
        for (std::size_t i = 1; i + 1 < n; ++i) {
            const double a = secant(i - 1), b = secant(i);
            const double w1 = 2 * step(i) + step(i - 1), w2 = step(i) + 2 * step(i - 1);
            slope[i] = a * b > 0 ? (w1 + w2) / (w1 / a + w2 / b) : 0;
        }
        const auto end = [](double h0, double h1, double d0, double d1) {
            const double m = ((2 * h0 + h1) * d0 - h0 * d1) / (h0 + h1);
            if (m * d0 <= 0) return 0.0;
            return d0 * d1 <= 0 && std::fabs(m) > 3 * std::fabs(d0) ? 3 * d0 : m;
        };
        slope[0] = end(step(0), step(1), secant(0), secant(1));
        slope[n - 1] = end(step(n - 2), step(n - 3), secant(n - 2), secant(n - 3));
    }
};

}  // namespace

/// A curve through points, straight from one to the next or as a monotone cubic.
const StageKind& table() {
    static const StageKind kind{
        .key = "table",
        .title = CRUSCOTTO_TEXT("Table"),
        .group = StageGroup::law,
        .fields = {{.key = "points",
                    .title = CRUSCOTTO_TEXT("Points, what comes in and what it is"),
                    .type = StageField::Type::table,
                    .first = StageTable{{0, 0}, {1, 1}},
                    .needed = true,
                    .columns = 2,
                    .fewestRows = 2},
                   {.key = "between",
                    .title = CRUSCOTTO_TEXT("Between them"),
                    .type = StageField::Type::choice,
                    .first = "linear",
                    .choices = {{"linear", CRUSCOTTO_TEXT("straight")}, {"monotone-cubic", CRUSCOTTO_TEXT("smooth")}}},
                   {.key = "outside",
                    .title = CRUSCOTTO_TEXT("Outside them"),
                    .type = StageField::Type::choice,
                    .first = "mark",
                    .choices = {{"mark", CRUSCOTTO_TEXT("out of range")},
                                {"hold", CRUSCOTTO_TEXT("as the last point")},
                                {"extend", CRUSCOTTO_TEXT("straight on")}}},
                   unitField()},
        .sentence =
            [](const Stage& s) {
                const StageTable& points = s.table("points");
                return text(CRUSCOTTO_TEXT("A curve through {0} points, from {1} to {2}."), points.size(),
                            number(points.empty() ? 0 : points.front()[0]),
                            number(points.empty() ? 0 : points.back()[0]));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor { return law(Curve(s)); },
        .unitAfter = typedUnit,
        .check = [](const Stage& s, const std::string&) -> Result<void> {
            const StageTable& points = s.table("points");
            const bool rising = points[1][0] > points[0][0];
            for (std::size_t i = 1; i < points.size(); ++i)
                if (points[i][0] == points[i - 1][0] || (points[i][0] > points[i - 1][0]) != rising)
                    return failure(
                        "The table goes back on itself at row {0}: what comes in must rise, or fall, from "
                        "row to row.",
                        i + 1);
            return {};
        },
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
