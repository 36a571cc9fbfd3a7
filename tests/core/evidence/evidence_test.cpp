#include "core/evidence/evidence_log.h"
#include "core/evidence/evidence_watch.h"
#include "healthy_shapes.h"
#include "support.h"

namespace cruscotto {
namespace {

using test::HealthyShape;

const EvidenceWatch::Neighbours nobody = [] { return std::vector<std::pair<std::string, std::vector<double>>>(); };
const RawWorth ofVolts{10 / 32768.0, 0, "V", 1, 32768};

/// A watch that is fed a second of samples at a time.
struct LookedAt {
    explicit LookedAt(double rateHz, const RawWorth& worth = {10 / 32768.0, 0, "V", 1, 32768})
        : watch(worth), rate(rateHz) {}
    /// Looks `seconds` times at what `next` gives.
    template <class Next>
    void go(int seconds, Next&& next, const EvidenceWatch::Neighbours& neighbours = nobody) {
        for (int s = 0; s < seconds; ++s) {
            std::vector<double> all = overlap;
            for (int i = 0; i < static_cast<int>(rate); ++i) all.push_back(next(static_cast<double>(n++) / rate));
            std::vector<double> thinned;
            const std::size_t stride = rate > 1024 ? static_cast<std::size_t>(std::ceil(rate / 1024)) : 1;
            for (std::size_t i = (all.size() - 1) % stride; i < all.size(); i += stride) thinned.push_back(all[i]);
            const std::size_t most = std::min(all.size(), EvidenceWatch::mostSamples);
            overlap.assign(all.end() - 2 * signs::jumpNeighbours, all.end());
            watch.beginLook(Instant{} + seconds_(++looks));
            watch.analog({rate, n, std::span(all).last(most), thinned, rate / static_cast<double>(stride)}, neighbours);
            watch.endLook();
        }
    }
    [[nodiscard]] const Evidence* says(Doubt doubt) const {
        for (const Evidence& e : watch.evidence())
            if (e.doubt == doubt) return &e;
        return nullptr;
    }
    static Duration seconds_(int s) { return milliseconds(1000 * s); }
    EvidenceWatch watch;
    double rate;
    std::uint64_t n = 0;
    std::vector<double> overlap;
    int looks = 0;
};

double counts(double v) {
    return std::round(v / 10 * 32768);
}

struct GaussNoise {
    std::mt19937 engine{7};
    std::normal_distribution<double> normal;
    double operator()() { return normal(engine); }
};

TEST(Evidence, HealthySignalsOfManyShapesAreNotSuspected) {
    for (int kind = 0; kind < HealthyShape::kinds; ++kind)
        for (unsigned seed = 0; seed < 40; ++seed) {
            const double rate = std::array{100.0, 1000.0, 10'000.0}[seed % 3];
            HealthyShape shape(static_cast<HealthyShape::Kind>(kind), 1000 + seed, rate);
            LookedAt w(rate);
            w.go(12, [&](double) { return shape.next(); });
            EXPECT_FALSE(w.watch.suspect())
                << HealthyShape::names[kind] << ' ' << seed << ": " << w.watch.evidence().front().grounds.english();
        }
}

TEST(Evidence, AnOpenInputHumsAndWandersAndFollowsItsNeighbour) {
    GaussNoise random;
    double wander = 0;
    std::vector<double> neighbour;
    const auto open = [&](double t) {
        wander += 0.002 * random() - 0.0005 * wander;
        return counts(wander + 0.09 * std::sin(2 * std::numbers::pi * 50 * t) + 0.004 * random());
    };
    LookedAt alone(1000);
    alone.go(5, open);
    ASSERT_TRUE(alone.says(Doubt::notConnected));
    EXPECT_TRUE(alone.watch.suspect());
    EXPECT_NE(alone.says(Doubt::notConnected)->grounds.english().find("50 Hz"), std::string::npos);
    // connected: a source that hums just as much, and stands still
    alone.go(4,
             [&](double t) { return counts(2 + 0.09 * std::sin(2 * std::numbers::pi * 50 * t) + 0.004 * random()); });
    EXPECT_FALSE(alone.says(Doubt::notConnected));
    EXPECT_TRUE(alone.says(Doubt::hums));
    EXPECT_FALSE(alone.watch.suspect());

    LookedAt beside(1000);
    std::vector<double> second;
    beside.go(
        5,
        [&](double t) {
            const double other = 0.2 * std::sin(2 * std::numbers::pi * 33 * t) + 0.01 * random();
            if (second.size() == 1000) second.clear();
            second.push_back(counts(other));
            return open(t) + 0.4 * counts(other);
        },
        [&] {
            return std::vector<std::pair<std::string, std::vector<double>>>{{"Vibration", second}};
        });
    ASSERT_TRUE(beside.says(Doubt::notConnected));
    EXPECT_NE(beside.says(Doubt::notConnected)->grounds.english().find("the same as in Vibration"), std::string::npos)
        << beside.says(Doubt::notConnected)->grounds.english();
}

TEST(Evidence, AnInputThatTakesOnWhatTheOneBeforeItReadsIsToldFromASecondSensor) {
    GaussNoise random;
    for (const bool open : {true, false}) {
        EvidenceWatch watch(ofVolts);
        for (int look = 1; look <= 4; ++look) {
            std::vector<double> first, second;
            for (int i = 0; i < 1000; ++i) {
                const double quantity = std::sin(0.05 * i);
                first.push_back(counts(quantity + 0.01 * random()));
                second.push_back(open ? std::round(0.9 * first.back()) : counts(quantity + 0.01 * random()));
            }
            watch.beginLook(Instant{} + milliseconds(1000 * look));
            watch.analog({1000, 1000U * static_cast<unsigned>(look), second, second, 1000, first, "Level"}, nobody);
            watch.endLook();
        }
        ASSERT_EQ(watch.evidence().size(), open ? 1U : 0U);
        if (open) {
            EXPECT_EQ(watch.evidence()[0].doubt, Doubt::sameAsAnother);
            EXPECT_FALSE(watch.suspect()) << "an amplifier between the two would do the same";
        }
    }
}

TEST(Evidence, FlatTopsAreToldFromASquareWaveAndFromHeldRamps) {
    GaussNoise random;
    const auto clipped = [&](double t) {
        return counts(std::clamp(4 * std::sin(2 * std::numbers::pi * 23 * t) + 0.3 * random(), -9.0, 3.0));
    };
    LookedAt rail(1000);
    rail.go(3, clipped);
    ASSERT_TRUE(rail.says(Doubt::flatTops));
    EXPECT_NE(rail.says(Doubt::flatTops)->grounds.english().find("3.00 V"), std::string::npos)
        << rail.says(Doubt::flatTops)->grounds.english();
    // noise of its own behind the amplifier
    LookedAt behind(1000);
    behind.go(3, [&](double t) {
        return counts(std::clamp(4.8 * std::sin(2 * std::numbers::pi * 11 * t), -3.4, 3.4) + 0.003 * random());
    });
    EXPECT_TRUE(behind.says(Doubt::flatTops));
    // and the same sine below the rail
    behind.go(3, [&](double t) {
        return counts(std::clamp(3.3 * std::sin(2 * std::numbers::pi * 11 * t), -3.4, 3.4) + 0.003 * random());
    });
    EXPECT_FALSE(behind.says(Doubt::flatTops));
    LookedAt square(1000);
    square.go(3, [&](double t) { return counts(std::fmod(t * 11, 1) < 0.4 ? 3 : -3); });
    EXPECT_FALSE(square.says(Doubt::flatTops));
}

TEST(Evidence, StuckIsWhatMovedBeforeToTheLastBit) {
    GaussNoise random;
    LookedAt w(1000);
    w.go(6, [&](double) { return counts(2) + std::round(2 * random()); });
    EXPECT_TRUE(w.watch.evidence().empty());
    w.go(3, [](double) { return counts(2); });
    ASSERT_TRUE(w.says(Doubt::stuck));
    EXPECT_TRUE(w.watch.suspect());
    w.go(1, [&](double) { return counts(2) + std::round(2 * random()); });
    EXPECT_TRUE(w.watch.evidence().empty()) << "it moves again";
    LookedAt still(1000);
    still.go(10, [](double) { return counts(2); });
    EXPECT_FALSE(still.says(Doubt::stuck)) << "it never moved";
    LookedAt ramp(1000);
    ramp.go(6, [](double t) { return counts(t); });
    ramp.go(3, [](double) { return counts(6); });
    EXPECT_FALSE(ramp.says(Doubt::stuck)) << "a ramp that is over";
}

TEST(Evidence, OfAHundredSamplesASecondStuckIsFoundWhateverTheNoise) {
    for (int seed = 0; seed < 40; ++seed) {
        GaussNoise random;
        for (int i = 0; i < 1000 * seed; ++i) (void)random();
        LookedAt w(100);
        w.go(14, [&](double t) { return counts(2) + (t < 10.3 ? std::round(3 * random()) : 0); });
        EXPECT_TRUE(w.says(Doubt::stuck)) << seed;
    }
}

TEST(Evidence, ALooseContactJumpsToWhereAnOpenOneStands) {
    GaussNoise random;
    std::mt19937 when(3);
    LookedAt loose(1000);
    loose.go(5, [&](double) { return when() % 300 == 0 ? counts(0.01) : counts(2 + 0.002 * random()); });
    ASSERT_TRUE(loose.says(Doubt::jumps));
    loose.go(5, [&](double) { return counts(2 + 0.002 * random()); });
    EXPECT_FALSE(loose.says(Doubt::jumps));
    // hits are single samples too, of any height
    LookedAt hits(1000);
    hits.go(8, [&](double) {
        return when() % 300 == 0 ? counts(0.06 + 0.00034 * static_cast<double>(when() % 1000))
                                 : counts(0.004 * random());
    });
    EXPECT_FALSE(hits.says(Doubt::jumps));
    // and so are the pulses of a clock
    LookedAt pulses(1000);
    int n = 0;
    pulses.go(8, [&](double) { return ++n % 250 == 0 ? counts(5) : counts(0.004 * random()); });
    EXPECT_FALSE(pulses.says(Doubt::jumps));
}

TEST(Evidence, WhatIsReadTooSlowlyOrTooCoarselyIsSaid) {
    GaussNoise random;
    LookedAt fast(100);
    fast.go(6, [&](double t) { return counts(3 * std::sin(2 * std::numbers::pi * 37.3 * t)); });
    EXPECT_TRUE(fast.says(Doubt::tooSlow));
    EXPECT_FALSE(fast.watch.suspect()) << "each sample is true";
    LookedAt coarse(100);
    coarse.go(25, [&](double) { return 20 + std::round(0.6 * random()); });
    EXPECT_TRUE(coarse.says(Doubt::tooCoarse));
    LookedAt noise(100);
    noise.go(25, [&](double) { return std::round(1000 * random()); });
    EXPECT_TRUE(noise.watch.evidence().empty());
}

/// The amplifier's rail, as slow as the sorter's sieve and sampled as fast: few of its tops are in one look's newest.
TEST(Evidence, SlowFlatTopsAtAHighRateAreSeenInAllOfTheLastSecond) {
    for (const double hz : {5.0, 12.0, 20.0}) {
        SCOPED_TRACE(hz);
        const double rate = 5000;
        EvidenceWatch watch(ofVolts);
        std::vector<double> all(static_cast<std::size_t>(rate));
        const auto look = [&](int second, double amplitude) {
            for (std::size_t i = 0; i < all.size(); ++i) {
                const double t = second + static_cast<double>(i) / rate;
                all[i] = counts(std::clamp(amplitude * std::sin(2 * std::numbers::pi * hz * t), -3.4, 3.4));
            }
            std::vector<double> thinned;
            for (std::size_t i = 7; i < all.size(); i += 16) thinned.push_back(all[i]);
            EvidenceWatch::Stretch stretch{rate, 5000U * static_cast<unsigned>(second + 1), std::span(all).last(512),
                                           thinned, rate / 16};
            stretch.dense = [&](double, std::vector<double>& out) {
                out = all;
                return rate;
            };
            watch.beginLook(Instant{} + LookedAt::seconds_(second));
            watch.analog(stretch, nobody);
            watch.endLook();
        };
        const auto says = [&] {
            return std::ranges::find(watch.evidence(), Doubt::flatTops, &Evidence::doubt) != watch.evidence().end();
        };
        for (int s = 0; s < 4; ++s) look(s, 4.8);
        EXPECT_TRUE(says());
        for (int s = 4; s < 8; ++s) look(s, 3.39);
        EXPECT_FALSE(says());
    }
}

/// Few samples show that a contact changed; all of them are looked at then, and a bounce at a seam is seen once.
TEST(Evidence, ABounceIsSeenAtAnyRateAndAtTheSeamOfTwoLooks) {
    const double rate = 20'000;
    for (const double when : {0.3, 0.97, 0.999, 1.001}) {  // looks at 1 s and 2 s
        SCOPED_TRACE(when);
        EvidenceWatch watch;
        const auto bit = [&](double t) {
            const double since = t - when;
            return since < -0.00002 || (since > 0.00052 && since < 0.00102) || (since > 0.00152 && since < 0.00207)
                       ? 0.0
                       : 1.0;
        };
        const auto samples = [&](double end, double time, double hz) {
            std::vector<double> out;
            for (double i = std::floor(time * hz); i > 0; --i) out.push_back(bit(end - i / hz));
            return out;
        };
        int begun = 0;
        for (int at = 1; at <= 3; ++at) {
            const std::vector<double> few = samples(at, EvidenceWatch::contactSeconds, 100);
            EvidenceWatch::Stretch stretch{rate, static_cast<std::uint64_t>(at * rate), few, {}, 0};
            stretch.dense = [&](double time, std::vector<double>& out) {
                out = samples(at, time, rate);
                return rate;
            };
            watch.beginLook(Instant{} + LookedAt::seconds_(at));
            watch.contact(stretch);
            watch.endLook();
            begun += !watch.evidence().empty() && watch.evidence()[0].since == Instant{} + LookedAt::seconds_(at);
        }
        ASSERT_EQ(watch.evidence().size(), 1U);
        EXPECT_EQ(watch.evidence()[0].grounds.english(), "changed 5 times within 2.10 ms when it changed once.");
        EXPECT_EQ(begun, 1);
    }
}

TEST(Evidence, ContactsThatBounceAreToldFromThoseThatArePressedOften) {
    EvidenceWatch watch;
    std::vector<double> bits(1000, 0);
    for (std::size_t i = 500; i < bits.size(); ++i) bits[i] = 1;
    for (const std::size_t i : {501, 503, 504}) bits[i] = 0;
    const auto look = [&](const std::vector<double>& x, int at) {
        watch.beginLook(Instant{} + milliseconds(1000 * at));
        watch.contact({1000, 1000U * static_cast<unsigned>(at), x, x, 1000});
        watch.endLook();
    };
    look(bits, 1);
    ASSERT_EQ(watch.evidence().size(), 1U);
    EXPECT_EQ(watch.evidence()[0].grounds.english(), "changed 5 times within 5.00 ms when it changed once.");
    EvidenceWatch pressed;
    std::vector<double> often(1000, 0);
    for (std::size_t i = 0; i < often.size(); ++i) often[i] = i / 15 % 2 == 0 ? 0 : 1;
    pressed.beginLook(Instant{});
    pressed.contact({1000, 1000, often, often, 1000});
    pressed.endLook();
    EXPECT_TRUE(pressed.evidence().empty());
}

TEST(Evidence, WhatDisagreesOrDriftsOrIsNotAsToldIsSaidInItsUnit) {
    EvidenceWatch watch(ofVolts);
    const auto look = [&](int at, double own, double other) {
        watch.beginLook(Instant{} + milliseconds(1000 * at));
        watch.pair({"Tank, second sensor", own, other, 0.5, 2, "Cel"});
        watch.endLook();
    };
    look(1, 20, 20.4);
    EXPECT_FALSE(watch.suspect());
    look(2, 20, 22);
    look(3, 20, 22);
    EXPECT_FALSE(watch.suspect()) << "not for long enough";
    look(4, 20, 22);
    ASSERT_TRUE(watch.suspect());
    EXPECT_EQ(watch.evidence()[0].grounds.english(), "is 2.00 °C away from Tank, second sensor; 0.500 °C are allowed.");
    look(5, 20, 20);
    EXPECT_FALSE(watch.suspect());
    // one that agrees does not speak for one that does not
    EvidenceWatch both(ofVolts);
    for (int at = 1; at <= 4; ++at) {
        both.beginLook(Instant{} + milliseconds(1000 * at));
        both.pair({"Far off", 20, 22, 0.5, 2, "Cel"});
        both.pair({"The same", 20, 20, 0.5, 2, "Cel"});
        both.endLook();
    }
    EXPECT_TRUE(both.suspect());

    GaussNoise random;
    for (int i = 0; i < 130; ++i) {
        watch.beginLook(Instant{} + milliseconds(10'000 + 1000 * i));
        watch.reading(20 + i * 0.001 + 0.001 * random(), Quality::good, 0, "Cel");
        watch.endLook();
    }
    ASSERT_EQ(watch.evidence().size(), 1U);
    EXPECT_EQ(watch.evidence()[0].doubt, Doubt::drifts);

    EvidenceWatch told(ofVolts);
    told.told(Instant{}, 0, 0.012, 0.0003, 0.001, "V");
    ASSERT_EQ(told.evidence().size(), 1U);
    EXPECT_EQ(told.evidence()[0].grounds.english(), "reads 0.0120 V where 0 V was said to be.");
    told.told(Instant{}, 0, 0.0005, 0.0003, 0.001, "V");
    EXPECT_TRUE(told.evidence().empty());
}

TEST(Evidence, APulledInputShowsWhetherAnythingHoldsIt) {
    EvidenceWatch watch(ofVolts);
    watch.probed(Instant{}, 5, 10'000, counts(0.1), counts(4.98));
    ASSERT_EQ(watch.evidence().size(), 1U);
    EXPECT_EQ(watch.evidence()[0].doubt, Doubt::notConnected);
    EXPECT_TRUE(watch.suspect());
    watch.probed(Instant{}, 5, 10'000, counts(2), counts(2 + 3 / 11.0));
    ASSERT_EQ(watch.evidence().size(), 1U);
    EXPECT_EQ(watch.evidence()[0].doubt, Doubt::connected);
    EXPECT_NE(watch.evidence()[0].grounds.english().find("1000 Ω"), std::string::npos)
        << watch.evidence()[0].grounds.english();
}

TEST(Evidence, StandsInARunsEventsAndIsReadBack) {
    const Evidence e{Doubt::flatTops, "stands at 3.4 V: again and again.", Instant{5}, 0.9};
    const auto back = evidenceFromEvent(Instant{5}, evidenceEvent("sieve", e));
    ASSERT_TRUE(back);
    EXPECT_EQ(back->signal, "sieve");
    EXPECT_EQ(back->evidence.doubt, Doubt::flatTops);
    EXPECT_EQ(back->evidence.grounds, e.grounds);
    EXPECT_FALSE(evidenceFromEvent({}, "a mark that somebody set"));
    EXPECT_FALSE(evidenceFromEvent({}, "sieve: no-such-doubt: because"));
    for (const DoubtKind& kind : doubtKinds()) {
        EXPECT_EQ(&doubtKind(kind.doubt), &kind) << kind.key;
        EXPECT_TRUE(evidenceFromEvent({}, std::string("x: ") + kind.key)) << kind.key;
    }
}

TEST(Evidence, TheLogTellsWhatWasSaidAtAnyMoment) {
    EvidenceLog log;
    const auto at = [](int s) { return Instant{} + milliseconds(1000 * s); };
    const Evidence hum{Doubt::hums, "50 Hz", at(2), 1}, stuck{Doubt::stuck, "for 3 s", at(4), 1};
    log.set("a", at(2), {hum});
    log.set("a", at(4), {stuck, hum});
    log.set("a", at(6), {stuck});
    EXPECT_TRUE(log.at("a", at(1)).empty());
    EXPECT_EQ(log.at("a", at(3)), std::vector{hum});
    EXPECT_EQ(log.at("a", at(5)), (std::vector{stuck, hum})) << "the worst first";
    EXPECT_EQ(log.at("a", at(9)), std::vector{stuck});
    EXPECT_TRUE(log.at("b", at(5)).empty());
    log.set("a", at(10), {});
    EXPECT_TRUE(log.at("a", at(10)).empty());
    EXPECT_EQ(log.at("a", at(7)), std::vector{stuck});
}

}  // namespace
}  // namespace cruscotto
