#include <cmath>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "core/chain/chain.h"
#include "core/chain/stage_kind.h"
#include "core/chain/stages/thermocouple_functions.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

/// What the stages make of one value in this unit, with the quality that it gets.
std::pair<double, Quality> made(const ChainSpec& stages, const char* unit, double in) {
    ChainSpec chain{slopeOffset(1, 0, unit)};
    chain.insert(chain.end(), stages.begin(), stages.end());
    auto evaluator = ChainEvaluator::make(chain, ChannelKind::analogInput);
    EXPECT_TRUE(evaluator) << evaluator.error().english();
    Readings out;
    evaluator.value().process({in}, {Instant{}}, out);
    return {out.values[0], out.quality.empty() ? Quality::good : out.quality.back().quality};
}

Stage thermocouple(const char* type, double coldJunction, const char* burnOut = "none") {
    return Stage::of("thermocouple",
                     {{"type", type}, {"cold-junction", StageSource{"", coldJunction, "Cel"}}, {"burn-out", burnOut}});
}

struct PublishedPoint {
    std::string type;
    double celsius, millivolts;
};

/// Published points; tables round to 0.001 mV.
std::vector<PublishedPoint> publishedPoints() {
    std::ifstream file(std::string(CRUSCOTTO_SOURCE) + "/tests/core/chain/thermocouple_points.csv");
    std::vector<PublishedPoint> out;
    for (std::string line; std::getline(file, line);) {
        if (line.empty() || line[0] == '#' || line.starts_with("type")) continue;
        std::replace(line.begin(), line.end(), ',', ' ');
        std::istringstream words(line);
        PublishedPoint p;
        words >> p.type >> p.celsius >> p.millivolts;
        out.push_back(p);
    }
    return out;
}

TEST(Thermocouple, MeetsThePublishedPointsForwardAndBackward) {
    const auto points = publishedPoints();
    ASSERT_GE(points.size(), 20U);
    for (const PublishedPoint& p : points) {
        const auto* f = ThermocoupleFunction::of(p.type);
        ASSERT_TRUE(f) << p.type;
        EXPECT_NEAR(f->millivolts(p.celsius), p.millivolts, 0.00051) << p.type << " at " << p.celsius;
        // A table's last digit is worth as many degrees as the type is insensitive.
        const double digit = 0.0005 / f->slope(p.celsius);
        EXPECT_NEAR(made({thermocouple(p.type.c_str(), 0)}, "mV", p.millivolts).first, p.celsius, digit + 0.001)
            << p.type << " at " << p.celsius;
    }
}

TEST(Thermocouple, ThereAndBackWithinAThousandthOfADegreeOverTheWholeRangeOfEveryType) {
    for (const char* type : {"B", "E", "J", "K", "N", "R", "S", "T"}) {
        const auto* f = ThermocoupleFunction::of(type);
        auto evaluator =
            ChainEvaluator::make({slopeOffset(1, 0, "mV"), thermocouple(type, 0)}, ChannelKind::analogInput);
        ASSERT_TRUE(evaluator);
        const double from = type[0] == 'B' ? 50 : f->range().low;
        std::vector<double> mv, celsius;
        for (double t = from; t < f->range().high; t += 0.137) celsius.push_back(t), mv.push_back(f->millivolts(t));
        celsius.push_back(f->range().high), mv.push_back(f->unique().high);
        Readings out;
        evaluator.value().process(mv, std::vector<Instant>(mv.size()), out);
        for (std::size_t i = 0; i < mv.size(); ++i)
            ASSERT_NEAR(out.values[i], celsius[i], 0.001) << type << " at " << celsius[i];
        EXPECT_TRUE(out.quality.empty()) << type;
    }
}

TEST(Thermocouple, TheColdJunctionIsAddedAsAVoltageAndMayBeInAnyUnit) {
    const auto* k = ThermocoupleFunction::of("K");
    const double mv = k->millivolts(300) - k->millivolts(22.5);
    EXPECT_NEAR(made({thermocouple("K", 22.5)}, "mV", mv).first, 300, 0.001);
    EXPECT_NEAR(made({thermocouple("K", 22.5)}, "V", mv / 1000).first, 300, 0.001);
    EXPECT_NEAR(made({thermocouple("K", 22.5)}, "uV", mv * 1000).first, 300, 0.001);
    const Stage fahrenheit = thermocouple("K", 0).with("cold-junction", StageSource{"", 72.5, "[degF]"});
    EXPECT_NEAR(made({fahrenheit}, "mV", mv).first, 300, 0.001);
}

TEST(Thermocouple, ASignalAsColdJunctionIsTakenSampleBySample) {
    const auto* t = ThermocoupleFunction::of("T");
    auto evaluator = ChainEvaluator::make(
        {slopeOffset(1, 0, "mV"), thermocouple("T", 0).with("cold-junction", StageSource{"box-temperature"})},
        ChannelKind::analogInput, {"K"});
    ASSERT_TRUE(evaluator);
    const std::vector<double> box{293.15, 303.15, std::nan("")};
    const std::vector<double> mv{t->millivolts(100) - t->millivolts(20), t->millivolts(100) - t->millivolts(30), 3};
    const std::vector<std::span<const double>> needed{box};
    Readings out;
    evaluator.value().process(mv, std::vector<Instant>(3), out, needed);
    EXPECT_NEAR(out.values[0], 100, 0.001);
    EXPECT_NEAR(out.values[1], 100, 0.001);
    EXPECT_TRUE(std::isnan(out.values[2]));
    EXPECT_EQ(out.quality, (std::vector<QualityInterval>{{2, 3, Quality::suspect}})) << "no cold junction, no reading";
}

TEST(Thermocouple, ABrokenWireAndWhatIsOutOfTheTypesRangeAreToldApart) {
    EXPECT_EQ(made({thermocouple("K", 20)}, "mV", 70).second, Quality::outOfRange);
    EXPECT_EQ(made({thermocouple("K", 20, "up")}, "mV", 70).second, Quality::openSensor);
    EXPECT_EQ(made({thermocouple("K", 20, "up")}, "mV", -20).second, Quality::outOfRange);
    EXPECT_EQ(made({thermocouple("K", 20, "down")}, "mV", -20).second, Quality::openSensor);
    EXPECT_EQ(made({thermocouple("B", 20)}, "mV", 0).second, Quality::outOfRange)
        << "below 50 degrees type B has no single answer";
    EXPECT_TRUE(std::isnan(made({thermocouple("K", 20)}, "mV", 70).first));
    EXPECT_EQ(made({thermocouple("K", 20)}, "mV", std::nan("")).second, Quality::good) << "nothing came";
}

TEST(Thermocouple, TakesAVoltageAndNothingElse) {
    const auto checked = checkStage(thermocouple("K", 20), "bar");
    ASSERT_FALSE(checked);
    EXPECT_NE(checked.error().english().find("takes V, and bar comes in"), std::string::npos);
    EXPECT_FALSE(checkStage(thermocouple("Z", 20), "V"));
    EXPECT_FALSE(checkStage(thermocouple("K", 400), "V")) << "no cold junction is that hot";
}

Stage platinum(double r0 = 100) {
    return Stage::of("resistance-thermometer", {{"r0", r0}});
}

TEST(ResistanceThermometer, MeetsTheTableOfIec60751) {
    for (const auto& [celsius, ohm] :
         {std::pair(-200., 18.52), {-100., 60.26}, {0., 100.00}, {100., 138.51}, {400., 247.09}, {850., 390.48}}) {
        EXPECT_NEAR(made({platinum()}, "Ohm", ohm).first, celsius, 0.005 / 0.29 + 0.001) << ohm;
        EXPECT_NEAR(made({platinum(1000)}, "Ohm", ohm * 10).first, celsius, 0.02) << ohm;
        EXPECT_NEAR(made({platinum()}, "kOhm", ohm / 1000).first, celsius, 0.02) << ohm;
    }
}

TEST(ResistanceThermometer, IsTheInverseOfItsOwnEquationBelowZeroToo) {
    for (double t = -200; t <= 850; t += 1.7) {
        const double c = t < 0 ? -4.183e-12 * (t - 100) * t * t * t : 0;
        const double ohm = 100 * (1 + 3.9083e-3 * t - 5.775e-7 * t * t + c);
        ASSERT_NEAR(made({platinum()}, "Ohm", ohm).first, t, 1e-6);
    }
    const Stage nickel = Stage::of("resistance-thermometer", {{"element", "nickel"}});
    EXPECT_NEAR(made({nickel}, "Ohm", 161.78).first, 100, 0.02) << "DIN 43760";
    EXPECT_NEAR(made({nickel}, "Ohm", 69.52).first, -60, 0.02) << "DIN 43760";
}

TEST(ResistanceThermometer, LeadsAreTakenOffAndFaultsToldApart) {
    const Stage two = platinum().with("wires", "2").with("lead-resistance", 0.5);
    EXPECT_NEAR(made({two}, "Ohm", 101).first, 0, 1e-9);
    EXPECT_NEAR(made({two.with("wires", "3")}, "Ohm", 100.5).first, 0, 1e-9);
    EXPECT_EQ(made({platinum()}, "Ohm", 5000).second, Quality::openSensor);
    EXPECT_EQ(made({platinum()}, "Ohm", 0).second, Quality::outOfRange);
}

TEST(Thermistor, ByBetaByCoefficientsAndByThreePoints) {
    const Stage beta = Stage::of("thermistor");
    EXPECT_NEAR(made({beta}, "Ohm", 10000).first, 25, 1e-9);
    EXPECT_NEAR(made({beta}, "Ohm", 10000 * std::exp(3950 * (1 / 323.15 - 1 / 298.15))).first, 50, 1e-9);
    // A made-up part: its points are those of the coefficients, and give the coefficients back.
    const Stage known = beta.with("model", "coefficients");
    StageTable points;
    for (const double ohm : {30000., 10000., 3000.}) points.push_back({made({known}, "Ohm", ohm).first, ohm});
    const Stage fitted = beta.with("model", "points").with("points", points);
    for (double ohm = 500; ohm < 1e5; ohm *= 1.3)
        EXPECT_NEAR(made({fitted}, "Ohm", ohm).first, made({known}, "Ohm", ohm).first, 1e-7) << ohm;
    EXPECT_EQ(made({beta}, "Ohm", 1e9).second, Quality::openSensor);
    EXPECT_EQ(made({beta}, "Ohm", 0.001).second, Quality::outOfRange);
    EXPECT_FALSE(checkStage(beta.with("model", "points"), "Ohm"));
    EXPECT_FALSE(checkStage(fitted.with("points", StageTable{{25, 1e4}, {25, 2e4}, {30, 3e3}}), "Ohm"));
}

TEST(Resistance, ByACurrentAndInADividerWithItsFaults) {
    const Stage current = Stage::of("resistance", {{"current", StageSource{"", 0.5, "mA"}}});
    EXPECT_DOUBLE_EQ(made({current}, "mV", 50).first, 100);
    const Stage below = current.with("circuit", "below").with("resistor", 10000.0);
    EXPECT_DOUBLE_EQ(made({below}, "V", 2.5).first, 10000);
    EXPECT_DOUBLE_EQ(made({below}, "V", 1).first, 2500);
    EXPECT_EQ(made({below}, "V", 5).second, Quality::openSensor) << "no current flows";
    const Stage above = below.with("circuit", "above");
    EXPECT_DOUBLE_EQ(made({above}, "V", 1).first, 40000);
    EXPECT_EQ(made({above}, "V", 0).second, Quality::openSensor);
    // The supply is measured, and sags.
    auto evaluator = ChainEvaluator::make(
        {slopeOffset(1, 0, "V"), below.with("supply", StageSource{"supply"}), Stage::of("thermistor")},
        ChannelKind::analogInput, {"mV"});
    ASSERT_TRUE(evaluator);
    const std::vector<double> supply{5000, 4800};
    const std::vector<std::span<const double>> needed{supply};
    Readings out;
    evaluator.value().process({2.5, 2.4}, std::vector<Instant>(2), out, needed);
    EXPECT_NEAR(out.values[0], 25, 1e-9);
    EXPECT_NEAR(out.values[1], 25, 1e-9);
}

TEST(CurrentLoop, HasTheLevelsOfNe43AsQuality) {
    const Stage loop = Stage::of("current-loop", {{"low", 0.0}, {"high", 10.0}, {"unit", "bar"}, {"shunt", 250.0}});
    struct Case {
        double ma, bar;
        Quality quality;
    };
    const double none = std::nan("");
    for (const Case& c : {Case{4, 0, Quality::good}, Case{20, 10, Quality::good}, Case{12, 5, Quality::good},
                          Case{3.8, -0.125, Quality::good}, Case{20.5, 10.3125, Quality::good},
                          Case{3.7, -0.1875, Quality::outOfRange}, Case{20.8, 10.5, Quality::outOfRange},
                          Case{3.6, none, Quality::openSensor}, Case{0, none, Quality::openSensor},
                          Case{21, none, Quality::openSensor}, Case{23, none, Quality::openSensor}}) {
        const auto direct = made({loop}, "mA", c.ma), byResistor = made({loop}, "V", c.ma * 0.25);
        EXPECT_EQ(direct.second, c.quality) << c.ma;
        EXPECT_EQ(byResistor.second, c.quality) << c.ma;
        if (std::isnan(c.bar))
            EXPECT_TRUE(std::isnan(direct.first)) << c.ma;
        else
            EXPECT_NEAR(direct.first, c.bar, 1e-12) << c.ma;
    }
    EXPECT_FALSE(checkStage(loop, "bar"));
}

TEST(Bridge, AsALoadAndAsStrainWithASaggingExcitation) {
    const Stage load = Stage::of("bridge");  // 2 mV/V at 50 kg
    EXPECT_NEAR(made({load}, "mV", 5).first, 25, 1e-12) << "1 mV/V of 2";
    EXPECT_NEAR(made({load.with("zero", 0.1)}, "mV", 5).first, 22.5, 1e-12);
    EXPECT_EQ(unitAfter(load, "V"), "kg");
    auto evaluator = ChainEvaluator::make({slopeOffset(1, 0, "V"), load.with("excitation", StageSource{"excitation"})},
                                          ChannelKind::analogInput, {"V"});
    ASSERT_TRUE(evaluator);
    const std::vector<double> excitation{5, 4.5, 0};
    const std::vector<std::span<const double>> needed{excitation};
    Readings out;
    evaluator.value().process({0.005, 0.0045, 0.005}, std::vector<Instant>(3), out, needed);
    EXPECT_NEAR(out.values[0], 25, 1e-12);
    EXPECT_NEAR(out.values[1], 25, 1e-12) << "what sags cancels out";
    EXPECT_TRUE(std::isnan(out.values[2]));
    const Stage strain = load.with("reads", "strain");
    EXPECT_NEAR(made({strain}, "mV", 5).first, 500, 1e-9) << "full: the ratio over the gauge factor";
    EXPECT_NEAR(made({strain.with("arms", "half")}, "mV", 5).first, 1000, 1e-9);
    // A quarter bridge with a strain of 2000 um/m and a factor of 2 gives k e / (4 + 2 k e).
    const double ratio = 0.004 / (4 + 0.008);
    EXPECT_NEAR(made({strain.with("arms", "quarter")}, "V", 5 * ratio).first, 2000, 1e-6);
    EXPECT_NEAR(made({strain.with("arms", "quarter").with("lead-resistance", 3.5)}, "V", 5 * ratio).first, 2020, 1e-6);
}

TEST(Ratiometric, AShareOfTheSupply) {
    const Stage sensor =
        Stage::of("ratiometric", {{"from", 10.0}, {"to", 90.0}, {"low", 0.0}, {"high", 16.0}, {"unit", "bar"}});
    EXPECT_NEAR(made({sensor}, "V", 2.5).first, 8, 1e-12);
    EXPECT_NEAR(made({sensor.with("supply", StageSource{"", 4.8, "V"})}, "V", 2.4).first, 8, 1e-12);
    EXPECT_NEAR(made({Stage::of("shunt", {{"resistance", 0.01}})}, "mV", 50).first, 5, 1e-12);
}

TEST(Laws, AreWhatTheirNamesSayAndEndWhereTheyHold) {
    const Stage distance = Stage::of("reciprocal", {{"k", 60.0}, {"low", 0.75}, {"high", 7.5}, {"unit", "cm"}});
    EXPECT_DOUBLE_EQ(made({distance}, "V", 3).first, 20);
    EXPECT_EQ(made({distance}, "V", 0.1).second, Quality::outOfRange) << "beyond its reach it reads next to nothing";
    const Stage orifice = Stage::of("square-root", {{"k", 2.0}, {"cut-off", 1.0}, {"unit", "L/min"}});
    EXPECT_DOUBLE_EQ(made({orifice}, "mbar", 25).first, 10);
    EXPECT_EQ(made({orifice}, "mbar", 0.9).first, 0);
    EXPECT_EQ(made({orifice}, "mbar", -3).first, 0);
    EXPECT_DOUBLE_EQ(made({Stage::of("exponential", {{"a", 2.0}, {"b", 0.5}, {"c", 1.0}})}, "V", 2).first,
                     2 * std::exp(1) + 1);
    const Stage logarithm = Stage::of("logarithmic", {{"a", 3.0}, {"b", 1.0}});
    EXPECT_DOUBLE_EQ(made({logarithm}, "V", std::exp(2)).first, 7);
    EXPECT_EQ(made({logarithm}, "V", 0).second, Quality::outOfRange);
    const Stage cubic = Stage::of("polynomial", {{"coefficients", StageTable{{1}, {-2}, {0}, {0.5}}}});
    EXPECT_DOUBLE_EQ(made({cubic}, "V", 4).first, 1 - 8 + 32);
    EXPECT_FALSE(checkStage(cubic.with("coefficients", StageTable(11, {1.0})), "V")) << "degree 9 at most";
}

TEST(Table, GoesThroughItsPointsAndSaysWhatHoldsOutside) {
    const StageTable points{{0, 0}, {1, 10}, {2, 10}, {4, 50}};
    const Stage straight = Stage::of("table", {{"points", points}});
    for (const char* between : {"linear", "monotone-cubic"})
        for (const auto& p : points)
            EXPECT_NEAR(made({straight.with("between", between)}, "V", p[0]).first, p[1], 1e-12) << between;
    EXPECT_DOUBLE_EQ(made({straight}, "V", 3).first, 30);
    const Stage smooth = straight.with("between", "monotone-cubic");
    double before = -1;
    for (double x = 0; x <= 4; x += 0.01) {
        const double y = made({smooth}, "V", x).first;
        ASSERT_GE(y, before - 1e-12) << "where the points rise, the curve does, and where they do not it does not";
        if (x > 1 && x < 2) ASSERT_NEAR(y, 10, 1e-12);
        before = y;
    }
    EXPECT_EQ(made({straight}, "V", 5).second, Quality::outOfRange);
    EXPECT_EQ(made({straight.with("outside", "hold")}, "V", 5).first, 50);
    EXPECT_EQ(made({straight.with("outside", "extend")}, "V", 5).first, 70);
    EXPECT_EQ(made({straight.with("outside", "extend")}, "V", -1).first, -10);
    StageTable falling = points;
    std::ranges::reverse(falling);
    EXPECT_DOUBLE_EQ(made({straight.with("points", falling)}, "V", 3).first, 30);
    const auto folded = checkStage(straight.with("points", StageTable{{0, 0}, {2, 1}, {1, 2}}), "V");
    ASSERT_FALSE(folded);
    EXPECT_NE(folded.error().english().find("back on itself at row 3"), std::string::npos);
    EXPECT_FALSE(checkStage(straight.with("points", StageTable{{0, 0}}), "V"));
    EXPECT_FALSE(checkStage(straight.with("points", StageTable{{0, 0}, {1}}), "V"));
}

}  // namespace
}  // namespace cruscotto
