#include "core/base/number_text.h"
#include "core/signal/scale.h"

#include <cmath>
#include <limits>
#include <random>

#include "core/base/text.h"
#include "core/base/time.h"
#include "core/base/units.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

TEST(ExactNumber, ReadsBackAsTheSameDouble) {
    std::mt19937_64 random(7);
    for (int i = 0; i < 20'000; ++i) {
        const double v = std::bit_cast<double>(random());
        if (!std::isfinite(v)) continue;
        EXPECT_EQ(std::strtod(exactNumber(v).c_str(), nullptr), v) << exactNumber(v);
    }
    EXPECT_EQ(exactNumber(0.1), "0.1");
    EXPECT_EQ(exactNumber(std::nan("")), "");
}

TEST(ReadingText, ShowsWhatAPersonReads) {
    struct Case {
        double v;
        int decimals;
        const char* text;
    };
    for (const Case& c : {Case{1.745, 2, "1.75"}, Case{-3.2, 1, "−3.2"}, Case{-0.001, 2, "0.00"},
                          Case{2050.4, 0, "2050"}, Case{std::nan(""), 2, "–"},
                          Case{-std::numeric_limits<double>::infinity(), 2, "−∞"}, Case{1.5e12, 2, "1.5e+12"}})
        EXPECT_EQ(readingText(c.v, c.decimals), c.text) << c.v;
}

TEST(DecimalsFor, TellApartAThousandthOfTheSpan) {
    EXPECT_EQ(decimalsFor(0, 1000), 0);
    EXPECT_EQ(decimalsFor(0, 100), 1);
    EXPECT_EQ(decimalsFor(0, 10), 2);
    EXPECT_EQ(decimalsFor(-1, 1.5), 2);
    EXPECT_EQ(decimalsFor(0, 1), 3);
    EXPECT_EQ(decimalsFor(5, 5), 2);
}

TEST(ParseNumber, TakesWhatPeopleTypeAndNothingElse) {
    double v = 0;
    for (const auto& [typed, expected] :
         {std::pair("2.5", 2.5), std::pair(" −2,5 ", -2.5), std::pair("+7", 7.0), std::pair("1e3", 1000.0)}) {
        ASSERT_TRUE(parseNumber(typed, v)) << typed;
        EXPECT_DOUBLE_EQ(v, expected);
    }
    for (const char* wrong : {"", "abc", "1.2.3", "1,2,3", "nan", "inf", "5 V", "--1"})
        EXPECT_FALSE(parseNumber(wrong, v)) << wrong;
}

TEST(TicksFor, AreRoundInsideTheScaleAndNotTooMany) {
    std::mt19937 random(3);
    std::uniform_real_distribution<double> exponent(-6, 6), at(-5, 5);
    for (int i = 0; i < 2000; ++i) {
        const double span = std::pow(10, exponent(random));
        const double low = at(random) * span;
        const Scale scale{low, low + span};
        const int most = 2 + i % 9;
        const auto ticks = ticksFor(scale, most);
        ASSERT_LE(ticks.size(), static_cast<std::size_t>(most));
        for (std::size_t k = 0; k < ticks.size(); ++k) {
            EXPECT_GE(ticks[k], scale.low - 1e-6 * span);
            EXPECT_LE(ticks[k], scale.high + 1e-6 * span);
            if (k) {
                const double step = ticks[k] - ticks[k - 1];
                const double mantissa = step / std::pow(10, std::floor(std::log10(step) + 1e-9));
                EXPECT_TRUE(std::fabs(mantissa - 1) < 1e-3 || std::fabs(mantissa - 2) < 1e-3 ||
                            std::fabs(mantissa - 5) < 1e-3)
                    << step;
            }
        }
    }
    EXPECT_EQ(ticksFor({0, 10}, 6), (std::vector<double>{0, 2, 4, 6, 8, 10}));
    EXPECT_TRUE(ticksFor({1, 1}, 5).empty());
    EXPECT_TRUE(ticksFor({0, 1}, 0).empty());
}

TEST(TicksBetweenEnds, AreAnEvenRowThatKeepsClearOfBothEnds) {
    EXPECT_EQ(ticksBetweenEnds({0, 6}, 4, 0.1), (std::vector<double>{2, 4}));
    EXPECT_EQ(ticksBetweenEnds({-0.5, 0.5}, 5, 0.12), (std::vector<double>{0})) << "not 0.2 and then nothing";
    EXPECT_EQ(ticksBetweenEnds({30, 33}, 2, 0.2), (std::vector<double>{}));
    EXPECT_EQ(ticksBetweenEnds({-1, 6}, 5, 0.1), (std::vector<double>{0, 2, 4}));
    EXPECT_TRUE(ticksBetweenEnds({5, 5}, 5, 0.1).empty());
    EXPECT_TRUE(ticksBetweenEnds({0, 1}, 0, 0.1).empty());
}

TEST(TicksBetweenEnds, AreWrittenWithTheDecimalsThatTheyNeed) {
    // One tick alone: 31.5 between 31.4 and 31.6 is no 32.
    EXPECT_EQ(decimalsOf(ticksBetweenEnds({31.4, 31.6}, 3, 0.2)), 1);
    EXPECT_EQ(decimalsOf({0, 500, 1000}), 0);
    EXPECT_EQ(decimalsOf({-0.5, 0, 0.5}), 1);
    EXPECT_EQ(decimalsOf({0.1 + 0.2}), 1) << "what doubles cannot hold is not shown";
    EXPECT_EQ(decimalsOf({1.25e-3}), 5);
    EXPECT_EQ(decimalsOf({1e9, 2e9}), 0);
    EXPECT_EQ(decimalsOf({}), 0);
    EXPECT_EQ(decimalsOf({1.0 / 3}), 9);
}

TEST(TimeTicks, FallOnRoundTimesOfDayInTheZone) {
    constexpr long long s = 1'000'000'000;
    long long step = 0;
    // 12:00:07 to 12:00:52 by a clock that is half an hour off
    const long long from = 43'207 * s, to = 43'252 * s;
    const auto ticks = timeTicksFor(from, to, 5, 1800 * s, &step);
    EXPECT_EQ(step, 10 * s);
    EXPECT_EQ(ticks, (std::vector<long long>{43'210 * s, 43'220 * s, 43'230 * s, 43'240 * s, 43'250 * s}));
    EXPECT_LE(timeTicksFor(0, 400LL * 86400 * s, 6, 0, &step).size(), 7U);
    EXPECT_FALSE(timeTicksFor(0, 500, 5, 0, &step).empty());
    EXPECT_EQ(timeTicksFor(-30 * s, 1, 6, 0, &step).back(), 0);
}

TEST(NiceScale, HoldsTheExtremesAndIsRound) {
    for (const auto& [low, high] : {std::pair(1.13, 1.97), std::pair(-0.42, 0.37), std::pair(20.0, 80.0),
                                    std::pair(5.0, 5.0), std::pair(0.0, 0.0)}) {
        const Scale s = niceScale(low, high);
        EXPECT_LE(s.low, low);
        EXPECT_GE(s.high, high);
        EXPECT_LT(s.low, s.high);
        EXPECT_LE(s.high - s.low, std::max(1e-2, 2.6 * std::max(high - low, 0.1 * std::fabs(high))));
    }
    EXPECT_EQ(niceScale(1.13, 1.97), (Scale{1.0, 2.0}));
}

TEST(FractionOf, IsClampedAndKeepsNothingAsNothing) {
    EXPECT_DOUBLE_EQ(fractionOf({10, 20}, 12.5), 0.25);
    EXPECT_EQ(fractionOf({10, 20}, 5), 0);
    EXPECT_EQ(fractionOf({10, 20}, 25), 1);
    EXPECT_TRUE(std::isnan(fractionOf({10, 20}, std::nan(""))));
}

TEST(Format, OffTheScaleIsWhatNoiseAtAnEndIsNot) {
    EXPECT_EQ(offScale({10, 20}, 9.95), OffScale::no);
    EXPECT_EQ(offScale({10, 20}, 20.05), OffScale::no);
    EXPECT_EQ(offScale({10, 20}, 9.8), OffScale::below);
    EXPECT_EQ(offScale({10, 20}, 20.2), OffScale::above);
    EXPECT_EQ(offScale({10, 20}, std::nan("")), OffScale::no);
}

TEST(Time, IsWrittenExactlyAndReadBack) {
    EXPECT_EQ(secondsText(12'500'000'000), "12.5");
    EXPECT_EQ(secondsText(1), "0.000000001");
    EXPECT_EQ(secondsText(-1'000'000'001), "-1.000000001");
    EXPECT_EQ(secondsText(0), "0");
    EXPECT_EQ(clockText(seconds(3.6e5 + 61)), "100:01:01");
    EXPECT_EQ(clockText(seconds(-5)), "-00:00:05");
    EXPECT_EQ(roughText(seconds(31 * 3600 + 5)), "31 h");
    Duration d;
    for (const auto& [typed, ns] :
         {std::pair("10s", 10'000'000'000LL), std::pair("250ms", 250'000'000LL), std::pair("1.5min", 90'000'000'000LL),
          std::pair("2 h", 7'200'000'000'000LL), std::pair("3", 3'000'000'000LL)}) {
        ASSERT_TRUE(parseDuration(typed, d)) << typed;
        EXPECT_EQ(d.ns, ns);
    }
    for (const char* wrong : {"", "s", "10 parsecs", "1e300h", "nan"}) EXPECT_FALSE(parseDuration(wrong, d)) << wrong;
}

TEST(Units, AreStoredAsCodesAndShownAsPeopleWriteThem) {
    for (const auto& [code, shown] :
         {std::pair("Cel", "°C"), std::pair("[g]", "g"), std::pair("{rpm}", "rpm"), std::pair("m/s2", "m/s²"),
          std::pair("1", ""), std::pair("{bees}", "bees"), std::pair("N.m", "N·m")})
        EXPECT_EQ(unitText(code), shown);
    EXPECT_EQ(unitFromTyped("°C"), "Cel");
    EXPECT_EQ(unitFromTyped(" rpm "), "{rpm}");
    EXPECT_EQ(unitFromTyped("bar"), "bar");
    EXPECT_EQ(unitFromTyped("furlongs"), "{furlongs}");
    EXPECT_EQ(unitFromTyped(""), "1");
    for (const auto& [typed, code] :
         {std::pair("degC", "Cel"), std::pair("deg F", "[degF]"), std::pair("ohm", "Ohm"), std::pair("l/min", "L/min"),
          std::pair("m^3/h", "m3/h"), std::pair("RPM", "{rpm}"), std::pair("\u2126", "Ohm"),
          std::pair("\u03bcV", "uV")})
        EXPECT_EQ(unitFromTyped(typed), code) << "where a keyboard has no such sign, or another one";
}

TEST(Units, ConvertOnlyWhatMeasuresTheSame) {
    struct Case {
        const char *from, *to;
        double x, y;
    };
    for (const Case& c :
         {Case{"bar", "kPa", 1.5, 150}, Case{"Cel", "K", 20, 293.15}, Case{"Cel", "[degF]", 100, 212},
          Case{"[degF]", "Cel", 32, 0}, Case{"L/min", "m3/h", 100, 6}, Case{"[g]", "m/s2", 2, 19.6133}}) {
        const auto conversion = convertUnit(c.from, c.to);
        ASSERT_TRUE(conversion) << c.from;
        EXPECT_NEAR(conversion->factor * c.x + conversion->offset, c.y, 1e-9 * std::max(1.0, std::fabs(c.y)))
            << c.from << " to " << c.to;
    }
    EXPECT_FALSE(convertUnit("bar", "Cel"));
    EXPECT_FALSE(convertUnit("{bees}", "{birds}"));
    EXPECT_TRUE(compatibleUnits("{bees}").empty());
    for (const std::string& u : compatibleUnits("bar")) EXPECT_TRUE(convertUnit("bar", u)) << u;
}

TEST(Text, PutsItsArgumentsIntoAnyPattern) {
    const Text t = text("{0} of {1}", 3, "seven");
    EXPECT_EQ(t.english(), "3 of seven");
    EXPECT_EQ(t.fill("von {1}: {0} {5}"), "von seven: 3 {5}");
}

}  // namespace
}  // namespace cruscotto
