#include "core/analysis/spectrum.h"

#include <fftw3.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <memory>
#include <mutex>
#include <numbers>

#include "core/analysis/straight_line.h"

namespace cruscotto {

namespace {

std::vector<double> windowOf(SpectrumWindow kind, std::size_t n) {
    // terms of the sum of cosines
    static constexpr std::array<double, 5> hann{0.5, 0.5, 0, 0, 0};
    static constexpr std::array<double, 5> blackmanHarris{0.35875, 0.48829, 0.14128, 0.01168, 0};
    static constexpr std::array<double, 5> flatTop{1, 1.933, 1.286, 0.388, 0.0322};
    const auto& a = kind == SpectrumWindow::frequency ? hann : kind == SpectrumWindow::level ? flatTop : blackmanHarris;
    std::vector<double> out(n);
    for (std::size_t i = 0; i < n; ++i) {
        const double phase = 2 * std::numbers::pi * static_cast<double>(i) / static_cast<double>(n);
        out[i] = a[0];
        for (std::size_t k = 1; k < a.size(); ++k)
            out[i] += (k % 2 == 1 ? -1 : 1) * a[k] * std::cos(static_cast<double>(k) * phase);
    }
    return out;
}

/// The same window is asked for again and again.
const std::vector<double>& cachedWindow(SpectrumWindow kind, std::size_t n) {
    struct Made {
        SpectrumWindow kind{};
        std::vector<double> w;
    };
    thread_local std::array<Made, 3> made;
    thread_local std::size_t oldest = 0;
    for (const Made& m : made)
        if (m.kind == kind && m.w.size() == n) return m.w;
    Made& next = made.at(oldest);
    oldest = (oldest + 1) % made.size();
    next = {kind, windowOf(kind, n)};
    return next.w;
}

/// Plans are made under a lock, once for a length, and run by any thread.
class Plans {
public:
    static fftw_plan of(std::size_t n) {
        static Plans all;
        const std::lock_guard lock(all.mutex_);
        auto& plan = all.plans_[n];
        if (!plan) {
            double* in = fftw_alloc_real(n);
            fftw_complex* out = fftw_alloc_complex(n / 2 + 1);
            plan.reset(fftw_plan_dft_r2c_1d(static_cast<int>(n), in, out, FFTW_ESTIMATE));
            fftw_free(in);
            fftw_free(out);
        }
        return plan.get();
    }

private:
    struct Destroy {
        void operator()(fftw_plan plan) const { fftw_destroy_plan(plan); }
    };
    std::mutex mutex_;
    std::map<std::size_t, std::unique_ptr<fftw_plan_s, Destroy>> plans_;
};

struct Free {
    void operator()(void* p) const { fftw_free(p); }
};

/// How many lines a window spreads a sine over, to one side.
std::size_t footOf(SpectrumWindow window) {
    return window == SpectrumWindow::frequency ? 2 : window == SpectrumWindow::both ? 4 : 5;
}

}  // namespace

std::size_t fastLength(std::size_t n) {
    const auto fast = [](std::size_t m) {
        for (const std::size_t factor : {2, 3, 5, 7})
            while (m % factor == 0) m /= factor;
        return m == 1;
    };
    for (std::size_t m = n; m > 1; --m)
        if (fast(m)) return m;
    return n;
}

Spectrum spectrumOf(std::span<const double> x, double rateHz, std::size_t length, SpectrumWindow window,
                    std::size_t averages) {
    Spectrum out;
    constexpr std::size_t fewest = 16;
    if (length < fewest || x.size() < length || !(rateHz > 0) || averages == 0) return out;
    const std::vector<double>& w = cachedWindow(window, length);
    double sum = 0, squares = 0;
    for (const double v : w) sum += v, squares += v * v;
    const auto n = static_cast<double>(length);
    out.stepHz = rateHz / n;
    out.noiseBandwidth = n * squares / (sum * sum);
    out.power.assign(length / 2 + 1, 0);
    const std::size_t step = std::max<std::size_t>(1, length / 2);
    const std::size_t most = std::min(averages, (x.size() - length) / step + 1);
    const std::unique_ptr<double, Free> in(fftw_alloc_real(length));
    const std::unique_ptr<fftw_complex, Free> lines(fftw_alloc_complex(length / 2 + 1));
    const fftw_plan plan = Plans::of(length);
    for (std::size_t k = 0; k < most; ++k) {
        const auto part = x.subspan(x.size() - length - k * step, length);
        double mean = 0;
        for (const double v : part) mean += v / n;
        for (std::size_t i = 0; i < length; ++i) in.get()[i] = (part[i] - mean) * w[i];
        fftw_execute_dft_r2c(plan, in.get(), lines.get());
        for (std::size_t i = 0; i < out.power.size(); ++i) {
            const double re = lines.get()[i][0], im = lines.get()[i][1];
            // both halves of the frequencies fall on one, but for the ends
            const double sides = i == 0 || 2 * i == length ? 1 : 2;
            out.power[i] += sides * (re * re + im * im) / (sum * sum) / static_cast<double>(most);
        }
    }
    out.averages = most;
    return out;
}

std::vector<SpectrumPeak> peaksOf(const Spectrum& s, SpectrumWindow window, std::size_t most) {
    constexpr double standsOut = 10;
    constexpr std::size_t around = 24;
    const std::size_t foot = footOf(window), n = s.power.size();
    std::vector<std::size_t> tops;
    for (std::size_t i = foot; i + 1 < n; ++i) {
        const double p = s.power[i];
        if (!(p > 0) || p < s.power[i - 1] || p <= s.power[i + 1]) continue;
        const std::size_t begin = i > around ? i - around : 1, end = std::min(n, i + around + 1);
        if (*std::max_element(s.power.begin() + static_cast<std::ptrdiff_t>(i > foot ? i - foot : 1),
                              s.power.begin() + static_cast<std::ptrdiff_t>(std::min(n, i + foot + 1))) > p)
            continue;
        if (p > standsOut * medianOf({s.power.begin() + static_cast<std::ptrdiff_t>(begin),
                                      s.power.begin() + static_cast<std::ptrdiff_t>(end)}))
            tops.push_back(i);
    }
    std::ranges::sort(tops, [&](std::size_t a, std::size_t b) { return s.power[a] > s.power[b]; });
    std::vector<SpectrumPeak> out;
    for (const std::size_t i : tops) {
        if (out.size() == most) break;
        const double l = std::log(std::max(s.power[i - 1], 1e-300)), m = std::log(s.power[i]),
                     r = std::log(std::max(s.power[i + 1], 1e-300)), bend = l - 2 * m + r;
        const double off = bend < 0 ? std::clamp(0.5 * (l - r) / bend, -0.5, 0.5) : 0;
        const double top = bend < 0 ? m - 0.25 * (l - r) * off : m;
        out.push_back({s.stepHz * (static_cast<double>(i) + off), std::sqrt(2 * std::exp(top))});
    }
    return out;
}

std::vector<Band> bandsOf(const Spectrum& s, int perOctave) {
    std::vector<Band> out;
    if (s.power.size() < 16) return out;
    constexpr double reference = 1000;
    // an octave is the ratio 10^(3/10)
    const double step = 3.0 / 10 / perOctave, half = std::pow(10, step / 2);
    constexpr double fewestLines = 5;
    const double from = s.stepHz * fewestLines, to = s.hz(s.power.size() - 1);
    for (int k = static_cast<int>(std::ceil(std::log10(from / reference) / step));; ++k) {
        Band b;
        b.middle = reference * std::pow(10, step * k);
        b.low = b.middle / half;
        b.high = b.middle * half;
        if (b.high > to) break;
        if (b.low < from) continue;
        // each line stands for half a step to either side
        const auto first = static_cast<std::size_t>(b.low / s.stepHz + 0.5);
        for (std::size_t i = first; i < s.power.size(); ++i) {
            const double low = std::max(b.low, s.hz(i) - s.stepHz / 2), high = std::min(b.high, s.hz(i) + s.stepHz / 2);
            if (high <= low) break;
            b.power += s.density(i) * (high - low);
        }
        out.push_back(b);
    }
    return out;
}

double nominalHz(double exactHz) {
    // the preferred numbers of series R 10
    static constexpr std::array nominal{1.0, 1.25, 1.6, 2.0, 2.5, 3.15, 4.0, 5.0, 6.3, 8.0};
    const double place = 10 * std::log10(exactHz);
    const long long k = std::llround(place);
    const long long decade = k >= 0 ? k / 10 : (k - 9) / 10;
    return nominal[static_cast<std::size_t>(k - 10 * decade)] * std::pow(10, static_cast<double>(decade));
}

}  // namespace cruscotto
