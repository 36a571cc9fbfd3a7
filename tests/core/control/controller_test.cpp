// Controls worked out over readings that are made here.
#include "core/control/controller.h"

#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "core/control/step_response.h"

namespace cruscotto {
namespace {

/// One control, with the output and time in hand.
class Controls : public testing::Test {
protected:
    void begin(ControlSpec spec) {
        spec.id = "c";
        spec.output = "out";
        if (spec.signal.empty()) spec.signal = "in";
        controller.emplace(std::make_shared<const ControlSpec>(spec), Instant{});
    }
    /// What it wants once time has come there; the output follows.
    double at(double t) {
        controller->advance(Instant{} + seconds(t), output);
        const double wants = controller->state().wants.value_or(std::nan(""));
        if (output.mine && std::isfinite(wants)) output.value = wants;
        return wants;
    }
    void read(const std::string& signal, double v, double t, Quality quality = Quality::good) {
        const QualityInterval all{0, 1, quality};
        controller->feed(
            signal, std::span(&v, 1), [&](std::size_t) { return Instant{} + seconds(t); },
            std::span(&all, quality == Quality::good ? 0U : 1U));
    }
    std::optional<Controller> controller;
    OutputNow output{0, true, 0, 10, 0, false};
};

ControlSpec thermostat() {
    ControlSpec spec;
    spec.setpoint = 20;
    spec.hysteresis = 2;
    return spec;
}

TEST_F(Controls, TwoPointsWithTheirHysteresis) {
    begin(thermostat());
    read("in", 18.5, 0);
    EXPECT_EQ(at(0), 1) << "below 19";
    read("in", 20.9, 1);
    EXPECT_EQ(at(1), 1) << "not yet above 21";
    read("in", 21.1, 2);
    EXPECT_EQ(at(2), 0);
    read("in", 19.1, 3);
    EXPECT_EQ(at(3), 0);
    read("in", 18.9, 4);
    EXPECT_EQ(at(4), 1);
}

TEST_F(Controls, ThatCoolsIsOnAboveIt) {
    ControlSpec spec = thermostat();
    spec.reverse = true;
    begin(spec);
    read("in", 22, 0);
    EXPECT_EQ(at(0), 1);
    read("in", 18, 1);
    EXPECT_EQ(at(1), 0);
}

TEST_F(Controls, StaysOnAndOffForItsLeastTimes) {
    ControlSpec spec = thermostat();
    spec.leastOn = 10;
    spec.leastOff = 30;
    begin(spec);
    read("in", 15, 0);
    EXPECT_EQ(at(0), 1) << "at once: it has not been on before";
    read("in", 25, 1);
    EXPECT_EQ(at(1), 1);
    EXPECT_EQ(at(9.99), 1);
    EXPECT_EQ(at(10), 0);
    read("in", 15, 11);
    EXPECT_EQ(at(39.9), 0);
    EXPECT_EQ(at(40), 1);
}

TEST_F(Controls, ADeadInputKeepsNothingOn) {
    begin(thermostat());
    read("in", 15, 0);
    ASSERT_EQ(at(0), 1);
    controller->lose("in", Instant{} + seconds(1));
    EXPECT_EQ(at(1), output.safe);
    EXPECT_FALSE(controller->state().why.empty());
    read("in", 15, 2);
    EXPECT_EQ(at(2), 1);
    read("in", 15, 3, Quality::openSensor);
    EXPECT_EQ(at(3), output.safe);
}

TEST_F(Controls, WhatReadsItBackMustFollow) {
    ControlSpec spec = thermostat();
    spec.readBack = "contact";
    spec.readBackWithin = 2;
    begin(spec);
    read("contact", 0, 0);
    read("in", 15, 0);
    ASSERT_EQ(at(0), 1);
    EXPECT_EQ(at(1), 1) << "it has its time";
    read("contact", 1, 1.5);
    EXPECT_EQ(at(5), 1);
    EXPECT_FALSE(controller->state().failed);
    read("contact", 0, 6);
    EXPECT_EQ(at(6), 1);
    EXPECT_EQ(at(8), output.safe);
    EXPECT_TRUE(controller->state().failed);
    read("contact", 1, 9);
    EXPECT_EQ(at(10), output.safe) << "until somebody resets it";
    read("contact", 0, 10);
    controller->reset(Instant{} + seconds(10));
    EXPECT_EQ(at(10), 1);
    EXPECT_FALSE(controller->state().failed);
}

/// A first-order process of gain 2 and 5 s under control, in steps of 10 ms.
double regulate(Controller& controller, OutputNow& output, double y, double from, double to) {
    for (double t = from; t < to; t += 0.01) {
        controller.feed("in", std::span(&y, 1), [&](std::size_t) { return Instant{} + seconds(t); });
        controller.advance(Instant{} + seconds(t), output);
        if (output.mine) output.value = controller.state().wants.value_or(output.value);
        y += 0.01 / 5 * (2 * output.value - y);
    }
    return y;
}
ControlSpec regulator() {
    ControlSpec spec;
    spec.kind = ControlKind::pid;
    spec.setpoint = 8;
    spec.gain = 1;
    spec.integralSeconds = 4;
    return spec;
}

TEST_F(Controls, PidBringsTheSignalToItsSetpoint) {
    begin(regulator());
    EXPECT_NEAR(regulate(*controller, output, 0, 0, 60), 8, 1e-3);
    EXPECT_NEAR(output.value, 4, 1e-3);
    ControlSpec reverse = regulator();
    reverse.reverse = true;
    reverse.low = 0;
    begin(reverse);
    output.value = 5;
    read("in", 9, 0);
    at(0);
    read("in", 9, 1);
    EXPECT_GT(at(1), 5) << "more of the output brings it down";
}

TEST_F(Controls, NothingIsSummedUpThatCannotBeGiven) {
    ControlSpec spec = regulator();
    spec.setpoint = 30;  // beyond what the output can bring about: 20
    begin(spec);
    ASSERT_NEAR(regulate(*controller, output, 0, 0, 300), 20, 0.01);
    EXPECT_EQ(output.value, 10);
    spec.setpoint = 8;
    Controller next(std::make_shared<const ControlSpec>([&] {
                        ControlSpec s = spec;
                        s.id = "c";
                        s.output = "out";
                        s.signal = "in";
                        return s;
                    }()),
                    Instant{} + seconds(300));
    next.goOn(*controller);
    // Wound up for five minutes it would stay at 10 for as long; it leaves the rail at once.
    regulate(next, output, 20, 300, 300.2);
    EXPECT_LT(output.value, 10);
}

TEST_F(Controls, FromHandToAutomaticWithoutABump) {
    begin(regulator());
    output.mine = false;
    output.value = 3;
    double y = regulate(*controller, output, 6, 0, 5);
    output.mine = true;
    read("in", y, 5);
    EXPECT_NEAR(at(5.05), 3, 0.1);
    y = regulate(*controller, output, y, 5.1, 80);
    EXPECT_NEAR(y, 8, 1e-3);
}

TEST_F(Controls, TheOutputDoesNotGoFasterThanItMay) {
    ControlSpec spec = regulator();
    spec.gain = 100;
    spec.slew = 0.5;
    begin(spec);
    read("in", 0, 0);
    at(0);
    const double before = at(0.05);
    EXPECT_LE(at(0.1) - before, 0.5 * 0.05 + 1e-9);
    EXPECT_GT(at(1.1), before);
}

TEST_F(Controls, AProfileAndASignalSayTheSetpoint) {
    ControlSpec spec = regulator();
    spec.profile = {{0, 10}, {10, 20}, {30, 20}};
    begin(spec);
    read("in", 0, 0);
    at(5);
    EXPECT_DOUBLE_EQ(*controller->state().setpoint, 15);
    at(40);
    EXPECT_DOUBLE_EQ(*controller->state().setpoint, 20);
    spec.profile.clear();
    spec.setpointFrom = "knob";
    begin(spec);
    read("in", 0, 0);
    at(0);
    EXPECT_FALSE(controller->state().setpoint) << "it has said nothing yet";
    EXPECT_EQ(*controller->state().wants, output.safe);
    read("knob", 3, 1);
    at(1);
    EXPECT_DOUBLE_EQ(*controller->state().setpoint, 3);
}

TEST_F(Controls, AnOutputFollowsAnInput) {
    ControlSpec spec;
    spec.kind = ControlKind::follow;
    spec.factor = -2;
    spec.offset = 9;
    spec.delaySeconds = 0.5;
    begin(spec);
    read("in", 1, 0);
    EXPECT_TRUE(std::isnan(at(0.4)));
    EXPECT_EQ(at(0.5), 7);
    read("in", 3, 1);
    read("in", 4, 1.2);
    EXPECT_EQ(at(1.2), 7);
    EXPECT_EQ(controller->nextDeadline(), std::optional(Instant{} + seconds(1.5)));
    EXPECT_EQ(at(1.49), 7);
    EXPECT_EQ(at(1.5), 3) << "each change at its own time";
    EXPECT_EQ(at(1.7), 1);
    output.state = true;
    spec = {};
    spec.kind = ControlKind::follow;
    spec.inverted = true;
    begin(spec);
    read("in", 1, 2);
    EXPECT_EQ(at(2), 0);
    read("in", 0, 3);
    EXPECT_EQ(at(3), 1);
}

TEST_F(Controls, PlaysStepsAndRampsAndSines) {
    ControlSpec spec;
    spec.kind = ControlKind::play;
    spec.played.points = {{0, 0}, {1, 5}, {3, 2}};
    spec.played.times = 2;
    begin(spec);
    EXPECT_EQ(at(0), 0);
    EXPECT_EQ(*controller->nextDeadline(), Instant{} + seconds(1));
    EXPECT_EQ(at(1), 5);
    EXPECT_EQ(at(2.9), 5);
    EXPECT_EQ(at(3), 0) << "the second time begins";
    EXPECT_EQ(at(4), 5);
    EXPECT_EQ(at(6), 2);
    EXPECT_TRUE(controller->state().over);
    EXPECT_FALSE(controller->nextDeadline());

    spec.played.shape = PlayedSpec::Shape::ramps;
    spec.played.times = 1;
    begin(spec);
    EXPECT_DOUBLE_EQ(at(0.5), 2.5);
    EXPECT_NEAR(at(2), 3.5, 1e-6);
    EXPECT_LE(*controller->nextDeadline(), Instant{} + seconds(2) + milliseconds(50));

    spec.played = {.shape = PlayedSpec::Shape::sine, .mean = 5, .amplitude = 2, .hertz = 0.5, .times = 1};
    begin(spec);
    EXPECT_NEAR(at(0.5), 7, 1e-9);
    EXPECT_NEAR(at(1.5), 3, 1e-9);
    EXPECT_EQ(at(2), 5);
    EXPECT_TRUE(controller->state().over);
}

TEST_F(Controls, TellsWhatItStillPlays) {
    ControlSpec spec;
    spec.kind = ControlKind::play;
    spec.played.points = {{0, 1}, {0.5, 2}, {0.8, 2}, {1, 4}};
    spec.played.lasts = 2;
    spec.played.times = 2;
    begin(spec);
    const auto expectRest = [&](double t, const PlayedList& wanted) {
        at(t);
        const auto rest = controller->rest(Instant{} + seconds(t), 100);
        ASSERT_TRUE(rest) << t;
        ASSERT_EQ(rest->size(), wanted.size()) << t;
        for (std::size_t i = 0; i < wanted.size(); ++i) {
            EXPECT_EQ((*rest)[i].first, wanted[i].first) << t << ": " << i;
            EXPECT_NEAR((*rest)[i].second, wanted[i].second, 1e-6) << t << ": " << i;
        }
    };
    expectRest(0, {{1, 0.5}, {2, 0.5}, {4, 1}, {1, 0.5}, {2, 0.5}, {4, 1}});
    EXPECT_FALSE(controller->rest(Instant{}, 5)) << "more than may be";
    expectRest(0.6, {{2, 0.4}, {4, 1}, {1, 0.5}, {2, 0.5}, {4, 1}});
    expectRest(3.5, {{4, 0.5}});
    at(4);
    EXPECT_FALSE(controller->rest(Instant{} + seconds(4), 100)) << "it is over";
    spec.played.times = 0;
    begin(spec);
    EXPECT_FALSE(controller->rest(Instant{}, 100)) << "it has no end";
    spec.played.times = 1;
    spec.played.shape = PlayedSpec::Shape::ramps;
    begin(spec);
    EXPECT_FALSE(controller->rest(Instant{}, 100)) << "it changes all the time";
}

TEST_F(Controls, PlaysASecondStretchTwiceAsFast) {
    ControlSpec spec;
    spec.id = "c";
    spec.output = "out";
    spec.kind = ControlKind::play;
    spec.played.shape = PlayedSpec::Shape::run;
    spec.played.from = 10;
    spec.played.to = 14;
    spec.played.speed = 2;
    controller.emplace(std::make_shared<const ControlSpec>(spec), Instant{},
                       std::vector<std::pair<double, double>>{{0, 1}, {1, 0}, {3, 1}});
    EXPECT_EQ(at(0), 1);
    EXPECT_EQ(at(0.5), 0);
    EXPECT_EQ(at(1.4), 0);
    EXPECT_EQ(at(1.5), 1);
    at(2);
    EXPECT_TRUE(controller->state().over);
}

TEST(StepResponse, OfAFirstOrderProcessWithADelay) {
    std::vector<double> t, y;
    for (int i = -100; i < 2000; ++i) {
        const double at = i * 0.05;
        t.push_back(at);
        const double since = at - 3;
        // With a little noise that repeats.
        y.push_back(20 + (since > 0 ? -8 * (1 - std::exp(-since / 12)) : 0) + 0.02 * std::sin(i * 1.7));
    }
    const auto fit = fitStep(t, y, 4);
    ASSERT_TRUE(fit.ok()) << fit.error().english();
    EXPECT_NEAR(fit.value().gain, -2, 0.02);
    EXPECT_NEAR(fit.value().tauSeconds, 12, 0.6);
    EXPECT_NEAR(fit.value().deadSeconds, 3, 0.4);
    EXPECT_LT(fit.value().rest, 0.02);
    const ProposedControl proposed = proposeControl(fit.value());
    EXPECT_TRUE(proposed.reverse);
    EXPECT_NEAR(proposed.gain, 12 / (2.0 * 6), 0.15);
    EXPECT_NEAR(proposed.integralSeconds, 12, 0.6);

    std::vector<double> flat(t.size(), 20);
    EXPECT_FALSE(fitStep(t, flat, 4).ok()) << "it did not answer";
    std::vector<double> drifting = y;
    for (std::size_t i = 0; i < drifting.size(); ++i) drifting[i] += t[i] < 0 ? t[i] : 0;
    EXPECT_FALSE(fitStep(t, drifting, 4).ok()) << "it was not steady before";
    std::vector<double> rising;
    for (const double at : t) rising.push_back(at > 0 ? at : 0);
    EXPECT_FALSE(fitStep(t, rising, 4).ok()) << "it has not settled";
}

}  // namespace
}  // namespace cruscotto
