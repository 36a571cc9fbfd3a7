#include "sim/pump_bench.h"

#include <cmath>

#include "core/chain/chain.h"
#include "sim/thermo.h"
#include "support.h"

namespace cruscotto::sim {
namespace {

/// Rows of a CSV of numbers with '#' comments and a heading.
std::vector<std::vector<std::string>> rows(const std::string& path) {
    std::vector<std::vector<std::string>> out;
    std::istringstream file(test::readFile(path));
    std::string line;
    while (std::getline(file, line)) {
        if (line.empty() || line[0] == '#' || !std::isdigit(static_cast<unsigned char>(line.back()))) continue;
        std::istringstream cells(line);
        out.emplace_back();
        for (std::string cell; std::getline(cells, cell, ',');) out.back().push_back(cell);
    }
    return out;
}

TEST(Thermo, AgreesWithThePublishedPoints) {
    // ITS-90: type T at 100 and 300 degC; IEC 60751: Pt100. Tables round to 0.001 mV and 0.01 ohm.
    EXPECT_NEAR(thermocoupleT(100), 4.279, 0.0006);
    EXPECT_NEAR(thermocoupleT(300), 14.862, 0.0006);
    EXPECT_EQ(thermocoupleT(0), 0);
    EXPECT_NEAR(pt100(0), 100.00, 0.005);
    EXPECT_NEAR(pt100(100), 138.51, 0.006);
    EXPECT_NEAR(pt100(400), 247.09, 0.006);
    EXPECT_NEAR(pt100(850), 390.48, 0.006);
}

TEST(Thermo, AgreesWithTheReferenceFilesWhereTheyAreAtHand) {
    const std::string folder = std::string(test::sourceFolder) + "/../shared/reference/";
    if (!std::filesystem::exists(folder)) GTEST_SKIP() << "the reference values are not beside the source";
    int checked = 0;
    for (const auto& row : rows(folder + "thermocouple_points.csv"))
        if (row[0] == "T" && std::stod(row[1]) >= 0) {
            EXPECT_NEAR(thermocoupleT(std::stod(row[1])), std::stod(row[2]), 0.0006);
            ++checked;
        }
    for (const auto& row : rows(folder + "resistance_thermometer_points.csv"))
        if (std::stod(row[0]) >= 0) {
            EXPECT_NEAR(pt100(std::stod(row[0])), std::stod(row[1]), 0.006);
            ++checked;
        }
    EXPECT_GE(checked, 6);
}

TEST(Thermo, TheExampleChainsReadTheSensorsBack) {
    const Bench bench = test::exampleBench("pump-bench");
    const auto reading = [&](const char* signal, double volts) {
        const SignalSpec* s = bench.signal(signal);
        const Stage& c = s->chain.front();
        auto chain = ChainEvaluator::make(s->chain, s->kind);
        Readings out;
        const std::vector<double> coldJunction{24};
        const std::vector<std::span<const double>> needed(neededSignals(s->chain).size(), coldJunction);
        chain.value().process({std::round(volts / ((c.number("high") - c.number("low")) / 65536))}, {Instant{}}, out,
                              needed);
        return out.values.front();
    };
    for (const double t : {30.0, 58.0, 75.0})
        EXPECT_NEAR(reading("bearing-temperature", (thermocoupleT(t) - thermocoupleT(24)) * 1e-3), t, 0.1);
    for (const double t : {5.0, 21.5, 60.0}) EXPECT_NEAR(reading("water-temperature", pt100(t) * 1e-3), t, 0.05);
    EXPECT_NEAR(reading("outlet-pressure", 1 + 4 * 0.33), 3.3, 0.002);   // 4 to 20 mA over 250 ohm
    EXPECT_NEAR(reading("inlet-pressure", 0.5 + 4 * 0.48), 0.2, 0.001);  // ratiometric 0.5 to 4.5 V, -1 to 1.5 bar
    EXPECT_NEAR(reading("motor-current", 0.025), 10, 0.01);              // 50 mV at 20 A
}

void run(PumpBench& bench, double s) {
    for (int i = 0; i < static_cast<int>(s * 1000); ++i) bench.step(1e-3);
}

TEST(PumpBench, IsExactlyRepeatableFromItsSeed) {
    PumpBench a(7), b(7), c(8);
    for (PumpBench* bench : {&a, &b, &c}) {
        bench->driveVolts = 7;
        bench->valveOpen = true;
        run(*bench, 5);
    }
    EXPECT_EQ(a.volts(), b.volts());
    EXPECT_EQ(a.pulses(), b.pulses());
    EXPECT_NE(a.volts(), c.volts());
}

TEST(PumpBench, PhysicsHangTogether) {
    PumpBench bench(1);
    run(bench, 2);
    EXPECT_LT(bench.flowLpm(), 0.1) << "no drive, no flow";
    bench.driveVolts = 5;
    bench.valveOpen = true;
    bench.step(1e-3);
    EXPECT_LT(bench.speedRpm(), 10) << "a shaft has inertia";
    run(bench, 15);
    const double half = bench.speedRpm(), flowHalf = bench.flowLpm(), currentHalf = bench.currentA();
    EXPECT_NEAR(half, 1450, 15);
    bench.driveVolts = 10;
    run(bench, 37);  // a whole round of the demand later
    EXPECT_NEAR(bench.speedRpm(), 2900, 15);
    EXPECT_NEAR(bench.flowLpm() / flowHalf, 2, 0.35) << "flow follows speed";
    EXPECT_GT(bench.currentA(), 4 * currentHalf) << "power follows the cube of speed";
    EXPECT_GT(bench.outletBar(), bench.inletBar() + 2);
    EXPECT_GT(bench.bearingC(), 30) << "the bearing warms up";
    bench.valveOpen = false;
    run(bench, 3);
    EXPECT_LT(bench.flowLpm(), 5);
    EXPECT_GT(bench.outletBar(), 4.5) << "a closed valve gives the highest head";
    EXPECT_TRUE(bench.levels()[3]);
    EXPECT_FALSE(bench.levels()[2]);
}

TEST(PumpBench, FaultsShowWhereTheyWould) {
    PumpBench bench(1);
    bench.driveVolts = 7;
    bench.valveOpen = true;
    run(bench, 10);
    bench.faults.brokenOutletWire = true;
    bench.step(1e-3);
    EXPECT_LT(std::fabs(bench.volts()[1]), 0.01);
    bench.faults = {};
    bench.faults.stalledShaft = true;
    run(bench, 1);
    EXPECT_EQ(bench.speedRpm(), 0);
    EXPECT_GT(bench.currentA(), 10) << "a stalled motor draws a lot";
    bench.faults = {};
    run(bench, 10);
    const double before = bench.outletBar();
    bench.faults.dryRunning = true;
    run(bench, 5);
    EXPECT_LT(bench.outletBar(), before / 2);
    bench.faults = {};
    bench.faults.clippedVibration = true;
    for (int i = 0; i < 500; ++i) {
        bench.step(1e-3);
        EXPECT_LE(std::fabs(bench.volts()[5]), 0.0251);
    }
}

TEST(PumpBench, TheSpareInputWandersWithHumAndItsNeighbour) {
    PumpBench bench(1);
    bench.driveVolts = 9;
    bench.valveOpen = true;
    run(bench, 10);
    double hum = 0, neighbour = 0, both = 0, power = 0;
    for (int i = 0; i < 4000; ++i) {
        bench.step(1e-3);
        const double v = bench.volts()[6], g = bench.volts()[5];
        hum += v * std::sin(2 * 3.14159265358979 * 50 * (10 + (i + 1) * 1e-3)) / 2000;
        both += v * g;
        neighbour += g * g;
        power += v * v;
    }
    EXPECT_NEAR(hum, 0.09, 0.01) << "50 Hz amplitude in volts";
    EXPECT_NEAR(both / neighbour, 0.35, 0.1) << "crosstalk from AI6";
    EXPECT_GT(power, 1);
}

TEST(PumpBench, ContactsBounceAndThenRest) {
    PumpBench bench(1);
    int changes = 0;
    double lastChange = 0;
    bool level = bench.levels()[1];
    for (int i = 0; i < 66'000; ++i) {
        bench.step(1e-3);
        if (bench.levels()[1] != level) {
            ++changes;
            lastChange = (i + 1) * 1e-3;
        }
        level = bench.levels()[1];
    }
    EXPECT_TRUE(level) << "the guard door is open from 62 s to 69 s";
    EXPECT_GT(changes, 1) << "the contact bounces";
    EXPECT_NEAR(lastChange, 62, 0.02);
}

}  // namespace
}  // namespace cruscotto::sim
