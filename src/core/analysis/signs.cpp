#include "core/analysis/signs.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/analysis/straight_line.h"

namespace cruscotto::signs {

namespace {

constexpr double medianToDeviation = 1.4826;  // of normal noise
constexpr double twoPi = 2 * std::numbers::pi;

/// The part of the samples at a frequency: amplitudes of its cosine and sine.
struct Tone {
    double c = 0, s = 0;
    [[nodiscard]] double amplitude() const { return std::hypot(c, s); }
};
Tone toneAt(std::span<const double> x, double cyclesPerSample) {
    const double turnC = std::cos(twoPi * cyclesPerSample), turnS = std::sin(twoPi * cyclesPerSample);
    double c = 1, s = 0;
    Tone sum;
    for (const double v : x) {
        sum.c += v * c;
        sum.s += v * s;
        const double next = c * turnC - s * turnS;
        s = c * turnS + s * turnC;
        c = next;
    }
    const double scale = 2 / static_cast<double>(x.size());
    return {sum.c * scale, sum.s * scale};
}
/// Two at once: the one waits while the other works.
std::array<Tone, 2> tonesAt(std::span<const double> x, double first, double second) {
    const double c1 = std::cos(twoPi * first), s1 = std::sin(twoPi * first);
    const double c2 = std::cos(twoPi * second), s2 = std::sin(twoPi * second);
    double ac = 1, as = 0, bc = 1, bs = 0;
    Tone a, b;
    for (const double v : x) {
        a.c += v * ac;
        a.s += v * as;
        b.c += v * bc;
        b.s += v * bs;
        const double nextA = ac * c1 - as * s1, nextB = bc * c2 - bs * s2;
        as = ac * s1 + as * c1;
        bs = bc * s2 + bs * c2;
        ac = nextA;
        bc = nextB;
    }
    const double scale = 2 / static_cast<double>(x.size());
    return {Tone{a.c * scale, a.s * scale}, Tone{b.c * scale, b.s * scale}};
}
void takeAway(std::vector<double>& x, double cyclesPerSample) {
    const Tone tone = toneAt(x, cyclesPerSample);
    const double turnC = std::cos(twoPi * cyclesPerSample), turnS = std::sin(twoPi * cyclesPerSample);
    double c = 1, s = 0;
    for (double& v : x) {
        v -= tone.c * c + tone.s * s;
        const double next = c * turnC - s * turnS;
        s = c * turnS + s * turnC;
        c = next;
    }
}

double varianceOf(std::span<const double> x) {
    if (x.empty()) return 0;
    double mean = 0, squares = 0;
    for (const double v : x) mean += v;
    mean /= static_cast<double>(x.size());
    for (const double v : x) squares += (v - mean) * (v - mean);
    return squares / static_cast<double>(x.size());
}

std::vector<double> withoutLine(std::span<const double> x) {
    const StraightLine line = straightLine(x);
    std::vector<double> out(x.size());
    for (std::size_t i = 0; i < x.size(); ++i) out[i] = x[i] - line.at(static_cast<double>(i));
    return out;
}

/// Samples [begin, end) that stand at an extreme.
struct Plateau {
    std::size_t begin = 0, end = 0;
    [[nodiscard]] double centre() const { return static_cast<double>(begin + end - 1) / 2; }
};

/// How much of the noise between the plateaus is left on them: none.
bool quietOnPlateaus(std::span<const double> x, const std::vector<Plateau>& plateaus, double near, double far,
                     double step) {
    double low = INFINITY, high = -INFINITY;
    for (const Plateau& p : plateaus)
        for (std::size_t i = p.begin + 1; i + 1 < p.end; ++i) low = std::min(low, x[i]), high = std::max(high, x[i]);
    // Noise goes to and fro; what is bent, as what dies away, does not.
    std::vector<double> second;
    std::size_t pairs = 0, alternate = 0, last = 0;
    for (std::size_t i = 2; i < x.size(); ++i) {
        if (std::max({x[i], x[i - 1], x[i - 2]}) >= near || std::min({x[i], x[i - 1], x[i - 2]}) <= far) continue;
        const double d = x[i] - 2 * x[i - 1] + x[i - 2];
        if (last + 1 == i) ++pairs, alternate += d * (x[i - 1] - 2 * x[i - 2] + x[i - 3]) < 0;
        last = i;
        second.push_back(std::fabs(d));
    }
    constexpr std::size_t enough = 16;
    if (second.size() < enough || pairs < enough || 2 * alternate < pairs) return false;
    const double elsewhere = medianOf(second);
    return high - low <= 2.01 * step && elsewhere > std::max(16 * step, 1e-3 * (near - far));
}

struct Fit {
    double rest = INFINITY, peak = 0;
};
/// Time that runs in periods: at three centres it is 0, 1 and 2, so that a frequency may change steadily meanwhile.
struct InPeriods {
    double first = 0, linear = 0, square = 0;
    InPeriods(double a, double b, double c) : first(a) {
        const double u = b - a, v = c - a;
        square = (u * 2 - v) / (u * v * (v - u));
        linear = (1 - square * u * u) / u;
    }
    [[nodiscard]] double at(std::size_t i) const {
        const double t = static_cast<double>(i) - first;
        return (linear + square * t) * t;
    }
};
/// A sine of so many cycles a period through those samples of [begin, end) that lie between the bounds.
Fit sineThrough(std::span<const double> x, std::size_t begin, std::size_t end, double low, double high,
                const InPeriods& time, double cycles) {
    // normal equations of a cos + b sin + c
    double m[3][4] = {};
    const auto base = [&](std::size_t i) {
        const double phase = twoPi * cycles * time.at(i);
        return std::array{std::cos(phase), std::sin(phase), 1.0};
    };
    std::size_t n = 0;
    for (std::size_t i = begin; i < end; ++i) {
        if (x[i] <= low || x[i] >= high) continue;
        const auto f = base(i);
        for (std::size_t r = 0; r < 3; ++r) {
            for (std::size_t k = 0; k < 3; ++k) m[r][k] += f[r] * f[k];
            m[r][3] += f[r] * x[i];
        }
        ++n;
    }
    if (n < 12) return {};
    for (std::size_t r = 0; r < 3; ++r) {
        if (std::fabs(m[r][r]) < 1e-12) return {};
        for (std::size_t k = r + 1; k < 3; ++k) {
            const double by = m[k][r] / m[r][r];
            for (std::size_t j = r; j < 4; ++j) m[k][j] -= by * m[r][j];
        }
    }
    std::array<double, 3> c{};
    for (std::size_t r = 3; r-- > 0;) {
        c[r] = m[r][3];
        for (std::size_t k = r + 1; k < 3; ++k) c[r] -= m[r][k] * c[k];
        c[r] /= m[r][r];
    }
    double squares = 0;
    for (std::size_t i = begin; i < end; ++i) {
        if (x[i] <= low || x[i] >= high) continue;
        const auto f = base(i);
        const double d = x[i] - c[0] * f[0] - c[1] * f[1] - c[2];
        squares += d * d;
    }
    return {std::sqrt(squares / static_cast<double>(n)), c[2] + std::hypot(c[0], c[1])};
}
/// Straight lines, one through each rise and fall between the bounds.
double restOfLines(std::span<const double> x, std::size_t begin, std::size_t end, double low, double high) {
    double squares = 0;
    std::size_t n = 0;
    for (std::size_t i = begin; i < end;) {
        if (x[i] <= low || x[i] >= high) {
            ++i;
            continue;
        }
        std::size_t j = i;
        while (j < end && x[j] > low && x[j] < high) ++j;
        if (j - i >= 4) {
            squares += straightLine(x.subspan(i, j - i)).rest;
            n += j - i;
        }
        i = j;
    }
    return n < 12 ? 0 : std::sqrt(squares / static_cast<double>(n));
}

/// The share of the samples between the bounds that lie on rises.
double shareOfRises(std::span<const double> x, std::size_t begin, std::size_t end, double low, double high) {
    std::size_t rises = 0, all = 0;
    for (std::size_t i = begin; i < end;) {
        std::size_t j = i;
        while (j < end && x[j] > low && x[j] < high) ++j;
        all += j - i;
        if (j > i && x[j - 1] > x[i]) rises += j - i;
        i = std::max(j, i + 1);
    }
    return all > 0 ? static_cast<double>(rises) / static_cast<double>(all) : 0;
}

/// What lies between the plateaus is a sine that goes on beyond them, and not straight.
bool sineBeyond(std::span<const double> x, const std::vector<Plateau>& plateaus, double level, double near,
                double far) {
    const double from = plateaus[plateaus.size() - 3].centre(), middle = plateaus[plateaus.size() - 2].centre(),
                 to = plateaus.back().centre();
    const auto begin = static_cast<std::size_t>(from), end = static_cast<std::size_t>(to) + 1;
    const double period = (to - from) / 2;
    if (std::fabs(middle - (from + period)) > 0.03 * period || period < 8) return false;
    // a sine falls as it rises
    if (std::fabs(shareOfRises(x, begin, end, far, near) - 0.5) > 0.15) return false;
    const InPeriods time(from, middle, to);
    Fit best;
    double cycles = 1;
    for (double width = 0.04; width > 0.0005; width /= 4) {
        const double around = cycles;
        for (int k = -4; k <= 4; ++k) {
            const double tried = around * (1 + width * k / 4);
            const Fit fit = sineThrough(x, begin, end, far, near, time, tried);
            if (fit.rest < best.rest) best = fit, cycles = tried;
        }
    }
    const double lines = restOfLines(x, begin, end, far, near);
    return best.rest < 0.4 * lines && best.peak > level + 0.03 * (near - far) + 3 * best.rest;
}

/// How the samples lie about their upper end.
struct Top {
    double highest = 0, lowest = 0, tolerance = 0;
    double share = 0;    ///< that stands there
    double beneath = 0;  ///< of those just below, over four times the tolerance
    std::vector<Plateau> plateaus;
    [[nodiscard]] double near() const { return highest - 5 * tolerance; }
    [[nodiscard]] double far() const { return lowest + 5 * tolerance; }
};
Top topOf(std::span<const double> x, double lowest, double highest, double tolerance, std::size_t longEnough) {
    Top out{highest, lowest, tolerance, 0, 0, {}};
    const double top = highest - tolerance;
    std::size_t standing = 0, beneath = 0;
    for (const double v : x) {
        standing += v >= top;
        beneath += v >= out.near() && v < top;
    }
    out.share = static_cast<double>(standing) / static_cast<double>(x.size());
    out.beneath = static_cast<double>(beneath) / static_cast<double>(x.size());
    for (std::size_t i = 0; i < x.size();) {
        if (x[i] < top) {
            ++i;
            continue;
        }
        std::size_t j = i;
        while (j < x.size() && x[j] >= top) ++j;
        if (j - i >= longEnough && i > 0 && j < x.size()) out.plateaus.push_back({i, j});
        i = j;
    }
    return out;
}

std::optional<FlatTops> flatAtTheTop(std::span<const double> x, double step) {
    const auto ends = std::ranges::minmax(x);
    const double lowest = ends.min, highest = ends.max, extent = highest - lowest;
    if (!(extent > 32 * step) || !(extent > 0)) return {};
    // A square wave has nothing between.
    std::size_t between = 0;
    for (const double v : x) between += v > lowest + 0.15 * extent && v < highest - 0.15 * extent;
    const double middle = static_cast<double>(between) / static_cast<double>(x.size());
    constexpr double leastMiddle = 0.12, mostShare = 0.6;
    if (middle < leastMiddle) return {};
    const auto told = [&](const Top& top) {
        return FlatTops{highest - top.tolerance / 2, true, top.share, top.plateaus.size()};
    };
    // To the last count the same, among noise: of 2 % of the samples, and far more often than just below.
    const Top exact = topOf(x, lowest, highest, std::max(1.01 * step, 1e-9 * extent), 2);
    if (exact.share > 0.02 && exact.share < mostShare && exact.plateaus.size() >= 5 &&
        exact.share > 5 * exact.beneath && quietOnPlateaus(x, exact.plateaus, exact.near(), exact.far(), step))
        return told(exact);
    const Top wide = topOf(x, lowest, highest, std::max(1.01 * step, 0.004 * extent), 3);
    if (wide.share < 0.06 || wide.share > mostShare || wide.plateaus.size() < 3) return {};
    // A curve that comes to rest is long about it.
    if (wide.beneath / (4 * wide.tolerance / extent) > 3 * middle / 0.7) return {};
    if (!quietOnPlateaus(x, wide.plateaus, wide.near(), wide.far(), step) &&
        !sineBeyond(x, wide.plateaus, highest, wide.near(), wide.far()))
        return {};
    return told(wide);
}

}  // namespace

Movement movementOf(std::span<const double> x) {
    Movement out;
    if (x.empty()) return out;
    const auto [low, high] = std::ranges::minmax(x);
    out.low = low;
    out.high = high;
    if (x.size() < 4) return out;
    // A few hundred of the second differences tell their median well enough.
    constexpr std::size_t enough = 256;
    const std::size_t stride = std::max<std::size_t>(1, x.size() / enough);
    std::vector<double> second;
    second.reserve(x.size() / stride + 1);
    for (std::size_t i = 2; i < x.size(); i += stride) second.push_back(std::fabs(x[i] - 2 * x[i - 1] + x[i - 2]));
    std::size_t changes = 0, reversals = 0, pairs = 0;
    double all = 0, inLeaps = 0, before = 0;
    const double leap = out.extent() * 0.35;
    for (std::size_t i = 1; i < x.size(); ++i) {
        const double d = x[i] - x[i - 1];
        all += std::fabs(d);
        if (d == 0) continue;
        if (std::fabs(d) > leap) inLeaps += std::fabs(d), ++out.leaps;
        ++changes;
        if (before != 0) ++pairs, reversals += d * before < 0;
        before = d;
    }
    out.changes = static_cast<double>(changes) / static_cast<double>(x.size() - 1);
    if (pairs > 0) out.reversals = static_cast<double>(reversals) / static_cast<double>(pairs);
    if (all > 0) out.leapShare = inLeaps / all;
    out.noise = medianOf(second) * medianToDeviation / std::sqrt(6.0);
    return out;
}

std::optional<MainsLine> mainsIn(std::span<const double> x, double rateHz, double step) {
    constexpr double aside = 1.5, standsOut = 1.8, leastShare = 0.02;
    if (rateHz < 150 || static_cast<double>(x.size()) < rateHz / 2) return {};
    MainsLine out;
    out.rest = withoutLine(x);
    const double variance = varianceOf(out.rest);
    const auto both = tonesAt(out.rest, 50 / rateHz, 60 / rateHz);
    out.hz = both[0].amplitude() >= both[1].amplitude() ? 50 : 60;
    out.amplitude = std::max(both[0].amplitude(), both[1].amplitude());
    out.share = variance > 0 ? out.amplitude * out.amplitude / 2 / variance : 0;
    if (!(out.amplitude > 1.5 * step) || out.share < leastShare) return {};
    for (const double side : {-aside, aside})
        if (out.amplitude < standsOut * toneAt(out.rest, (out.hz + side) / rateHz).amplitude()) return {};
    // a harmonic of something slower is no mains
    for (int part = 2; part <= 6; ++part)
        if (toneAt(out.rest, out.hz / part / rateHz).amplitude() > 0.7 * out.amplitude) return {};
    for (int harmonic = 1; harmonic <= 3; ++harmonic)
        if (harmonic * out.hz < 0.45 * rateHz) takeAway(out.rest, harmonic * out.hz / rateHz);
    // what is left of the line in the noise by chance, ten times
    const double chance = std::sqrt(2 * varianceOf(out.rest) / static_cast<double>(x.size()));
    if (out.amplitude < 10 * chance) return {};
    return out;
}

std::optional<Wander> wanderOf(std::span<const double> rest, double rateHz, double mainsHz) {
    const auto each = static_cast<std::size_t>(std::lround(rateHz / mainsHz));
    constexpr std::size_t lag = 8;
    if (each == 0 || rest.size() / each < 4 * lag) return {};
    std::vector<double> means;
    for (std::size_t i = 0; i + each <= rest.size(); i += each) {
        double sum = 0;
        for (std::size_t k = 0; k < each; ++k) sum += rest[i + k];
        means.push_back(sum / static_cast<double>(each));
    }
    const auto change = [&](std::size_t by) {
        double squares = 0;
        for (std::size_t i = by; i < means.size(); ++i)
            squares += (means[i] - means[i - by]) * (means[i] - means[i - by]);
        return squares / static_cast<double>(means.size() - by);
    };
    const double one = change(1), many = change(lag);
    if (!(one > 0) || !(many > 0)) return {};
    return Wander{std::sqrt(varianceOf(means)), std::log(many / one) / std::log(double(lag))};
}

bool standsAtAnEnd(std::span<const double> x, double step) {
    if (x.empty()) return false;
    const auto ends = std::ranges::minmax(x);
    const double tolerance = std::max(1.01 * step, 0.004 * (ends.max - ends.min));
    const double top0 = ends.max - tolerance, bottom0 = ends.min + tolerance;
    std::size_t above = 0, below = 0;
    for (const double v : x) above += v >= top0, below += v <= bottom0;
    constexpr double leastShare = 0.02;
    return static_cast<double>(std::max(above, below)) >= leastShare * static_cast<double>(x.size());
}

std::optional<FlatTops> flatTopsOf(std::span<const double> x, double step) {
    // Nearly all signals stand nowhere: that is seen at once.
    if (x.size() < 64 || !standsAtAnEnd(x, step)) return {};
    auto top = flatAtTheTop(x, step);
    std::vector<double> turned(x.begin(), x.end());
    for (double& v : turned) v = -v;
    auto bottom = flatAtTheTop(turned, step);
    if (bottom) {
        bottom->top = false;
        bottom->level = -bottom->level;
    }
    const double both = (top ? top->share : 0) + (bottom ? bottom->share : 0);
    auto& out = top && (!bottom || top->share >= bottom->share) ? top : bottom;
    if (out) out->both = both;
    return out;
}

std::vector<Jump> jumpsIn(std::span<const double> x, double noise, double step) {
    constexpr double far = 12;
    std::vector<Jump> out;
    if (x.size() <= 2 * jumpNeighbours) return out;
    for (std::size_t i = jumpNeighbours; i + jumpNeighbours < x.size(); ++i) {
        const double around = (x[i - 1] + x[i + 1]) / 2, off = std::fabs(x[i] - around);
        if (off < far * noise + 8 * step || off == 0) continue;
        double low = x[i - 1], high = x[i - 1];
        for (std::size_t k = i - jumpNeighbours; k <= i + jumpNeighbours; ++k)
            if (k != i) low = std::min(low, x[k]), high = std::max(high, x[k]);
        if (high - low > 0.25 * off) continue;
        out.push_back({i, around, x[i]});
    }
    return out;
}

std::vector<Bounce> bouncesIn(std::span<const double> bits, double rateHz) {
    std::vector<Bounce> out;
    const double within = 0.02 * rateHz, calm = 0.05 * rateHz;
    if (within < 4) return out;
    std::vector<std::size_t> edges;
    for (std::size_t i = 1; i < bits.size(); ++i)
        if ((bits[i] != 0) != (bits[i - 1] != 0)) edges.push_back(i);
    for (std::size_t i = 0; i < edges.size();) {
        std::size_t j = i;
        while (j + 1 < edges.size() && static_cast<double>(edges[j + 1] - edges[j]) < calm) ++j;
        const std::size_t n = j - i + 1;
        const bool calmBefore = static_cast<double>(edges[i]) >= calm || i > 0;
        const bool calmBehind = static_cast<double>(bits.size() - edges[j]) >= calm;
        if (n >= 3 && n % 2 == 1 && calmBefore && calmBehind && static_cast<double>(edges[j] - edges[i]) <= within)
            out.push_back({edges[i], edges[j], n});
        i = j + 1;
    }
    return out;
}

double correlation(std::span<const double> a, std::span<const double> b) {
    const std::size_t n = std::min(a.size(), b.size());
    const double va = varianceOf(a.first(n)), vb = varianceOf(b.first(n));
    if (!(va > 0) || !(vb > 0)) return 0;
    double meanA = 0, meanB = 0, product = 0;
    for (std::size_t i = 0; i < n; ++i) meanA += a[i] / double(n), meanB += b[i] / double(n);
    for (std::size_t i = 0; i < n; ++i) product += (a[i] - meanA) * (b[i] - meanB);
    return product / double(n) / std::sqrt(va * vb);
}

void takeAway(std::vector<double>& x, std::span<const double> other) {
    const std::size_t n = std::min(x.size(), other.size());
    const double own = varianceOf(std::span(x).first(n)), others = varianceOf(other.first(n));
    if (!(others > 0)) return;
    const double share = correlation(x, other) * std::sqrt(own / others);
    for (std::size_t i = 0; i < n; ++i) x[i] -= share * other[i];
}

}  // namespace cruscotto::signs
