#include "core/analysis/measures.h"

#include <numbers>
#include <random>

#include "core/analysis/sine_fit.h"
#include "support.h"

namespace cruscotto {
namespace {

constexpr double circle = 2 * std::numbers::pi;

struct Record {
    std::vector<double> values, seconds;
    std::string unit = "V";
    bool state = false;
    template <class F>
    Record(std::size_t n, double rate, F&& f) {
        for (std::size_t i = 0; i < n; ++i) {
            seconds.push_back(static_cast<double>(i) / rate);
            values.push_back(f(seconds.back()));
        }
    }
    [[nodiscard]] MeasuredStretch stretch() const { return {values, seconds, unit, state}; }
    [[nodiscard]] std::map<std::string, Measure> all() const { return measuresOf(stretch()); }
};

TEST(SineFit, ExactOnExactData) {
    for (const double hz : {3.0, 49.37, 211.1})
        for (const double phase : {0.3, -2.9}) {
            const Record r(2000, 1000, [&](double t) { return 1.7 * std::cos(circle * hz * t + phase) - 4; });
            const auto fit = sineThrough(r.values, r.seconds);
            ASSERT_TRUE(fit);
            EXPECT_NEAR(fit->amplitude / 1.7, 1, 1e-9) << hz;
            EXPECT_NEAR(fit->hz / hz, 1, 1e-9) << hz;
            EXPECT_NEAR(fit->phase, phase, 1e-9) << hz;
            EXPECT_NEAR(fit->offset, -4, 1e-9);
            EXPECT_LT(fit->residualRms, 1e-9);
        }
    // and at times that are not even
    std::mt19937 random(3);
    std::uniform_real_distribution<double> off(-0.2, 0.2);
    std::vector<double> t, y;
    for (int i = 0; i < 1000; ++i) {
        t.push_back((i + off(random)) * 1e-3);
        y.push_back(2 * std::cos(circle * 17 * t.back() + 1) + 1);
    }
    const auto fit = sineThrough(y, t);
    ASSERT_TRUE(fit);
    EXPECT_NEAR(fit->hz / 17, 1, 1e-9);
}

TEST(SineFit, AsGoodAsTheNoiseAllows) {
    // Cramer and Rao: var A >= 2 s^2 / n, var f >= 6 s^2 / (pi^2 A^2 n (T)^2) for many periods.
    constexpr int trials = 400;
    constexpr double amplitude = 1, noise = 0.05, rate = 1000, hz = 51.3;
    constexpr std::size_t n = 1000;
    std::mt19937 random(5);
    std::normal_distribution<double> normal(0, noise);
    double squaresA = 0, squaresF = 0, toldA = 0, toldF = 0;
    for (int k = 0; k < trials; ++k) {
        const double phase = 0.01 * k;
        const Record r(n, rate,
                       [&](double t) { return amplitude * std::cos(circle * hz * t + phase) + normal(random); });
        const auto fit = sineThrough(r.values, r.seconds);
        ASSERT_TRUE(fit);
        squaresA += (fit->amplitude - amplitude) * (fit->amplitude - amplitude) / trials;
        squaresF += (fit->hz - hz) * (fit->hz - hz) / trials;
        toldA += fit->uAmplitude / trials;
        toldF += fit->uHz / trials;
    }
    const double length = static_cast<double>(n) / rate;
    const double boundA = noise * std::sqrt(2.0 / n);
    const double boundF = noise / amplitude * std::sqrt(6.0 / n) / (std::numbers::pi * length);
    EXPECT_LT(std::sqrt(squaresA), 1.1 * boundA);
    EXPECT_LT(std::sqrt(squaresF), 1.1 * boundF);
    EXPECT_NEAR(toldA / boundA, 1, 0.05) << "and it says so";
    EXPECT_NEAR(toldF / boundF, 1, 0.05);
}

TEST(Measures, OfASquareWave) {
    const Record r(10'000, 1000, [](double t) { return std::fmod(t * 7, 1) < 0.3 ? 4.0 : 1.0; });
    auto m = r.all();
    EXPECT_EQ(m["count"].value, 10'000);
    EXPECT_NEAR(m["mean"].value, 1.9, 0.01);
    EXPECT_EQ(m["minimum"].value, 1);
    EXPECT_EQ(m["peak-to-peak"].value, 3);
    EXPECT_EQ(m["low-level"].value, 1);
    EXPECT_EQ(m["high-level"].value, 4);
    EXPECT_EQ(m["amplitude"].unit, "V");
    EXPECT_NEAR(m["frequency"].value, 7, 0.01);
    EXPECT_EQ(m["frequency"].unit, "Hz");
    EXPECT_NEAR(m["duty"].value, 0.3, 0.002);
    EXPECT_EQ(m["edges"].value, 139);
    EXPECT_TRUE(std::isnan(m["rise-time"].value));
    EXPECT_EQ(m["rise-time"].whyNot.english(), "the edge is shorter than two samples");
    EXPECT_NEAR(m["overshoot"].value, 0, 1e-9);
    EXPECT_NEAR(m["rms"].value, std::sqrt(0.3 * 16 + 0.7), 0.01);
    EXPECT_NEAR(m["area"].value, 19, 0.1);
    EXPECT_EQ(m["area"].unit, "V.s");
}

TEST(Measures, OfAnEdgeThatOvershoots) {
    // second order, damping 0.4: overshoot exp(-pi z / sqrt(1 - z^2)) = 25.38 %
    const double z = 0.4, w = 200, wd = w * std::sqrt(1 - z * z);
    const Record r(40'000, 10'000, [&](double t) {
        const double in = std::fmod(t, 1.0) - 0.5;
        if (in < 0) return 0.0;
        return 1 - std::exp(-z * w * in) * (std::cos(wd * in) + z * w / wd * std::sin(wd * in));
    });
    auto m = r.all();
    EXPECT_NEAR(m["overshoot"].value, 25.38, 0.2);
    EXPECT_NEAR(m["high-level"].value, 1, 0.01);
    // 10 to 90 % of it, by its own formula
    double ten = 0, ninety = 0;
    for (double t = 0; t < 0.02; t += 1e-6) {
        const double y = 1 - std::exp(-z * w * t) * (std::cos(wd * t) + z * w / wd * std::sin(wd * t));
        if (ten == 0 && y >= 0.1) ten = t;
        if (ninety == 0 && y >= 0.9) ninety = t;
    }
    EXPECT_NEAR(m["rise-time"].value, ninety - ten, 0.02 * (ninety - ten));
    // settled: from the middle of the edge until it stays within 2 %
    double middle = 0, settled = 0;
    for (double t = 0; t < 0.2; t += 1e-6) {
        const double y = 1 - std::exp(-z * w * t) * (std::cos(wd * t) + z * w / wd * std::sin(wd * t));
        if (middle == 0 && y >= 0.5) middle = t;
        if (std::fabs(y - 1) > 0.02) settled = t;
    }
    EXPECT_NEAR(m["settling-time"].value, settled - middle, 2e-4);
    EXPECT_NEAR(m["high-width"].value, 0.5 - middle, 2e-4);
}

TEST(Measures, OfAStateAreThoseOfTheTimeItLasts) {
    // as an event says it: only where it changes
    Record door(0, 1, [](double) { return 0.0; });
    door.state = true;
    door.values = {0, 1, 0, 1, 0, 1};
    door.seconds = {0, 2, 3, 5, 5.5, 9};
    MeasuredStretch stretch = door.stretch();
    stretch.lasts = 12;
    auto m = measuresOf(stretch);
    EXPECT_NEAR(m["on-share"].value, (1 + 0.5 + 3) / 12, 1e-12);
    EXPECT_EQ(m["changes"].value, 5);
    EXPECT_EQ(m["shortest-on"].value, 0.5);
    EXPECT_EQ(m["longest-on"].value, 3) << "until the end, at least";
    EXPECT_EQ(m["shortest-off"].value, 2) << "what is cut at the beginning may have been longer";
    EXPECT_EQ(m["longest-off"].value, 3.5);
    EXPECT_EQ(m["sine-amplitude"].whyNot.english(), "a state is no sine");
    door.values = {1};
    door.seconds = {0};
    stretch = door.stretch();
    stretch.lasts = 4;
    m = measuresOf(stretch);
    EXPECT_EQ(m["on-share"].value, 1);
    EXPECT_EQ(m["changes"].value, 0);
    EXPECT_EQ(m["longest-on"].value, 4);
    EXPECT_EQ(m["longest-off"].whyNot.english(), "it never was");
    const Record volts(100, 10, [](double t) { return t; });
    EXPECT_EQ(volts.all()["on-share"].whyNot.english(), "it does not go on and off");
}

TEST(Measures, OfASineWithHarmonicsAndOfNoise) {
    const Record r(5000, 10'000, [](double t) {
        return 2 * std::cos(circle * 60 * t) + 0.02 * std::cos(circle * 180 * t + 1) + 0.5;
    });
    auto m = r.all();
    EXPECT_NEAR(m["sine-amplitude"].value, 2, 1e-3);
    EXPECT_NEAR(m["sine-frequency"].value, 60, 1e-3);
    EXPECT_NEAR(m["thd"].value, -40, 0.05);
    EXPECT_NEAR(m["sinad"].value, 40, 0.05);
    EXPECT_EQ(m["clipped-share"].value, 0);
    std::mt19937 random(1);
    std::normal_distribution<double> normal;
    const Record noise(5000, 1000, [&](double) { return normal(random); });
    auto n = noise.all();
    EXPECT_TRUE(std::isnan(n["sine-amplitude"].value));
    EXPECT_NE(n["sine-amplitude"].whyNot.english().find("no sine"), std::string::npos);
    EXPECT_TRUE(std::isnan(n["frequency"].value)) << "it does not repeat";
    EXPECT_NEAR(n["standard-deviation"].value, 1, 0.05);
    EXPECT_NEAR(n["mean"].u, 1 / std::sqrt(5000.0), 0.004);
    EXPECT_NEAR(n["percentile-95"].value, 1.645, 0.1);
    EXPECT_NEAR(n["median"].value, 0, 0.06);
}

TEST(Measures, WhatIsNotThereHasItsReason) {
    const Record still(100, 10, [](double) { return 3.0; });
    auto m = still.all();
    EXPECT_EQ(m["mean"].value, 3);
    EXPECT_EQ(m["frequency"].whyNot.english(), "nothing moves");
    const Record none(0, 10, [](double) { return 0.0; });
    auto empty = none.all();
    for (const MeasureKind& kind : measureKinds()) {
        ASSERT_TRUE(empty.contains(kind.name)) << kind.name;
        if (kind.name != "count") EXPECT_EQ(empty[kind.name].whyNot.english(), "nothing was read") << kind.name;
        EXPECT_TRUE(m.contains(kind.name)) << kind.name;
        EXPECT_EQ(measureKind(kind.name), &kind);
    }
    const Record ramp(1000, 100, [](double t) { return 2 * t; });
    auto drift = ramp.all();
    EXPECT_NEAR(drift["slope"].value, 2, 1e-9);
    EXPECT_EQ(drift["slope"].unit, "V/s");
    EXPECT_TRUE(std::isnan(drift["frequency"].value));
    const Record saw(10'000, 1000, [](double t) { return std::fmod(3 * t, 1); });
    auto repeats = saw.all();
    EXPECT_NEAR(repeats["frequency"].value, 3, 0.01);
    EXPECT_EQ(repeats["high-level"].whyNot.english(), "it does not stand at two levels");
    Record holes(1000, 100, [](double t) { return t < 5 ? 1.0 : std::nan(""); });
    EXPECT_NEAR(holes.all()["area"].value, 4.99, 1e-9) << "nothing is added where nothing was read";
}

/// The units that a signal made of a measure has are those that the measures themselves have.
TEST(Measures, UnitsAreKnownBeforeThereIsAValue) {
    const Record square(4000, 1000, [](double t) { return std::fmod(t * 5, 1) < 0.5 ? 1.0 : -1.0; });
    const Record wave(4000, 1000, [](double t) { return std::cos(circle * 5 * t) + 0.01 * std::cos(circle * 15 * t); });
    std::size_t told = 0;
    for (const Record* r : {&square, &wave})
        for (const auto& [name, measure] : r->all()) {
            if (!measure.whyNot.empty()) continue;
            EXPECT_EQ(measureUnit(name, "V"), measure.unit) << name;
            ++told;
        }
    EXPECT_GT(told, 50U);
    for (const auto& [name, measure] : measuresOfTwo(wave.stretch(), wave.stretch()))
        if (measure.whyNot.empty()) EXPECT_EQ(measureUnit(name, "V", "V"), measure.unit) << name;
    EXPECT_EQ(measureUnit("gain", "V", "bar"), "V/bar");
    // one group alone tells the same
    EXPECT_EQ(measuresOf(wave.stretch(), MeasureGroup::asSine).at("sine-amplitude").value,
              measuresOf(wave.stretch()).at("sine-amplitude").value);
}

TEST(MeasuresOfTwo, AnInvertingAmplifierSaysSo) {
    const double hz = 23, delay = 1.5e-3;
    const Record in(2000, 1000, [&](double t) { return 0.6 * std::cos(circle * hz * t + 0.4); });
    const Record out(2000, 1000, [&](double t) { return -1.8 * std::cos(circle * hz * (t - delay) + 0.4) + 2; });
    auto m = measuresOfTwo(in.stretch(), out.stretch());
    EXPECT_NEAR(m["gain"].value, -3, 1e-8);
    EXPECT_NEAR(m["gain-db"].value, 20 * std::log10(3), 1e-8);
    EXPECT_NEAR(m["phase"].value, -360 * hz * delay, 1e-6);
    EXPECT_NEAR(m["delay"].value, delay, 1e-9);
    EXPECT_LT(m["correlation"].value, -0.9);
}

TEST(MeasuresOfTwo, WhatIsNoSineIsComparedByItsShape) {
    std::mt19937 random(9);
    std::normal_distribution<double> normal;
    std::vector<double> shape(3000);
    double state = 0;
    for (double& v : shape) v = state += 0.05 * (normal(random) - state);
    const Record a(2000, 1000, [&](double t) { return shape[static_cast<std::size_t>(std::lround(t * 1000)) + 500]; });
    const Record b(2000, 1000,
                   [&](double t) { return 4 * shape[static_cast<std::size_t>(std::lround(t * 1000)) + 493]; });
    auto m = measuresOfTwo(a.stretch(), b.stretch());
    EXPECT_NEAR(m["delay"].value, 0.007, 0.0003);
    EXPECT_TRUE(std::isnan(m["phase"].value));
    EXPECT_FALSE(m["phase"].whyNot.empty());
    // of different rates and units
    Record slow(200, 100, [&](double t) { return 1000 * (2 * t + 1); });
    slow.unit = "mV";
    const Record fast(2000, 1000, [](double t) { return 2 * t + 1; });
    auto same = measuresOfTwo(fast.stretch(), slow.stretch());
    EXPECT_NEAR(same["gain"].value, 1, 1e-6);
    EXPECT_NEAR(same["correlation"].value, 1, 1e-9);
}

}  // namespace
}  // namespace cruscotto
