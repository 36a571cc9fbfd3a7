#include "core/analysis/spectrum.h"

#include <cmath>
#include <numbers>
#include <random>

#include "support.h"

namespace cruscotto {
namespace {

constexpr double wholeCircle = 2 * std::numbers::pi;
const SpectrumWindow windows[] = {SpectrumWindow::frequency, SpectrumWindow::both, SpectrumWindow::level};

std::vector<double> samplesOf(std::size_t n, double rate, const std::function<double(double)>& f) {
    std::vector<double> out(n);
    for (std::size_t i = 0; i < n; ++i) out[i] = f(static_cast<double>(i) / rate);
    return out;
}

/// Parseval: the density over all frequencies is the mean square of the samples.
TEST(Spectrum, HoldsAsMuchPowerAsTheSamples) {
    // sines on lines: whatever the window, all of their power and no more
    const auto sines = samplesOf(2000, 1000, [](double t) {
        return 2 * std::sin(wholeCircle * 50 * t + 1) + std::cos(wholeCircle * 131 * t) +
               0.5 * std::sin(wholeCircle * 333 * t + 2);
    });
    for (const SpectrumWindow window : windows) {
        const Spectrum s = spectrumOf(sines, 1000, 1000, window, 3);
        double all = 0;
        for (std::size_t i = 0; i < s.power.size(); ++i) all += s.density(i) * s.stepHz;
        EXPECT_NEAR(all, (4 + 1 + 0.25) / 2, 1e-12);
    }
    std::mt19937 random(1);
    std::normal_distribution<double> normal(0, 3);
    // many stretches weigh all alike
    std::vector<double> x(100'000);
    for (double& v : x) v = normal(random);
    for (const SpectrumWindow window : windows) {
        const Spectrum s = spectrumOf(x, 500, 1000, window, 1000);
        double all = 0;
        for (std::size_t i = 0; i < s.power.size(); ++i) all += s.density(i) * s.stepHz;
        EXPECT_NEAR(all, 9, 0.2);
        EXPECT_EQ(s.averages, 199U);
        // white: each hertz of the 250 holds the same
        EXPECT_NEAR(s.density(100), 9.0 / 250, 0.012);
    }
}

TEST(Spectrum, ALineHasTheAmplitudeOfItsSine) {
    const auto x = samplesOf(4000, 1000, [](double t) { return 2.5 * std::sin(wholeCircle * 100 * t + 1) + 7; });
    for (const SpectrumWindow window : windows) {
        const Spectrum s = spectrumOf(x, 1000, 1000, window, 4);
        EXPECT_EQ(s.stepHz, 1);
        EXPECT_NEAR(std::sqrt(2 * s.power[100]), 2.5, 1e-9);
        EXPECT_LT(s.power[300], 1e-8);
    }
    // between two lines a level is read with the flat top only
    const auto between = samplesOf(4000, 1000, [](double t) { return 2.5 * std::sin(wholeCircle * 100.5 * t + 1); });
    const Spectrum level = spectrumOf(between, 1000, 1000, SpectrumWindow::level, 4);
    EXPECT_NEAR(std::sqrt(2 * level.power[100]), 2.5, 0.005);
    const Spectrum frequency = spectrumOf(between, 1000, 1000, SpectrumWindow::frequency, 4);
    EXPECT_LT(std::sqrt(2 * frequency.power[100]), 2.2);
}

TEST(Spectrum, PeaksAreFoundBetweenTheLinesAndTheFeetOfTallOnesAreNot) {
    std::mt19937 random(2);
    std::normal_distribution<double> normal(0, 0.05);
    const auto x = samplesOf(8000, 2000, [&](double t) {
        return std::sin(wholeCircle * 33.37 * t) + 0.1 * std::sin(wholeCircle * 66.74 * t) + normal(random);
    });
    for (const SpectrumWindow window : windows) {
        const Spectrum s = spectrumOf(x, 2000, 2000, window, 8);
        const auto peaks = peaksOf(s, window, 10);
        ASSERT_EQ(peaks.size(), 2U);
        // a flat top is no parabola: it tells the line, not more
        const double within = window == SpectrumWindow::level ? 0.5 : 0.1;
        EXPECT_NEAR(peaks[0].hz, 33.37, within);
        EXPECT_NEAR(peaks[0].amplitude, 1, 0.04);
        EXPECT_NEAR(peaks[1].hz, 66.74, within);
        EXPECT_NEAR(peaks[1].amplitude, 0.1, 0.01);
    }
    const auto noise = samplesOf(8000, 2000, [&](double) { return normal(random); });
    EXPECT_TRUE(peaksOf(spectrumOf(noise, 2000, 500, SpectrumWindow::both, 30), SpectrumWindow::both, 5).empty());
}

/// IEC 61260-1: middles 10^(n/10) of thirds, their nominal names, and no gap between bands.
TEST(Spectrum, BandsAreThoseOfTheStandard) {
    std::mt19937 random(3);
    std::normal_distribution<double> normal;
    std::vector<double> x(200'000);
    for (double& v : x) v = normal(random);
    const Spectrum s = spectrumOf(x, 20'000, 20'000, SpectrumWindow::frequency, 100);
    const auto thirds = bandsOf(s, 3), octaves = bandsOf(s, 1);
    ASSERT_GT(thirds.size(), 25U);
    for (std::size_t i = 1; i < thirds.size(); ++i) EXPECT_NEAR(thirds[i].low / thirds[i - 1].high, 1, 1e-12);
    const auto thousand = std::ranges::find_if(thirds, [](const Band& b) { return std::fabs(b.middle - 1000) < 1e-6; });
    ASSERT_NE(thousand, thirds.end());
    EXPECT_NEAR(thousand->low, 891.25, 0.01);
    EXPECT_NEAR(thousand->high, 1122.02, 0.01);
    // white noise: as much as the band is wide, of 10 kHz
    EXPECT_NEAR(thousand->power, (thousand->high - thousand->low) / 10'000, 0.002);
    EXPECT_EQ(nominalHz(std::pow(10, 1.5)), 31.5);
    EXPECT_NEAR(nominalHz(std::pow(10, 2.1)), 125, 1e-9);
    EXPECT_NEAR(nominalHz(std::pow(10, -0.3)), 0.5, 1e-12);
    EXPECT_NEAR(nominalHz(std::pow(10, 3.9)), 8000, 1e-9);
    double all = 0;
    for (const Band& b : octaves) all += b.power;
    EXPECT_NEAR(all, (octaves.back().high - octaves.front().low) / 10'000, 0.02);
}

TEST(Spectrum, OfTooFewSamplesThereIsNone) {
    EXPECT_TRUE(spectrumOf(std::vector<double>(99), 10, 100, SpectrumWindow::both, 4).power.empty());
    EXPECT_TRUE(spectrumOf({}, 10, 100, SpectrumWindow::both, 4).power.empty());
    EXPECT_TRUE(spectrumOf(std::vector<double>(99), 0, 50, SpectrumWindow::both, 4).power.empty());
    EXPECT_TRUE(peaksOf(Spectrum{}, SpectrumWindow::both, 4).empty());
    EXPECT_TRUE(bandsOf(Spectrum{}, 3).empty());
}

}  // namespace
}  // namespace cruscotto
