// Signals that are worked out from others: the stages that do it, the units, and how inputs are brought together.
#include <cmath>
#include <random>
#include <set>

#include "core/base/units.h"
#include "core/chain/input_aligner.h"
#include "core/chain/sensor_recipes.h"
#include "core/chain/stage_kind.h"
#include "core/history/source.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

constexpr double noValueHere = std::numeric_limits<double>::quiet_NaN();

/// What the stage, in a computed signal, makes of one value of each of its sources.
Reading computed(const Stage& stage, const std::vector<double>& inputs, const std::vector<std::string>& units = {}) {
    auto made = ChainEvaluator::make({stage}, ChannelKind::computed, units);
    EXPECT_TRUE(made.ok()) << (made.ok() ? "" : made.error().english());
    if (!made) return {};
    std::vector<std::span<const double>> needed;
    for (const double& v : inputs) needed.emplace_back(&v, 1);
    Readings out;
    made.value().process({noValueHere}, {Instant{}}, out, needed);
    return {out.values[0], out.quality.empty() ? Quality::good : out.quality[0].quality, {}};
}

StageSources of(std::initializer_list<std::pair<const char*, const char*>> all) {
    StageSources out;
    for (const auto& [signal, unit] : all) out.push_back({signal, 0, unit, signal});
    return out;
}

Stage combine(const char* how, StageSources sources) {
    return Stage::of("combine", {{"how", how}, {"of", std::move(sources)}});
}

TEST(UnitProduct, NamesWhatComesOfProductsAndRatios) {
    struct Case {
        std::vector<UnitPower> powers;
        std::string unit;
        double factor;
    };
    for (const Case& c : {Case{{{"V", 1}, {"A", 1}}, "W", 1}, Case{{{"bar", 1}, {"L/min", 1}}, "W", 1e5 * 1e-3 / 60},
                          Case{{{"V", 1}, {"A", -1}}, "Ohm", 1}, Case{{{"L/min", 1}, {"min", 1}}, "L", 1},
                          Case{{{"kW", 1}, {"h", 1}}, "kW.h", 1}, Case{{{"mV", 1}, {"mV", -1}}, "1", 1},
                          Case{{{"bar", 1}, {"kPa", -1}}, "1", 100}, Case{{{"m", 2}}, "m2", 1},
                          Case{{{"{bees}", 1}, {"s", -1}}, "{bees}/s", 1}, Case{{{"Cel", 1}, {"s", 1}}, "Cel.s", 1}}) {
        const UnitProduct made = unitProduct(c.powers);
        EXPECT_EQ(made.unit, c.unit);
        EXPECT_NEAR(made.factor, c.factor, 1e-12 * c.factor) << c.unit;
    }
}

TEST(Combine, WorksInTheUnitOfTheFirstAndTellsIt) {
    EXPECT_DOUBLE_EQ(computed(combine("difference", of({{"a", "bar"}, {"b", "kPa"}})), {2, 50}).value, 1.5);
    EXPECT_DOUBLE_EQ(computed(combine("mean", of({{"a", "V"}, {"b", "V"}, {"c", "V"}})), {1, 2, 6}).value, 3);
    EXPECT_DOUBLE_EQ(computed(combine("sum", of({{"a", "V"}, {"b", "mV"}})), {1, 500}).value, 1.5);
    EXPECT_DOUBLE_EQ(computed(combine("least", of({{"a", "V"}, {"b", "V"}})), {4, -1}).value, -1);
    EXPECT_DOUBLE_EQ(computed(combine("greatest", of({{"a", "V"}, {"b", "V"}})), {4, -1}).value, 4);
    const Stage power = combine("product", of({{"p", "bar"}, {"q", "L/min"}}));
    EXPECT_EQ(unitAfter(power, "1"), "W");
    EXPECT_NEAR(computed(power, {3, 40}).value, 3e5 * 40e-3 / 60, 1e-9);
    EXPECT_TRUE(std::isnan(computed(combine("ratio", of({{"a", "V"}, {"b", "V"}})), {1, 0}).value));
    const auto refused = checkStage(combine("sum", of({{"a", "V"}, {"b", "bar"}})), "1");
    ASSERT_FALSE(refused.ok());
    EXPECT_NE(refused.error().english().find("one kind"), std::string::npos) << refused.error().english();
}

TEST(Combine, TakesASignalInTheUnitThatIsAskedForWhateverItReadsIn) {
    EXPECT_DOUBLE_EQ(computed(combine("sum", of({{"a", "bar"}})), {250}, {"kPa"}).value, 2.5);
    EXPECT_FALSE(ChainEvaluator::make({combine("sum", of({{"a", "bar"}}))}, ChannelKind::computed, {"V"}).ok());
}

Stage calculation(const char* formula, StageSources sources, const char* unit = "") {
    return Stage::of("calculate", {{"formula", formula}, {"of", std::move(sources)}, {"unit", unit}});
}

TEST(Calculate, FindsTheUnitOfTheFormulaWhereThereIsOne) {
    EXPECT_EQ(unitAfter(calculation("a*b", of({{"a", "V"}, {"b", "A"}})), "1"), "W");
    EXPECT_EQ(unitAfter(calculation("(a-b)/2", of({{"a", "bar"}, {"b", "bar"}})), "1"), "bar");
    EXPECT_EQ(unitAfter(calculation("a/b", of({{"a", "V"}, {"b", "V"}})), "1"), "1");
    EXPECT_EQ(unitAfter(calculation("a+273.15", of({{"a", "V"}})), "1"), "1") << "a number with a unit of its own";
    EXPECT_EQ(unitAfter(calculation("a+273.15", of({{"a", "V"}}), "mV"), "1"), "mV");
    EXPECT_DOUBLE_EQ(computed(calculation("sqrt(a^2+b^2)", of({{"a", "V"}, {"b", "V"}})), {3, 4}).value, 5);
    EXPECT_FALSE(checkStage(calculation("a*b", of({{"a", "V"}, {"b", "A"}}), "bar"), "1").ok());
    EXPECT_TRUE(checkStage(calculation("a*b", of({{"a", "V"}, {"b", "A"}}), "kW"), "1").ok());
}

TEST(Calculate, RefusesWhatIsNoFormulaWithASentence) {
    const std::string deep = std::string(10'000, '(') + "a" + std::string(10'000, ')');
    for (const Stage& wrong :
         {calculation("a*", of({{"a", "V"}})), calculation("b", of({{"a", "V"}})),
          calculation(deep.c_str(), of({{"a", "V"}})), calculation("a", of({{"a", "V"}, {"a", "V"}})),
          calculation("a", of({{"a b", "V"}})), calculation("a", of({{"", "V"}}))}) {
        const auto refused = checkStage(wrong, "1");
        ASSERT_FALSE(refused.ok()) << wrong.text("formula").substr(0, 20);
        EXPECT_GT(refused.error().english().size(), 20U);
    }
}

TEST(HumidAir, DewPointAndAbsoluteHumidity) {
    const auto air = [](const char* gives, double t, double humidity) {
        return computed(
            Stage::of("humid-air",
                      {{"gives", gives}, {"temperature", StageSource{"t"}}, {"humidity", StageSource{"h"}}}),
            {t, humidity});
    };
    // Saturated air is at its dew point; WMO-No. 8 gives 6.112 hPa at 0 degC for its formula.
    EXPECT_NEAR(air("dew-point", 25, 100).value, 25, 1e-9);
    EXPECT_NEAR(air("dew-point", 20, 50).value, 9.26, 0.01);
    EXPECT_NEAR(air("absolute-humidity", 0, 100).value, 216.679 * 6.112 / 273.15, 1e-9);
    EXPECT_NEAR(air("absolute-humidity", 20, 50).value, 8.63, 0.03);
    EXPECT_EQ(air("dew-point", 61, 50).quality, Quality::outOfRange);
    EXPECT_EQ(air("dew-point", 20, 0).quality, Quality::outOfRange);
}

TEST(Efficiency, HasNoReadingWhereNothingIsSpent) {
    const Stage e =
        Stage::of("efficiency", {{"useful", StageSource{"u"}}, {"spent", StageSource{"s"}}, {"least", 10.0}});
    EXPECT_DOUBLE_EQ(computed(e, {30, 120}).value, 25);
    EXPECT_TRUE(std::isnan(computed(e, {0, 5}).value));
}

Readings inTime(const ChainSpec& chain, ChannelKind kind, const std::vector<double>& values, double rate) {
    auto made = ChainEvaluator::make(chain, kind);
    EXPECT_TRUE(made.ok()) << (made.ok() ? "" : made.error().english());
    Readings out;
    std::vector<Instant> times;
    for (std::size_t i = 0; i < values.size(); ++i) times.push_back(Instant{} + seconds(static_cast<double>(i) / rate));
    made.value().process(values, times, out);
    return out;
}

TEST(Integral, IsInUnitsTimesTimeAndAGapAddsNothing) {
    // A ramp from 0 to 60 L/min in a minute is 30 L.
    std::vector<double> ramp;
    for (int i = 0; i <= 60; ++i) ramp.push_back(i);
    ramp.push_back(noValueHere);
    ramp.push_back(1000);
    const ChainSpec chain{slopeOffset(1, 0, "L/min"), Stage::of("integral", {{"per", "min"}})};
    EXPECT_EQ(readingUnit(chain, ChannelKind::analogInput), "L");
    const Readings r = inTime(chain, ChannelKind::analogInput, ramp, 1);
    EXPECT_NEAR(r.values[60], 30, 1e-12);
    EXPECT_EQ(r.values[62], r.values[60]);
}

TEST(Delay, GivesTheSampleThatWasThen) {
    const Readings r =
        inTime({Stage::of("delay", {{"time-s", 0.3}})}, ChannelKind::analogInput, {1, 2, 3, 4, 5, 6}, 10);
    EXPECT_TRUE(std::isnan(r.values[2]));
    EXPECT_EQ(r.values[3], 1);
    EXPECT_EQ(r.values[5], 3);
}

TEST(OverTime, AgreesWithABruteForceOfTheWindow) {
    std::mt19937 random(11);
    std::vector<double> values;
    for (int i = 0; i < 500; ++i)
        values.push_back(random() % 17 == 0 ? noValueHere : static_cast<double>(random() % 1000));
    for (const char* what : {"least", "greatest", "mean", "span"}) {
        const Readings r =
            inTime({Stage::of("over-time", {{"what", what}, {"time-s", 0.5}})}, ChannelKind::analogInput, values, 100);
        for (std::size_t i = 0; i < values.size(); ++i) {
            double low = INFINITY, high = -INFINITY, sum = 0;
            int n = 0;
            for (std::size_t k = i >= 49 ? i - 49 : 0; k <= i; ++k)
                if (!std::isnan(values[k]))
                    low = std::min(low, values[k]), high = std::max(high, values[k]), sum += values[k], ++n;
            ASSERT_GT(n, 0);
            const std::string w = what;
            const double expected = w == "least" ? low : w == "greatest" ? high : w == "mean" ? sum / n : high - low;
            ASSERT_NEAR(r.values[i], expected, 1e-9) << what << " at " << i;
        }
    }
}

TEST(OverTime, HoldsTheExtremeUntilItIsSetBack) {
    const Readings r = inTime({Stage::of("over-time", {{"what", "greatest"}, {"time-s", 0.0}})},
                              ChannelKind::analogInput, {3, 9, 1, noValueHere, 2}, 1);
    EXPECT_EQ(r.values, (std::vector<double>{3, 9, 9, 9, 9}));
}

TEST(Total, CountsUpAndDownOverTheWrapOfTheCounter) {
    const Readings r = inTime({Stage::of("total", {{"pulses", 4.0}, {"unit", "L"}})}, ChannelKind::counterInput,
                              {4294967290, 2, 10, 4294967294}, 1);
    EXPECT_EQ(r.values, (std::vector<double>{0, 2, 4, 1}));
}

TEST(Tare, TakesOffWhatCountsAsZero) {
    const Readings r = inTime({Stage::of("tare", {{"zero", 2.5}})}, ChannelKind::analogInput, {2.5, 3, noValueHere}, 1);
    EXPECT_EQ(r.values[0], 0);
    EXPECT_EQ(r.values[1], 0.5);
    EXPECT_TRUE(std::isnan(r.values[2]));
}

TEST(PulseTimes, WidthPeriodAndDutyOfTheLastPulse) {
    std::vector<double> levels;
    for (int k = 0; k < 4; ++k) {
        levels.insert(levels.end(), 3, 1);
        levels.insert(levels.end(), 7, 0);
    }
    const auto last = [&](const char* what) {
        return inTime({Stage::of("pulse-times", {{"what", what}})}, ChannelKind::digitalInput, levels, 1000)
            .values.back();
    };
    EXPECT_NEAR(last("on-time"), 0.003, 1e-12);
    EXPECT_NEAR(last("off-time"), 0.007, 1e-12);
    EXPECT_NEAR(last("period"), 0.010, 1e-12);
    EXPECT_NEAR(last("duty"), 30, 1e-9);
    levels.insert(levels.end(), 6000, 0);
    EXPECT_TRUE(std::isnan(last("on-time"))) << "after the silence";
}

TEST(Quadrature, CountsAllEdgesBothWaysAndMarksAMissedStep) {
    const std::vector<double> a{0, 1, 1, 0, 0, 0, 1, 0}, b{0, 0, 1, 1, 0, 1, 1, 0};
    auto made =
        ChainEvaluator::make({Stage::of("quadrature", {{"track-b", StageSource{"b"}}, {"lines", 0.25}, {"unit", "1"}})},
                             ChannelKind::digitalInput);
    ASSERT_TRUE(made.ok());
    std::vector<Instant> times(a.size());
    const std::span<const double> track(b);
    Readings out;
    made.value().process(a, times, out, {&track, 1});
    EXPECT_EQ(out.values, (std::vector<double>{0, 1, 2, 3, 4, 3, 2, 2}));
    EXPECT_EQ(out.quality, (std::vector<QualityInterval>{{7, 8, Quality::suspect}}));
}

// ---- chains as wholes

TEST(Recipes, EveryOneMakesAChainThatHolds) {
    std::set<std::string> keys;
    for (const SensorRecipe& recipe : sensorRecipes()) {
        EXPECT_TRUE(keys.insert(recipe.key).second);
        for (const ChannelKind kind : recipe.kinds) {
            for (const ChainSpec& now :
                 {ChainSpec{}, ChainSpec{countsToVolts(16, -1, 1)}, ChainSpec{slopeOffset(1, 0, "1")}}) {
                const ChainSpec chain = chainWithSensor(now, recipe.stages, kind);
                const auto fine = checkChain(chain, kind);
                EXPECT_TRUE(fine.ok()) << recipe.key << ": " << (fine ? "" : fine.error().english());
            }
        }
        for (const auto& asked : recipe.asked) {
            ASSERT_LT(asked.stage, recipe.stages.size());
            const auto& fields = recipe.stages[asked.stage].kind().fields;
            EXPECT_NE(std::ranges::find(fields, asked.field, &StageField::key), fields.end())
                << recipe.key << " asks for " << asked.field;
        }
    }
}

TEST(Chain, AStageStandsInItsUsualPlace) {
    const ChainSpec chain{countsToVolts(16, -1, 1), movingMean(5), slopeOffset(2, 0, "bar"), validRange(-1, 1)};
    EXPECT_EQ(stageKey(withStageInPlace(chain, Stage::of("median"), ChannelKind::analogInput)[2]), "median");
    EXPECT_EQ(stageKey(withStageInPlace(chain, formula("x", "bar"), ChannelKind::analogInput)[3]), "formula");
    EXPECT_EQ(stageKey(withStageInPlace(chain, Stage::of("level"), ChannelKind::analogInput)[3]), "level");
    EXPECT_EQ(stageKey(withStageInPlace(chain, convertUnit("kPa"), ChannelKind::analogInput).back()), "convert-unit");
}

TEST(Chain, ReadsAStateWhereAStageMakesOneAndANumberWhereOneMakesThat) {
    EXPECT_TRUE(readsState({}, ChannelKind::digitalInput));
    EXPECT_TRUE(readsState({Stage::of("level")}, ChannelKind::analogInput));
    EXPECT_FALSE(readsState({Stage::of("level").switched(false)}, ChannelKind::analogInput));
    EXPECT_FALSE(readsState({Stage::of("pulse-times")}, ChannelKind::digitalInput));
    EXPECT_FALSE(readsState({slopeOffset(1, 0, "V")}, ChannelKind::analogInput));
}

TEST(Delay, OfAFilterIsTheGroupDelayOfWhatChangesSlowly) {
    EXPECT_NEAR(delayOf(movingMean(21), "V", 0.001), 0.010, 1e-6);
    EXPECT_NEAR(delayOf(Stage::of("median", {{"samples", 5.0}}), "V", 0.001), 0.002, 1e-6);
    EXPECT_NEAR(delayOf(Stage::of("low-pass", {{"time-constant-s", 0.2}}), "V", 0.001), 0.2, 0.001);
    EXPECT_TRUE(std::isnan(delayOf(slopeOffset(1, 0, "V"), "V", 0.001)));
}

TEST(Events, TheThresholdsTrialCountsWithAndWithoutTheDeadTime) {
    std::vector<double> v(1000, 0);
    std::vector<Instant> t;
    for (int i = 0; i < 1000; ++i) t.push_back(Instant{} + milliseconds(i));
    for (const std::size_t at : {100U, 104U, 120U, 600U}) v[at] = 1;
    const Stage events =
        Stage::of("events", {{"threshold", 0.5}, {"hysteresis", 0.1}, {"dead-time-s", 0.01}, {"pause-s", 0.2}});
    EXPECT_EQ(events.kind().tried(events, v, t).english(), "3 events, 2 groups; 4 without the dead time.");
}

TEST(ShowIn, PutsTakesAndChangesTheStageThatConverts) {
    SignalSpec s;
    s.chain = {slopeOffset(1, 0, "bar")};
    s.limits.high = 4;
    s.scale = Scale{0, 5};
    ASSERT_TRUE(showIn(s, "kPa"));
    EXPECT_EQ(s.unit(), "kPa");
    EXPECT_EQ(s.limits.high, 400);
    EXPECT_EQ(s.scale->high, 500);
    ASSERT_TRUE(showIn(s, "mbar"));
    EXPECT_EQ(s.chain.size(), 2U);
    ASSERT_TRUE(showIn(s, "bar"));
    EXPECT_EQ(s.chain.size(), 1U);
    EXPECT_EQ(s.limits.high, 4);
    EXPECT_FALSE(showIn(s, "Cel"));
}

// ---- bringing inputs together

struct Input {
    std::vector<Instant> times;
    std::vector<double> values;
    bool clocked = false;
    std::int64_t dt = 0;
};

StretchTimesPtr asTimes(const std::vector<Instant>& times) {
    auto out = std::make_shared<StretchTimes>();
    out->at = times;
    return out;
}

/// Deals the inputs and the moments out in random pieces, each stream in its own order, and collects what comes.
std::pair<std::vector<double>, std::vector<Quality>> dealt(const std::vector<Input>& inputs,
                                                           const std::vector<Instant>& moments,
                                                           const InputAligner::Rule& rule, unsigned seed) {
    std::mt19937 random(seed);
    InputAligner aligner(inputs.size(), rule);
    std::vector<std::size_t> at(inputs.size(), 0);
    std::size_t known = 0, done = 0;
    std::vector<double> out;
    std::vector<Quality> quality;
    InputAligner::Aligned aligned;
    const StretchTimesPtr all = asTimes(moments);
    const auto take = [&](std::size_t end) {
        if (end <= done) return;
        aligner.take(all, done, end, aligned);
        const auto q = worstOfEach(aligned.quality, end - done);
        for (std::size_t i = 0; i < end - done; ++i) {
            double sum = 0;
            for (const auto& v : aligned.values) sum = sum * 1000 + v[i];
            out.push_back(sum);
            quality.push_back(q[i]);
        }
        done = end;
    };
    for (bool left = true; left;) {
        left = false;
        const std::size_t k = random() % (inputs.size() + 1);
        if (k == inputs.size()) {
            known = std::min(moments.size(), known + random() % 30);
        } else {
            const Input& in = inputs[k];
            const std::size_t end = std::min(in.times.size(), at[k] + random() % 30);
            if (end > at[k]) {
                const std::vector<Instant> times(in.times.begin() + std::ptrdiff_t(at[k]),
                                                 in.times.begin() + std::ptrdiff_t(end));
                const Instant until = times.back() + Duration{in.clocked ? in.dt : 1};
                aligner.feed(k, asTimes(times),
                             {{in.values.begin() + std::ptrdiff_t(at[k]), in.values.begin() + std::ptrdiff_t(end)}, {}},
                             until);
                at[k] = end;
            }
        }
        take(known > 0 ? aligner.ready(*all, moments[known - 1] + Duration{1}) : 0);
        for (std::size_t i = 0; i < inputs.size(); ++i) left = left || at[i] < inputs[i].times.size();
        left = left || known < moments.size();
    }
    for (std::size_t i = 0; i < inputs.size(); ++i) aligner.doNotWait(i);
    take(moments.size());
    return {out, quality};
}

std::vector<Input> someInputs() {
    std::mt19937 random(3);
    std::vector<Input> inputs(3);
    for (int i = 0; i < 700; ++i) {  // 100 Hz
        inputs[0].times.push_back({i * 10'000'000LL});
        inputs[0].values.push_back(static_cast<double>(random() % 1000));
    }
    inputs[0].clocked = true;
    inputs[0].dt = 10'000'000;
    for (std::int64_t t = 500'000; t < 7'000'000'000; t += 1 + static_cast<std::int64_t>(random() % 40'000'000)) {
        inputs[1].times.push_back({t});
        inputs[1].values.push_back(static_cast<double>(random() % 1000));
    }
    for (std::int64_t t = 20'000'000; t < 7'000'000'000; t += 900'000'000) {
        inputs[2].times.push_back({t});
        inputs[2].values.push_back(random() % 3 == 0 ? noValueHere : static_cast<double>(random() % 1000));
    }
    return inputs;
}

TEST(InputAligner, GivesTheSameHoweverTheStreamsAreCut) {
    const auto inputs = someInputs();
    std::vector<Instant> moments;
    for (int i = 0; i < 950; ++i) moments.push_back({i * 7'300'000LL});
    for (const bool interpolated : {false, true}) {
        const InputAligner::Rule rule{.interpolated = interpolated, .oldest = milliseconds(300), .patience = {-1}};
        const auto once = dealt(inputs, moments, rule, 1);
        ASSERT_EQ(once.first.size(), moments.size());
        EXPECT_GT(std::ranges::count(once.second, Quality::good), 100);
        EXPECT_GT(std::ranges::count(once.second, Quality::stale), 100);
        for (unsigned seed = 2; seed < 40; ++seed) {
            const auto again = dealt(inputs, moments, rule, seed);
            ASSERT_EQ(again.second, once.second) << seed;
            for (std::size_t i = 0; i < moments.size(); ++i)
                ASSERT_TRUE(again.first[i] == once.first[i] ||
                            (std::isnan(again.first[i]) && std::isnan(once.first[i])))
                    << "seed " << seed << " at " << i << ": " << again.first[i] << " and " << once.first[i];
        }
    }
}

TEST(InputAligner, HoldsTheSampleBeforeOrDrawsTheLine) {
    for (const bool interpolated : {false, true}) {
        InputAligner a(1, {.interpolated = interpolated, .patience = {-1}});
        const std::vector<Instant> times{{0}, {100}}, moments{{25}, {100}};
        a.feed(0, asTimes(times), {{10, 20}, {}}, {101});
        ASSERT_EQ(a.ready(*asTimes(moments), {101}), 2U);
        InputAligner::Aligned out;
        a.take(asTimes(moments), 0, 2, out);
        EXPECT_DOUBLE_EQ(out.values[0][0], interpolated ? 12.5 : 10);
        EXPECT_DOUBLE_EQ(out.values[0][1], 20);
        EXPECT_TRUE(out.quality.empty());
    }
}

TEST(InputAligner, WaitsForALateInputButNotForever) {
    InputAligner a(2, {.patience = milliseconds(500)});
    std::vector<Instant> early{{0}}, moments{{0}, Instant{} + milliseconds(100), Instant{} + milliseconds(900)};
    a.feed(0, asTimes(early), {{1}, {}}, Instant{} + milliseconds(1000));
    a.feed(1, asTimes(early), {{2}, {}}, Instant{1});
    const StretchTimesPtr all = asTimes(moments);
    EXPECT_EQ(a.ready(*all, Instant{} + milliseconds(1000)), 2U) << "half a second behind the one that came farthest";
    InputAligner::Aligned out;
    a.gap(1, Instant{} + milliseconds(50));
    a.take(all, 0, 2, out);
    EXPECT_EQ(out.quality, (std::vector<QualityInterval>{{1, 2, Quality::stale}})) << "nothing came of it";
    EXPECT_EQ(out.values[1], (std::vector<double>{2, 2}));
    a.doNotWait(1);
    EXPECT_EQ(a.ready(*all, Instant{} + milliseconds(1000)), 3U);
}

/// A frequency that changes, measured every second over the last: the same however the stream is cut.
TEST(KeptMeasure, IsThatOfTheLastSoLongAndStandsInBetween) {
    const Stage frequency = Stage::of("measure", {{"measure", std::string("frequency")},
                                                  {"time-s", 1.0},
                                                  {"every-s", 0.5},
                                                  {"of", StageSources{{"a", 0, "V", "a"}}}});
    EXPECT_EQ(unitAfter(frequency, ""), "Hz");
    std::vector<double> in;
    std::vector<Instant> times;
    for (int i = 0; i < 6000; ++i) {
        const double t = i * 1e-3;
        in.push_back(std::sin(2 * 3.14159265358979 * (t < 3 ? 10 * t : 30 + 25 * (t - 3))));
        times.push_back(Instant{} + milliseconds(i));
    }
    const auto worked = [&](std::size_t cut) {
        auto made = ChainEvaluator::make({frequency}, ChannelKind::computed, {"V"});
        EXPECT_TRUE(made.ok());
        std::vector<double> all;
        for (std::size_t from = 0; from < in.size(); from += cut) {
            const std::size_t n = std::min(cut, in.size() - from);
            const std::vector<double> part(in.begin() + static_cast<std::ptrdiff_t>(from),
                                           in.begin() + static_cast<std::ptrdiff_t>(from + n));
            const std::vector<Instant> at(times.begin() + static_cast<std::ptrdiff_t>(from),
                                          times.begin() + static_cast<std::ptrdiff_t>(from + n));
            const std::vector<std::span<const double>> inputs{part};
            Readings out;
            made.value().process(std::vector<double>(n, std::nan("")), at, out, inputs);
            all.insert(all.end(), out.values.begin(), out.values.end());
        }
        return all;
    };
    const auto once = worked(6000);
    EXPECT_TRUE(std::isnan(once[900])) << "a second has not been read yet";
    EXPECT_NEAR(once[2600], 10, 0.01);
    EXPECT_EQ(once[2600], once[2999]) << "it stands until it is measured again";
    EXPECT_NEAR(once[5600], 25, 0.05);
    for (const std::size_t cut : {1U, 7U, 333U, 1000U}) {
        const auto parts = worked(cut);
        for (std::size_t i = 0; i < once.size(); ++i)
            ASSERT_TRUE(parts[i] == once[i] || (std::isnan(parts[i]) && std::isnan(once[i]))) << cut << " " << i;
    }
}

/// Of what a stage makes of inputs that come every millisecond, in parts of `cut`.
std::vector<double> measuredOf(const Stage& stage, const std::vector<std::vector<double>>& in, std::size_t cut) {
    auto made = ChainEvaluator::make({stage}, ChannelKind::computed, std::vector<std::string>(in.size(), "V"));
    EXPECT_TRUE(made.ok());
    std::vector<double> all;
    for (std::size_t from = 0; from < in[0].size(); from += cut) {
        const std::size_t n = std::min(cut, in[0].size() - from);
        std::vector<Instant> at;
        for (std::size_t i = 0; i < n; ++i) at.push_back(Instant{} + milliseconds(static_cast<std::int64_t>(from + i)));
        std::vector<std::span<const double>> inputs;
        for (const auto& v : in) inputs.push_back(std::span(v).subspan(from, n));
        Readings out;
        made.value().process(std::vector<double>(n, std::nan("")), at, out, inputs);
        all.insert(all.end(), out.values.begin(), out.values.end());
    }
    return all;
}

TEST(KeptMeasure, IsThatOfEachPeriodWhereItIsAskedFor) {
    const Stage swing = Stage::of("measure", {{"measure", std::string("peak-to-peak")},
                                              {"when", std::string("period")},
                                              {"time-s", 1.0},
                                              {"of", StageSources{{"a", 0, "V", "a"}}}});
    // Five periods a second; each one's amplitude is its own.
    std::vector<double> in;
    for (int i = 0; i < 6000; ++i) {
        const double turns = i * 5e-3;
        in.push_back((1 + 0.01 * std::floor(turns)) * std::sin(2 * 3.14159265358979 * turns));
    }
    const auto once = measuredOf(swing, {in}, 6000);
    EXPECT_TRUE(std::isnan(once[1100])) << "its middle is known after a second, a period is over later";
    int changes = 0;
    for (std::size_t i = 2000; i < once.size(); ++i) changes += once[i] != once[i - 1];
    EXPECT_EQ(changes, 20) << "once in each of the twenty periods of four seconds";
    EXPECT_NEAR(once[4100], 2 * (1 + 0.01 * 19), 0.03) << "the period that ended last";
    for (const std::size_t cut : {1U, 333U}) {
        const auto parts = measuredOf(swing, {in}, cut);
        for (std::size_t i = 0; i < once.size(); ++i)
            ASSERT_TRUE(parts[i] == once[i] || (std::isnan(parts[i]) && std::isnan(once[i]))) << cut << " " << i;
    }
}

TEST(KeptMeasure, IsTakenAtEachEventOfTheLastSignal) {
    const Stage mean = Stage::of("measure", {{"measure", std::string("mean")},
                                             {"when", std::string("event")},
                                             {"time-s", 0.5},
                                             {"of", StageSources{{"a", 0, "V", "a"}, {"go", 0, "V", "go"}}}});
    EXPECT_TRUE(checkStage(mean, "").ok());
    EXPECT_EQ(unitAfter(mean, ""), "V");
    EXPECT_FALSE(
        checkStage(Stage::of("measure", {{"when", std::string("event")}, {"of", StageSources{{"a", 0, "V", "a"}}}}), "")
            .ok())
        << "whose events?";
    std::vector<double> a, go;
    for (int i = 0; i < 4000; ++i) {
        a.push_back(i * 1e-3);
        go.push_back((i >= 1500 && i < 1600) || i >= 3200 ? 1 : 0);
    }
    const auto out = measuredOf(mean, {a, go}, 700);
    EXPECT_TRUE(std::isnan(out[1499]));
    EXPECT_NEAR(out[1500], 1.25, 0.001) << "of the half second before it";
    EXPECT_EQ(out[3199], out[1500]) << "it stands; a fall is none";
    EXPECT_NEAR(out[3200], 2.95, 0.001);
}

TEST(KeptMeasure, OfTwoHoldsTheFirstAgainstTheSecond) {
    const Stage gain = Stage::of("measure", {{"measure", std::string("gain")},
                                             {"time-s", 1.0},
                                             {"every-s", 1.0},
                                             {"of", StageSources{{"a", 0, "V", "a"}, {"b", 0, "V", "b"}}}});
    EXPECT_TRUE(checkStage(gain, "").ok());
    const Stage alone =
        Stage::of("measure", {{"measure", std::string("gain")}, {"of", StageSources{{"a", 0, "V", "a"}}}});
    EXPECT_FALSE(checkStage(alone, "").ok()) << "against what?";
    std::vector<double> a, b;
    std::vector<Instant> times;
    for (int i = 0; i < 3000; ++i) {
        b.push_back(std::sin(i * 0.05));
        a.push_back(-2.5 * std::sin(i * 0.05 - 0.1));
        times.push_back(Instant{} + milliseconds(i));
    }
    auto made = ChainEvaluator::make({gain}, ChannelKind::computed, {"V", "V"});
    ASSERT_TRUE(made.ok());
    const std::vector<std::span<const double>> inputs{a, b};
    Readings out;
    made.value().process(std::vector<double>(a.size(), std::nan("")), times, out, inputs);
    EXPECT_NEAR(out.values.back(), -2.5, 1e-6) << "it inverts";
}

}  // namespace
}  // namespace cruscotto
