#include "sim/pump_bench.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "sim/thermo.h"

namespace cruscotto::sim {

namespace {
constexpr double twoPi = 2 * std::numbers::pi;
double approach(double from, double to, double dt, double tau) {
    return to + (from - to) * std::exp(-dt / tau);
}
}  // namespace

void PumpBench::hydraulics(double dt) {
    const double wanted = std::clamp(driveVolts / 10, 0.0, 1.1);
    const double before = speed_;
    speed_ = faults.stalledShaft ? 0 : approach(speed_, wanted, dt, 1.2);
    const double torque = std::max(0.0, (speed_ - before) / dt);
    shaftTurns_ += speed_ * ratedRpm / 60 * dt;
    shaftPulses_ = std::floor(shaftTurns_ * 4);

    valve_ = std::clamp(valve_ + (valveOpen ? dt : -dt) / 1.5, 0.0, 1.0);
    // The plant behind the throttle asks for a little more and a little less all the time.
    const double demand = 1 + 0.35 * std::sin(twoPi * t_ / 37) + 0.12 * std::sin(twoPi * t_ / 11.3);
    const double loop = 8e-4 * demand / std::pow(std::max(valve_, 0.02), 2);  // bar per (L/min)^2
    const double head = faults.dryRunning ? 0.05 * speed_ * speed_ : 5.0 * speed_ * speed_;
    const double target = std::sqrt(head / (loop + 4e-4));
    flow_ = approach(flow_, target, dt, 0.35);
    flowPulses_ += flow_ / 60 * 450 * dt;
    const double rise = std::max(0.0, head - 4e-4 * flow_ * flow_);
    inlet_ = 0.25 - 5e-5 * flow_ * flow_;
    outlet_ = inlet_ + rise;

    const double hydraulicW = rise * 1e5 * flow_ / 60'000;
    const double motorW = 160 * std::pow(speed_, 3) + hydraulicW / 0.6 + 220 * torque;
    const double stalledA = faults.stalledShaft ? 1.9 * driveVolts : 0;
    current_ = approach(current_, (wanted > 0.01 ? 0.4 : 0.02) + motorW / 48 + stalledA, dt, 0.08);
    bearing_ = approach(bearing_, 24 + 34 * speed_ * speed_ + (faults.dryRunning ? 45 * speed_ : 0), dt, 120);
    water_ = approach(water_, 21.5 + 0.02 * hydraulicW, dt, 900);
    coldJunction_ = 24 + 0.08 * std::sin(twoPi * t_ / 600);
}

void PumpBench::sense() {
    const double shaft = twoPi * shaftTurns_;
    const double s2 = speed_ * speed_;
    const double ripple = 0.03 * s2 * std::sin(5 * shaft);
    double acceleration = 0.42 * s2 * std::sin(shaft) + 0.11 * s2 * std::sin(2 * shaft + 0.7) +
                          (0.015 + 0.09 * s2 * (faults.dryRunning ? 4 : 1)) * noise_.normal();
    if (faults.clippedVibration) acceleration = std::clamp(acceleration, -0.25, 0.25);
    const double mains = std::sin(twoPi * 50 * t_);
    wander_ += 0.002 * noise_.normal() - 0.0005 * wander_;
    volts_ = {
        0.5 + (inlet_ + 0.4 * ripple + 1) / 2.5 * 4 + 0.002 * noise_.normal(),
        faults.brokenOutletWire ? 0.0005 * noise_.normal() : 1 + (outlet_ + ripple) / 10 * 4 + 0.003 * noise_.normal(),
        current_ * 0.0025 + 0.00006 * noise_.normal(),
        (thermocoupleT(bearing_) - thermocoupleT(coldJunction_)) * 1e-3 + 3e-6 * noise_.normal(),
        pt100(water_) * 1e-3 + 6e-6 * noise_.normal(),
        acceleration * 0.1,
        0,
        coldJunction_ * 0.01 + 0.0002 * noise_.normal()};
    volts_[6] = wander_ + 0.09 * mains + 0.35 * volts_[5] + 0.004 * noise_.normal();
    if (faults.hum)
        for (std::size_t i = 0; i + 1 < volts_.size(); ++i)
            volts_[i] += 0.02 * std::fabs(volts_[i]) * mains + 0.0001 * mains;

    const double tank = 0.55 + 0.42 * std::sin(twoPi * t_ / 83);
    const double round = std::fmod(t_, 100);
    const std::array<bool, 4> now{tank < 0.2, round >= 62 && round<69, valve_> 0.98, valve_ < 0.02};
    for (std::size_t i = 0; i < now.size(); ++i) {
        if (now[i] != switches_[i]) bounceUntil_[i] = t_ + 0.006;
        switches_[i] = now[i];
        const bool bounced = t_ < bounceUntil_[i] && (noise_.bits() & 1);
        levels_[i] = now[i] != bounced;
    }
    levels_[0] = !levels_[0];  // a switch to ground
}

void PumpBench::setFaults(std::span<const std::string_view> names) {
    const auto on = [&](std::string_view name) { return std::ranges::find(names, name) != names.end(); };
    faults = {on("broken-outlet-wire"), on("clipped-vibration"), on("hum"), on("stalled-shaft"), on("dry-running")};
}

std::array<Source, Scene::analogCount> PumpBench::sources() const {
    constexpr double common = 0.5;  // the shunt is in the motor's supply line
    return {Source{volts_[0], 1000},
            {volts_[1], 250},
            {common + volts_[2] / 2, 100},
            {common - volts_[2] / 2, 100},
            {volts_[3], 10},
            {0, volts_[4] / 0.001},
            {volts_[5], 100},
            {volts_[6], 1e7}};
}

std::array<Contact, Scene::digitalCount> PumpBench::contacts() const {
    return {Contact{!levels_[0], true}, {levels_[1], false}, {levels_[2], false}, {levels_[3], false}};
}

void PumpBench::step(double dt) {
    t_ += dt;
    hydraulics(dt);
    sense();
}

}  // namespace cruscotto::sim
