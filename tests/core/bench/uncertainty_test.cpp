// Uncertainties against the laws that they follow, and against a Monte Carlo of a million trials (JCGM 101:2008).
#include "core/bench/uncertainty.h"

#include <cmath>
#include <fstream>
#include <numbers>
#include <random>

#include "core/chain/calibration_sheet.h"
#include "core/chain/chain.h"
#include "core/chain/stages/tolerance.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

Stage counts(int bits, double low, double high) {
    return Stage::of("counts-to-volts", {{"bits", double(bits)}, {"low", low}, {"high", high}});
}
Stage accuracyOf(double ofReading, double ofFullScale, double fullScale) {
    return Stage::of("accuracy",
                     {{"of-reading", ofReading}, {"of-full-scale", ofFullScale}, {"full-scale", fullScale}});
}

SignalSpec input(const char* id, const char* terminal, ChainSpec chain) {
    SignalSpec s = *test::oneSignal().signal("in");
    s.id = s.name = id;
    s.terminal = terminal;
    s.chain = std::move(chain);
    return s;
}

/// The values behind the stages of a bench's inputs for these raw samples; computed signals and needs in the bench's
/// order.
MeasuredMoment momentOf(const Bench& bench, const std::map<std::string, double>& raw) {
    MeasuredMoment moment;
    moment.stages = [&bench, raw](const std::string& id) {
        std::function<std::vector<double>(const std::string&)> of = [&](const std::string& name) {
            const SignalSpec& s = *bench.signal(name);
            std::vector<std::vector<double>> needed;
            for (const NeededSignal& n : neededSignals(s.chain)) needed.push_back({of(n.id).back()});
            const std::vector<std::span<const double>> spans(needed.begin(), needed.end());
            auto made = ChainEvaluator::make(s.chain, s.kind, neededUnits(bench, s));
            EXPECT_TRUE(made.ok());
            Readings out;
            const auto at = raw.find(name);
            made.value().process({at == raw.end() ? std::nan("") : at->second}, {Instant{}}, out, spans);
            return made.value().stageValues();
        };
        return of(id);
    };
    return moment;
}

TEST(Uncertainty, TheConvertersStepsAndTheMakersWordAddUp) {
    const Bench bench =
        withSignal(test::oneSignal(),
                   input("in", "AI0", {counts(16, -10, 10), accuracyOf(0.02, 0.01, 10), slopeOffset(2, 1, "bar")}));
    const auto u = uncertaintyOf(bench, "in", momentOf(bench, {{"in", 16384}}));
    ASSERT_TRUE(u.ok()) << u.error().english();
    const double step = 20 / 65536. / std::sqrt(12), maker = (5 * 0.0002 + 10 * 0.0001) / std::sqrt(3);
    EXPECT_NEAR(u.value().value, 11, 1e-9);
    EXPECT_NEAR(u.value().standard, 2 * std::hypot(step, maker), 1e-9);
    ASSERT_EQ(u.value().parts.size(), 2U);
    EXPECT_NEAR(u.value().parts[0].share + u.value().parts[1].share, 1, 1e-12);
    EXPECT_NEAR(u.value().behind[1], step, 1e-12);
    EXPECT_NEAR(u.value().behind[2], std::hypot(step, maker), 1e-9);
    EXPECT_EQ(u.value().unit, "bar");
    EXPECT_EQ(u.value().expanded(), 2 * u.value().standard);
    EXPECT_TRUE(std::isinf(u.value().degreesOfFreedom));
    // as many times the standard one as the bench says
    Bench surer = bench;
    surer.coverage = 3;
    EXPECT_EQ(uncertaintyOf(surer, "in", momentOf(surer, {{"in", 16384}})).value().expanded(), 3 * u.value().standard);
    const BenchReading again = readBench(writeBench(surer));
    ASSERT_TRUE(again.bench);
    EXPECT_EQ(again.bench->coverage, 3);
    EXPECT_FALSE(sameBench(bench, surer));
    surer.coverage = 9;
    EXPECT_FALSE(readBench(writeBench(surer)).bench) << "from 1 to 4";
}

TEST(Uncertainty, NoiseIsPartOfItAndWhatIsNotKnownIsSaid) {
    Bench bench = withSignal(test::oneSignal(), input("in", "AI0", {slopeOffset(1, 0, "V")}));
    MeasuredMoment moment = momentOf(bench, {{"in", 3}});
    auto u = uncertaintyOf(bench, "in", moment);
    EXPECT_EQ(u.value().standard, 0);
    EXPECT_NE(u.value().missing.at(0).english().find("Nothing is known"), std::string::npos);
    moment.noise = [](const std::string&) { return MeasuredMoment::Noise{0.25}; };
    EXPECT_EQ(uncertaintyOf(bench, "in", moment).value().standard, 0.25);
    bench = withSignal(bench, input("in", "AI0", {counts(12, 0, 5), Stage::of("derivative")}));
    const auto behind = uncertaintyOf(bench, "in", momentOf(bench, {{"in", 3}}));
    if (behind) EXPECT_FALSE(behind.value().missing.empty()) << "a change per second needs more than a moment";
    EXPECT_FALSE(uncertaintyOf(bench, "nothing", moment).ok());
}

/// What has been off by as much all the time adds up with the time; a counter's total is off by its last pulse.
TEST(Uncertainty, GoesThroughWhatAddsUpAndWhatLooksBack) {
    Stage litres = Stage::of("integral");
    const Stage greatest = Stage::of("over-time");
    const std::vector<Stage> volts{counts(16, -10, 10), slopeOffset(1, 0, "L/min")};
    const double step = 20 / 65536. / std::sqrt(12);
    const auto behind = [&](const Stage& last, Duration running) {
        std::vector<Stage> chain = volts;
        chain.push_back(last);
        const Bench bench = withSignal(test::oneSignal(), input("in", "AI0", chain));
        MeasuredMoment moment = momentOf(bench, {{"in", 16384}});
        moment.running = running;
        auto u = uncertaintyOf(bench, "in", moment);
        EXPECT_TRUE(u.ok());
        return u.value();
    };
    EXPECT_NEAR(behind(litres, seconds(600)).standard, 10 * step, 1e-12) << "over ten minutes";
    EXPECT_EQ(behind(litres, seconds(600)).unit, "L");
    EXPECT_NEAR(behind(greatest, seconds(600)).standard, step, 1e-12);
    EXPECT_TRUE(behind(greatest, seconds(600)).missing.empty());
    litres = Stage::of("integral", {{"resets", 2.0}});
    EXPECT_FALSE(behind(litres, seconds(600)).missing.empty()) << "since when it adds up is not known";

    const Stage total = Stage::of("total", {{"pulses", 450.0}});
    SignalSpec counter = input("in", "CTR0", {total});
    counter.kind = ChannelKind::counterInput;
    const Bench bench = withSignal(test::oneSignal(), counter);
    const auto u = uncertaintyOf(bench, "in", momentOf(bench, {{"in", 900}}));
    ASSERT_TRUE(u.ok()) << u.error().english();
    EXPECT_NEAR(u.value().standard, 1 / 450. / std::sqrt(12), 1e-12);
    EXPECT_TRUE(u.value().missing.empty());
}

/// The standard deviation of the reading when every part of it errs as the budget says.
struct Trials {
    std::mt19937_64 random{12};
    std::normal_distribution<double> normal{0, 1};
    std::uniform_real_distribution<double> even{-1, 1};
    static constexpr int n = 1'000'000;
    /// Within ± half, all equally likely.
    double within(double half) { return half * even(random); }
    double standardDeviation(const std::function<double()>& reading) {
        double mean = 0, squares = 0;
        for (int i = 1; i <= n; ++i) {
            const double x = reading(), before = mean;
            mean += (x - mean) / i;
            squares += (x - mean) * (x - before);
        }
        return std::sqrt(squares / (n - 1));
    }
};

/// A signal of 100 samples a second that has been measured for a minute, and what its chain made of it.
struct Measured {
    Bench bench;
    std::function<double(double)> raw;  ///< by the time in s
    static constexpr double interval = 0.01, length = 60;

    std::vector<double> stages(const std::string& id, Duration before) const {
        const ChainSpec& chain = bench.signal(id)->chain;
        auto made = ChainEvaluator::make(chain, bench.signal(id)->kind);
        std::vector<double> values;
        std::vector<Instant> times;
        const auto n = static_cast<int>((length - before.seconds()) / interval + 0.5);
        for (int i = 0; i <= n; ++i) {
            values.push_back(raw(i * interval));
            times.push_back(Instant{} + seconds(i * interval));
        }
        Readings out;
        made.value().process(values, times, out);
        return made.value().stageValues();
    }
    MeasuredMoment moment() const {
        MeasuredMoment m;
        m.running = seconds(length);
        m.stages = [this](const std::string& id) { return stages(id, {}); };
        m.stagesBefore = [this](const std::string& id, Duration before) { return stages(id, before); };
        m.interval = [](const std::string&) { return seconds(interval); };
        m.mean = [this](const std::string& id, std::size_t behind, Duration over) {
            double sum = 0;
            int n = 0;
            for (; n * interval < over.seconds(); ++n) sum += stages(id, seconds(n * interval))[behind];
            return sum / n;
        };
        return m;
    }
};

/// One error of an amplifier, 2 % of the reading and 0.5 % of 10 V, evenly spread between them and the same all the
/// time, against what each of a thousand such amplifiers would have shown.
TEST(Uncertainty, OfWhatLooksBackIsThatOfAThousandAmplifiers) {
    const Stage amplifier = accuracyOf(2, 0.5, 10);
    const auto wave = [](double t) { return 3 + 0.05 * t + std::sin(2 * std::numbers::pi * 0.7 * t); };
    const auto swings = [](double t) { return 4 * std::sin(2 * std::numbers::pi * 0.7 * t); };
    const auto check = [&](const Stage& last, const char* what, const std::function<double(double)>& raw) {
        const Measured m{withSignal(test::oneSignal(), input("in", "AI0", {slopeOffset(1, 0, "V"), amplifier, last})),
                         raw};
        const auto u = uncertaintyOf(m.bench, "in", m.moment());
        ASSERT_TRUE(u.ok()) << u.error().english();
        EXPECT_TRUE(u.value().missing.empty()) << what;
        double squares = 0;
        constexpr int amplifiers = 1000;
        for (int i = 0; i < amplifiers; ++i) {
            const double e = (2 * i + 1) / double(amplifiers) - 1;
            const Measured other{m.bench, [&](double t) { return raw(t) + e * (0.02 * raw(t) + 0.05); }};
            const double off = other.stages("in", {}).back() - m.stages("in", {}).back();
            squares += off * off;
        }
        const double seen = std::sqrt(squares / amplifiers);
        EXPECT_NEAR(u.value().standard / seen, 1, 0.02) << what << ": " << u.value().standard << " and " << seen;
    };
    check(Stage::of("derivative", {{"samples", 50.0}}), "change per second", wave);
    check(Stage::of("moving-rms", {{"samples", 1000.0}}), "RMS", wave);
    check(Stage::of("moving-rms", {{"samples", 1000.0}}), "RMS of what swings about zero", swings);
    check(Stage::of("over-time", {{"what", "span"}, {"time-s", 10.0}}), "span", wave);
    check(Stage::of("over-time", {{"what", "span"}, {"time-s", 10.0}}), "span of what swings about zero", swings);
    check(Stage::of("over-time", {{"what", "greatest"}, {"time-s", 10.0}}), "greatest", wave);
    check(Stage::of("over-time", {{"what", "mean"}, {"time-s", 10.0}}), "mean", wave);
    check(Stage::of("integral", {{"per", "s"}}), "total", wave);
}

/// Two inputs of 100 samples a second, measured for a minute, and a measure of them that is kept running.
struct MeasuredTwo {
    Bench bench;
    std::function<double(double)> a, b;
    static constexpr double interval = 0.01, length = 60;

    static Bench benchOf(const char* measure, StageSources of, double time = 2) {
        SignalSpec m =
            input("m", "", {Stage::of("measure", {{"measure", measure}, {"time-s", time}, {"of", std::move(of)}})});
        m.kind = ChannelKind::computed;
        m.device.clear();
        m.computed = ComputedSpec{"a", 0, ComputedSpec::Between::held, 0};
        const std::vector<Stage> chain{slopeOffset(1, 0, "V"), accuracyOf(1, 0.5, 10)};
        return withSignal(withSignal(withSignal(test::oneSignal(), input("a", "AI0", chain)), input("b", "AI1", chain)),
                          m);
    }
    MeasuredMoment::Series series(const std::string& id, Duration before, Duration over, std::size_t most) const {
        MeasuredMoment::Series out;
        const double end = length - before.seconds();
        const auto last = static_cast<int>(end / interval + 0.5);
        const int first = std::max(0, last - static_cast<int>(over.seconds() / interval));
        for (int i = first; i <= last && out.values.size() < most; ++i) {
            out.times.push_back(Instant{} + seconds(i * interval));
            out.values.push_back((id == "a" ? a : b)(i * interval));
        }
        return out;
    }
    double reads() const {
        const SignalSpec& m = *bench.signal("m");
        auto made = ChainEvaluator::make(m.chain, m.kind, neededUnits(bench, m));
        std::vector<std::vector<double>> columns;
        std::vector<Instant> times;
        for (const NeededSignal& n : neededSignals(m.chain)) {
            auto read = series(n.id, {}, seconds(3 * m.chain[0].number("time-s")), 100'000);  // it looks back no longer
            times = read.times;
            columns.push_back(std::move(read.values));
        }
        const std::vector<std::span<const double>> spans(columns.begin(), columns.end());
        Readings out;
        made.value().process(std::vector<double>(times.size(), std::nan("")), times, out, spans);
        return out.values.back();
    }
    MeasuredMoment moment() const {
        MeasuredMoment m;
        m.running = seconds(length);
        m.stages = [this](const std::string& id) {
            return id == "m" ? std::vector<double>{std::nan(""), reads()}
                             : std::vector<double>(3, (id == "a" ? a : b)(length));
        };
        m.stagesBefore = [this](const std::string& id, Duration before) {
            return std::vector<double>(3, (id == "a" ? a : b)(length - before.seconds()));
        };
        m.interval = [](const std::string&) { return seconds(interval); };
        m.series = [this](const std::string& id, std::size_t, Duration before, Duration over, std::size_t most) {
            return series(id, before, over, most);
        };
        return m;
    }
};

/// Each of the two errs by itself, by 1 % of the reading and 0.5 % of 10 V, evenly spread and the same all the time.
TEST(Uncertainty, OfAMeasureOfTwoIsThatOfHundredsOfPairsOfAmplifiers) {
    const StageSources both{{"a", 0, "V", "a"}, {"b", 0, "V", "b"}};
    const auto wave = [](double t) { return 1 + 3 * std::sin(2 * std::numbers::pi * 0.7 * t); };
    const auto behind = [](double t) { return 2 + 5 * std::sin(2 * std::numbers::pi * 0.7 * t - 0.4); };
    for (const char* what : {"gain", "gain-db", "difference", "line-slope", "line-offset"}) {
        const MeasuredTwo m{MeasuredTwo::benchOf(what, both), wave, behind};
        const auto u = uncertaintyOf(m.bench, "m", m.moment());
        ASSERT_TRUE(u.ok()) << u.error().english();
        EXPECT_TRUE(u.value().missing.empty()) << what << ": " << u.value().missing[0].english();
        double squares = 0;
        constexpr int each = 16;
        const auto off = [](const auto& of, int k) {
            const double e = (2 * k + 1) / double(each) - 1;
            return [of, e](double t) { return of(t) + e * (0.01 * of(t) + 0.05); };
        };
        for (int i = 0; i < each; ++i)
            for (int k = 0; k < each; ++k) {
                const MeasuredTwo other{m.bench, off(wave, i), off(behind, k)};
                squares += std::pow(other.reads() - m.reads(), 2);
            }
        const double seen = std::sqrt(squares) / each;
        EXPECT_NEAR(u.value().standard / seen, 1, 0.02) << what << ": " << u.value().standard << " and " << seen;
    }
}

/// What a time is measured by does not err with the size of what is measured; how its periods scatter is all of it.
TEST(Uncertainty, OfAFrequencyIsTheScatterOfItsPeriods) {
    const auto wave = [](double t) {
        return 1 + 3 * std::sin(2 * std::numbers::pi * 0.7 * t) + 0.05 * std::sin(1e4 * t * t);
    };
    MeasuredTwo m{MeasuredTwo::benchOf("frequency", {{"a", 0, "V", "a"}}, 10), wave, wave};
    MeasuredMoment moment = m.moment();
    moment.noise = [](const std::string&) { return MeasuredMoment::Noise{2, {}}; };
    const auto u = uncertaintyOf(m.bench, "m", moment);
    ASSERT_TRUE(u.ok()) << u.error().english();
    EXPECT_TRUE(u.value().missing.empty());
    EXPECT_NEAR(u.value().value, 0.7, 5 * u.value().standard);
    EXPECT_GT(u.value().standard, 1e-5);
    EXPECT_LT(u.value().standard, 1e-2);
    EXPECT_GT(u.value().parts.at(0).share, 0.99);
    EXPECT_EQ(u.value().parts[0].source.english(), "the scatter of what is measured");
    m.bench = MeasuredTwo::benchOf("duty", {{"a", 0, "V", "a"}}, 10);
    EXPECT_FALSE(uncertaintyOf(m.bench, "m", moment).value().missing.empty()) << "it is not known how a duty scatters";
    // a phase depends on neither size nor zero
    m.b = [](double t) { return 2 + 5 * std::sin(2 * std::numbers::pi * 0.7 * t - 0.4); };
    m.bench = MeasuredTwo::benchOf("phase", {{"a", 0, "V", "a"}, {"b", 0, "V", "b"}}, 10);
    const auto phase = uncertaintyOf(m.bench, "m", moment);
    ASSERT_TRUE(phase.ok()) << phase.error().english();
    EXPECT_TRUE(phase.value().missing.empty());
    EXPECT_NEAR(phase.value().value, 0.4 * 180 / std::numbers::pi, 4 * phase.value().standard);
    EXPECT_GT(phase.value().standard, 0.001);
    EXPECT_LT(phase.value().standard, 1);
    // without the readings nothing is said
    m.bench = MeasuredTwo::benchOf("frequency", {{"a", 0, "V", "a"}}, 10);
    moment.series = {};
    EXPECT_FALSE(uncertaintyOf(m.bench, "m", moment).value().missing.empty());
}

/// What stays as it is falls out of a change and of a span; a converter's step is another one with each sample.
TEST(Uncertainty, WhatStaysFallsOutOfADifference) {
    const double step = 20 / 65536. / std::sqrt(12);
    const auto behind = [&](ChainSpec chain) {
        const Measured m{withSignal(test::oneSignal(), input("in", "AI0", std::move(chain))),
                         [](double t) { return std::floor(100 * t); }};
        auto u = uncertaintyOf(m.bench, "in", m.moment());
        EXPECT_TRUE(u.ok());
        return u.value();
    };
    const Stage volts = counts(16, -10, 10), offset = accuracyOf(0, 1, 10);
    const Stage perSecond = Stage::of("derivative", {{"samples", 20.0}});
    EXPECT_NEAR(behind({volts, offset, perSecond}).standard, step * std::sqrt(2) / 0.2, 1e-9);
    EXPECT_NEAR(behind({volts, offset, Stage::of("over-time", {{"what", "span"}})}).standard, step * std::sqrt(2),
                1e-9);
    // without a moment before it is not said to be none
    Measured m{withSignal(test::oneSignal(), input("in", "AI0", {volts, offset, perSecond})),
               [](double t) { return 100 * t; }};
    MeasuredMoment alone = m.moment();
    alone.interval = {};
    const auto u = uncertaintyOf(m.bench, "in", alone);
    ASSERT_TRUE(u.ok());
    EXPECT_FALSE(u.value().missing.empty());
}

/// What wanders is averaged by what adds up, as often as it is another one; what stays is not.
TEST(Uncertainty, WhatWandersIsAveraged) {
    SignalSpec total = input("total", "",
                             {Stage::of("combine", {{"how", "sum"}, {"of", StageSources{{"in", 0, "V", "a"}}}}),
                              Stage::of("integral", {{"per", "s"}})});
    total.kind = ChannelKind::computed;
    total.device.clear();
    total.computed = ComputedSpec{"a", 0, ComputedSpec::Between::held, 0};
    const Bench bench = withSignal(
        withSignal(test::oneSignal(), input("in", "AI0", {slopeOffset(1, 0, "V"), accuracyOf(0, 1, 10)})), total);
    MeasuredMoment moment;
    moment.running = seconds(100);
    moment.stages = [](const std::string& id) {
        return id == "in" ? std::vector<double>{3, 3, 3} : std::vector<double>{std::nan(""), 3, 300};
    };
    moment.noise = [](const std::string&) { return MeasuredMoment::Noise{0.2, seconds(4)}; };
    const auto u = uncertaintyOf(bench, "total", moment);
    ASSERT_TRUE(u.ok()) << u.error().english();
    EXPECT_NEAR(u.value().standard, std::hypot(100 * 0.1 / std::sqrt(3), 100 * 0.2 * std::sqrt(4 / 100.)), 1e-9);
}

/// The reading of a pulse counter, whose edges are known to one sample, against the scatter of a counter that counts
/// them, of speeds that are no multiple of anything. Regular edges fall more evenly on the samples than by chance, so
/// that it is less than said, but not by much.
TEST(Uncertainty, OfACountersRateHoldsTheScatterOfItsEdges) {
    for (const double hz : {7.3, 23.17, 61.9, 317.3}) {
        SignalSpec s = input("in", "CTR0", {Stage::of("pulse-counter", {{"gate-s", 1.0}})});
        s.kind = ChannelKind::counterInput;
        Bench bench = withSignal(test::oneSignal(), s);
        double squares = 0, u = 0;
        int n = 0;
        Trials t;
        for (; n < 300; ++n) {
            const double phase = (t.even(t.random) + 1) / 2, speed = hz * (1 + 0.01 * t.even(t.random));
            const Measured m{bench, [&](double at) { return at < 56 ? 0 : std::floor(phase + speed * (at - 56)); }};
            const double off = m.stages("in", {}).back() - speed;
            squares += off * off;
            if (n == 0) u = uncertaintyOf(bench, "in", m.moment()).value().standard;
        }
        const double seen = std::sqrt(squares / n);
        EXPECT_GT(u, seen) << hz << " Hz";
        EXPECT_LT(u, 2.5 * seen) << hz << " Hz";
    }
}

/// The tolerance classes of IEC 60584-1 and IEC 60751 as the reference file has them.
TEST(Uncertainty, ToleranceClassesAreThoseOfTheStandards) {
    std::ifstream file(std::string(CRUSCOTTO_SOURCE) + "/tests/core/chain/tolerance_classes.csv");
    int rows = 0;
    for (std::string row; std::getline(file, row);) {
        char sensor[8], name[8];
        double a = 0, b = 0, from = 0, to = 0;
        if (std::sscanf(row.c_str(), "%7[^,],%7[^,],%lf,%lf,%lf,%lf", sensor, name, &a, &b, &from, &to) != 6) continue;
        ++rows;
        const bool sum = std::string(sensor) == "Pt";
        const double middle = (from + to) / 2;
        EXPECT_NEAR(stages::toleranceOf(sensor, name, middle).value_or(-1),
                    sum ? a + b * std::fabs(middle) : std::max(a, b * std::fabs(middle)), 1e-12)
            << row;
        EXPECT_FALSE(stages::toleranceOf(sensor, name, to + 1)) << row;
    }
    EXPECT_EQ(rows, 19);
    EXPECT_NEAR(*stages::toleranceOf("S", "1", 1500), 1 + 0.003 * 400, 1e-12);
    EXPECT_FALSE(stages::toleranceOf("K", "none", 20));
}

// ---- three worked examples, as docs/trust.md has them, and as chance has them

/// What a chain makes of one raw value.
class Law {
public:
    explicit Law(const ChainSpec& chain)
        : made_(std::move(ChainEvaluator::make(chain, ChannelKind::analogInput).value())) {}
    double operator()(double raw, std::vector<double> needed = {}) {
        std::vector<std::vector<double>> columns;
        for (const double v : needed) columns.push_back({v});
        const std::vector<std::span<const double>> spans(columns.begin(), columns.end());
        made_.reset();
        made_.process({raw}, {Instant{}}, out_, spans);
        return out_.values[0];
    }

private:
    ChainEvaluator made_;
    Readings out_;
};

/// A type K, class 1, at about 100 degC, its cold junction by another input of 0.01 V/K with ±0.5 K.
TEST(Uncertainty, OfAThermocoupleIsThatOfAMillionTrials) {
    const Stage couple =
        Stage::of("thermocouple", {{"type", "K"}, {"cold-junction", StageSource{"cj", 0, ""}}, {"tolerance", "1"}});
    Bench bench =
        withSignal(test::oneSignal(), input("cj", "AI1",
                                            {counts(16, -10, 10), slopeOffset(100, 0, "Cel"),
                                             Stage::of("accuracy", {{"of-reading", 0.0}, {"plus-minus", 0.5}})}));
    bench = withSignal(bench, input("in", "AI0", {counts(16, -0.1, 0.1), couple}));
    const double raw = 1040, cjRaw = 754;  // 3.17 mV, 23 degC
    const auto u = uncertaintyOf(bench, "in", momentOf(bench, {{"in", raw}, {"cj", cjRaw}}));
    ASSERT_TRUE(u.ok()) << u.error().english();
    ASSERT_EQ(u.value().parts.size(), 4U);
    Trials t;
    Law law({slopeOffset(0.2 / 65536, 0, "V"), couple});
    const double chance = t.standardDeviation([&] {
        const double junction = (cjRaw + t.within(0.5)) * 20 / 65536 * 100 + t.within(0.5);
        return law(raw + t.within(0.5), {junction}) + t.within(1.5);
    });
    EXPECT_NEAR(u.value().standard / chance, 1, 0.02) << u.value().standard << " and " << chance;
}

/// A Pt100, class B, at about 40 degC below 1 kOhm of 0.1 %, from a supply that is measured beside it.
TEST(Uncertainty, OfAPt100InADividerIsThatOfAMillionTrials) {
    const Stage divider =
        Stage::of("resistance", {{"circuit", "below"}, {"resistor", 1000.0}, {"supply", StageSource{"supply", 0, ""}}});
    const Stage pt = Stage::of("resistance-thermometer", {{"tolerance", "B"}});
    Bench bench = withSignal(test::oneSignal(), input("supply", "AI1", {counts(16, -10, 10), accuracyOf(0.02, 0, 0)}));
    bench = withSignal(
        bench, input("in", "AI0", {counts(16, -1, 1), accuracyOf(0.02, 0, 0), divider, accuracyOf(0.1, 0, 0), pt}));
    const double raw = 16970, supplyRaw = 14746;  // 0.518 V of 4.5 V
    const auto u = uncertaintyOf(bench, "in", momentOf(bench, {{"in", raw}, {"supply", supplyRaw}}));
    ASSERT_TRUE(u.ok()) << u.error().english();
    Trials t;
    Law law({slopeOffset(1, 0, "V"), divider, slopeOffset(1, 0, "Ohm")}), temperature({slopeOffset(1, 0, "Ohm"), pt});
    const double chance = t.standardDeviation([&] {
        const double supply = (supplyRaw + t.within(0.5)) * 20 / 65536 * (1 + t.within(0.0002));
        const double volts = (raw + t.within(0.5)) * 2 / 65536 * (1 + t.within(0.0002));
        const double degrees = temperature(law(volts, {supply}) * (1 + t.within(0.001)));
        return degrees + t.within(0.3 + 0.005 * degrees);
    });
    EXPECT_NEAR(u.value().standard / chance, 1, 0.02) << u.value().standard << " and " << chance;
}

/// A load cell of 2 mV/V and 100 kg at half its load; the excitation is measured, and the converter's gain error is in
/// both, so that it falls out.
TEST(Uncertainty, OfALoadCellKnowsThatBothReadingsShareOneReference) {
    const Stage bridge = Stage::of(
        "bridge",
        {{"excitation", StageSource{"supply", 0, ""}}, {"sensitivity", 2.0}, {"capacity", 100.0}, {"unit", "kg"}});
    const auto calibrated = [](double slopeAt) {
        CalibrationSheet sheet{{{0, 0, slopeAt}, {1, 1, slopeAt}}, "line", "V"};
        sheet.reference = "standard cell";
        return withSheet(Stage::of("calibration"), sheet);
    };
    Bench bench = withSignal(test::oneSignal(), input("supply", "AI1", {counts(16, -10, 10), accuracyOf(0.02, 0, 0)}));
    bench = withSignal(
        bench, input("in", "AI0", {counts(20, -0.02, 0.02), accuracyOf(0.02, 0, 0), bridge, accuracyOf(0, 0.03, 100)}));
    const double raw = 131072, supplyRaw = 16384;  // 5 mV of 5 V: half of 2 mV/V
    const auto u = uncertaintyOf(bench, "in", momentOf(bench, {{"in", raw}, {"supply", supplyRaw}}));
    ASSERT_TRUE(u.ok()) << u.error().english();
    EXPECT_NEAR(u.value().value, 50, 0.01);
    Trials t;
    Law law({slopeOffset(1, 0, "V"), bridge});
    const double chance = t.standardDeviation([&] {
        const double supply = (supplyRaw + t.within(0.5)) * 20 / 65536 * (1 + t.within(0.0002));
        const double volts = (raw + t.within(0.5)) * 0.04 / 1048576 * (1 + t.within(0.0002));
        return law(volts, {supply}) + t.within(0.03);
    });
    EXPECT_NEAR(u.value().standard / chance, 1, 0.02) << u.value().standard << " and " << chance;

    // A difference of two readings that were calibrated with one reference: its error is in both, and falls out.
    SignalSpec difference = input(
        "difference", "",
        {Stage::of("combine", {{"how", "difference"}, {"of", StageSources{{"a", 0, "V", "a"}, {"b", 0, "V", "b"}}}})});
    difference.kind = ChannelKind::computed;
    difference.device.clear();
    difference.computed = ComputedSpec{"a", 0, ComputedSpec::Between::held, 0};
    Bench two = withSignal(test::oneSignal(), input("a", "AI0", {counts(16, -10, 10), calibrated(0.01)}));
    two = withSignal(two, input("b", "AI1", {counts(16, -10, 10), calibrated(0.01)}));
    two = withSignal(two, difference);
    const MeasuredMoment moment = momentOf(two, {{"a", 3000}, {"b", 1000}});
    const double step = 20 / 65536. / std::sqrt(12);
    EXPECT_NEAR(uncertaintyOf(two, "a", moment).value().standard, std::hypot(step, 0.01), 1e-9);
    EXPECT_NEAR(uncertaintyOf(two, "difference", moment).value().standard, step * std::sqrt(2), 1e-9);
}

TEST(Uncertainty, IsWrittenWithTwoDigits) {
    EXPECT_EQ(withUncertainty(1.70234, 0.0123), "1.702 ± 0.012");
    EXPECT_EQ(withUncertainty(-1234.6, 34), "−1235 ± 34");
    EXPECT_EQ(withUncertainty(5, 0), "5");
    EXPECT_EQ(decimalsFor(0.0999), 3);
    EXPECT_EQ(decimalsFor(1.0), 1);
}

}  // namespace
}  // namespace cruscotto
