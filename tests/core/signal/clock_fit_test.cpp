#include "core/signal/clock_fit.h"

#include <cmath>
#include <random>

#include "support.h"

namespace cruscotto {
namespace {

/// A device whose clock is off by `ppm`, fetched every 10 ms; each look is late by a latency that jitters.
struct Drifting {
    double rate = 10'000, ppm = 0;
    std::mt19937 random{1};
    ClockFit fit{rate};
    double t = 5;  // seconds on the bench's axis
    std::uint64_t taken = 0;
    double worst = 0;        // between where samples were placed and when they were taken, after the first 5 s
    double largestKink = 0;  // of the interval between samples, relative, after the first 5 s
    std::optional<double> lastDt;
    std::optional<double> expectedNext;

    void pass(double seconds, double latencyMs = 0.3, double jitterMs = 3) {
        const double end = t + seconds;
        for (; t < end; t += 0.01) {
            const auto now = static_cast<std::uint64_t>((t - 5) * rate * (1 + ppm * 1e-6));
            const double late = (latencyMs + jitterMs * std::uniform_real_distribution<double>(0, 1)(random)) * 1e-3;
            fit.observe(now, Instant{std::llround((t + late) * 1e9)});
            if (now == taken) continue;
            const auto placed = fit.place(taken, now - taken);
            if (expectedNext) {
                EXPECT_NEAR(static_cast<double>(placed.t0.ns), *expectedNext, 1.5) << "no hole and no overlap";
            }
            expectedNext = static_cast<double>(placed.t0.ns) + static_cast<double>(now - taken) * placed.dtNs;
            if (t > 10) {
                const double trueTime = 5 + static_cast<double>(taken) / (rate * (1 + ppm * 1e-6));
                worst = std::max(worst, std::fabs(static_cast<double>(placed.t0.ns) * 1e-9 - trueTime));
                if (lastDt) largestKink = std::max(largestKink, std::fabs(placed.dtNs / *lastDt - 1));
                lastDt = placed.dtNs;
            }
            taken = now;
        }
    }
};

TEST(ClockFit, FollowsAClockThatDrifts) {
    for (const double ppm : {0.0, 200.0, -200.0, 950.0}) {
        Drifting d;
        d.ppm = ppm;
        d.pass(120);
        EXPECT_NEAR(d.fit.ppm(), ppm, 3) << ppm;
        // a clock that is far off is followed within the first seconds
        EXPECT_LT(d.worst, 0.002 + std::fabs(ppm) * 4e-6) << ppm;
        EXPECT_LT(d.largestKink, 1e-3) << ppm << ": a trace is not bent";
    }
}

TEST(ClockFit, OneLateArrivalMovesNothing) {
    Drifting d;
    d.pass(20, 0.3, 0.1);
    const double before = d.worst;
    d.fit.observe(d.taken + 10, Instant{std::llround((d.t + 0.4) * 1e9)});
    d.pass(20, 0.3, 0.1);
    EXPECT_LT(d.worst, before + 0.0005);
}

TEST(ClockFit, ASlowClockIsPlacedInPiecesOfManySamples) {
    constexpr double rate = 10, drift = 200e-6;
    ClockFit fit(rate);
    std::map<double, int> pieces;
    double worst = 0;
    for (std::uint64_t taken = 1; taken <= 3000; ++taken) {
        const double trueSeconds = static_cast<double>(taken) / rate * (1 - drift);
        fit.observe(taken, Instant{std::llround((trueSeconds + 0.001 * static_cast<double>(taken * 7 % 11)) * 1e9)});
        const ClockFit::Placement p = fit.place(taken - 1, 1);
        ++pieces[p.dtNs];
        worst = std::max(worst, std::fabs(p.t0.seconds() - static_cast<double>(taken - 1) / rate * (1 - drift)));
    }
    EXPECT_LE(pieces.size(), 30U) << "a hundred samples or more";
    EXPECT_LT(worst, 0.012);
    EXPECT_NEAR(fit.ppm(), 200, 5);
}

TEST(ClockFit, BehindALossItGoesOnAtTheRightTime) {
    ClockFit fit(1000);
    std::uint64_t taken = 0;
    for (int i = 0; i < 1000; ++i) {
        taken += 10;
        fit.observe(taken, Instant{static_cast<std::int64_t>(taken) * 1'000'000});
        fit.place(taken - 10, 10);
    }
    taken += 5000;  // five seconds that nobody fetched
    fit.observe(taken + 10, Instant{static_cast<std::int64_t>(taken + 10) * 1'000'000});
    EXPECT_NEAR(static_cast<double>(fit.place(taken, 10).t0.ns), static_cast<double>(taken) * 1e6, 2e5);
}

}  // namespace
}  // namespace cruscotto
