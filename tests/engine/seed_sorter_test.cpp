// The example bench of the seed sorter, against what the plant is in truth.
#include <cmath>

#include "core/base/units.h"
#include "core/bench/stretch_measures.h"
#include "devices/device_kind.h"
#include "engine/engine.h"
#include "sim/seed_sorter.h"
#include "support.h"

namespace cruscotto {
namespace {

TEST(SeedSorter, EverySensorReadsWhatIsThere) {
    auto bench = loadBench(test::example("seed-sorter"), checkDevices);
    ASSERT_TRUE(bench.ok()) << bench.error().english();
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    const double time = 38;
    options.until = seconds(time);
    const auto engine = Engine::start(bench.value(), options);
    engine->wait();
    sim::SeedSorter plant(1);
    plant.drive(5, {true, true, true, true});
    double speed = 0;
    for (int i = 0; i < 5000 * time; ++i) {
        const double before = plant.beltMetres();
        plant.step(1 / 5000.0);
        speed = (plant.beltMetres() - before) * 5000;
    }
    const auto reads = [&](const char* id) {
        const Reading r = engine->source().at(id, engine->now());
        EXPECT_EQ(r.quality, Quality::good) << id << ": " << qualityWord(r.quality);
        return r.value;
    };
    EXPECT_NEAR(reads("hopper"), plant.hopperKg(), 0.1);
    EXPECT_NEAR(reads("excitation"), plant.excitationV(), 0.001);
    EXPECT_NEAR(reads("drum"), plant.drumC(), 0.05);
    EXPECT_NEAR(reads("level"), plant.levelCm(), 0.5);
    EXPECT_NEAR(reads("humidity"), plant.humidity(), 0.1);
    EXPECT_NEAR(reads("belt"), plant.beltMetres(), 0.001);
    EXPECT_NEAR(reads("belt-speed"), speed, 0.01);
    EXPECT_NEAR(reads("tray-time"), 0.2 / speed, 0.01);
    // Each seed once, although it rings and although groups fall within 15 ms.
    ASSERT_GT(plant.seeds(), 30U);
    EXPECT_EQ(reads("hits"), static_cast<double>(plant.seeds()));
    const double x = std::log(plant.humidity() / 100) + 17.62 * plant.drumC() / (243.12 + plant.drumC());
    EXPECT_NEAR(reads("dew-point"), 243.12 * x / (17.62 - x), 0.1);
}

TEST(SeedSorter, TheSupplyThatSagsCancelsOut) {
    sim::SeedSorter at5(1), at0(1);
    at5.drive(10, {});
    for (int i = 0; i < 5000; ++i) at5.step(1e-3), at0.step(1e-3);
    EXPECT_LT(at5.excitationV(), at0.excitationV() - 0.1);
    EXPECT_NEAR(at5.sources()[0].volts / at5.excitationV(), at0.sources()[0].volts / at0.excitationV(), 1e-5);
}

TEST(SeedSorter, TheAmplifiersGainPhaseAndDelayAreMeasuredAtEachStepAndFrequency) {
    const Bench example = test::exampleBench("seed-sorter");
    constexpr double gains[] = {0.5, 1, 3, 8}, percent = 0.005;
    constexpr double rail = sim::SeedSorter::amplifierRail, delay = sim::SeedSorter::amplifierDelay, drives = 0.6;
    for (const double hz : {3.0, 10.0, 40.0})
        for (int step = 0; step < 4; ++step) {
            SCOPED_TRACE(testing::Message() << hz << " Hz, step " << step);
            Bench bench = example;
            DeviceSpec box = *bench.device("box");
            box.settings.insert(box.settings.rfind('}'), ", \"sieve-hz\": " + std::to_string(hz));
            bench = withDevice(bench, box);
            for (const auto& [id, bit] : {std::pair("gain-1", 1), std::pair("gain-2", 2)}) {
                SignalSpec s = *bench.signal(id);
                s.output->start = step & bit ? 1 : 0;
                bench = withSignal(bench, s);
            }
            EngineOptions options;
            options.pace = Pace::asFastAsPossible;
            options.until = seconds(12);
            const auto engine = Engine::start(bench, options);
            engine->wait();
            const Span last{engine->now() - seconds(10), engine->now()};
            auto measured = measuresOver(bench, engine->source(), "sieve", "exciter", last);
            ASSERT_TRUE(measured.ok());
            const auto& m = measured.value().all;
            const bool clipped = gains[step] * drives > rail;
            if (!clipped) {
                EXPECT_NEAR(m.at("gain").value, -gains[step], percent * gains[step]);
                EXPECT_NEAR(m.at("phase").value, -360 * hz * delay, percent * 360 * hz * delay);
                EXPECT_NEAR(m.at("sine-frequency").value, hz, 1e-3 * hz);
            }
            EXPECT_NEAR(m.at("delay").value, delay, percent * delay);
            EXPECT_EQ(m.at("gain").note.empty(), !clipped) << "a clipped step says so";
            const double share = clipped ? 2 * std::acos(rail / (gains[step] * drives)) / 3.14159265 : 0;
            EXPECT_NEAR(m.at("clipped-share").value, share, 0.03);
        }
}

}  // namespace
}  // namespace cruscotto
