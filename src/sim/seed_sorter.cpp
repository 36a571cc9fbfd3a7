#include "sim/seed_sorter.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace cruscotto::sim {

namespace {
constexpr double turn = 2 * std::numbers::pi;
constexpr double tray = 0.2, trayBlocks = 0.06;  // metres of belt

/// A reflective distance sensor: nearer than 8 cm it folds back, beyond 80 cm it sees next to nothing.
double distanceVolts(double cm) {
    if (cm < 8) return 7.5 * cm / 8;
    return cm > 80 ? 0.08 : 60 / cm;
}
double thermistorOhms(double celsius) {
    return 10'000 * std::exp(3950 * (1 / (celsius + 273.15) - 1 / 298.15));
}
}  // namespace

void SeedSorter::drive(double volts, const std::array<bool, outputCount>& switches) {
    volts_ = volts;
    switches_ = switches;
}

void SeedSorter::setFaults(std::span<const std::string_view> names) {
    const auto on = [&](std::string_view name) { return std::ranges::find(names, name) != names.end(); };
    brokenThermistor_ = on("broken-thermistor");
    jammedBelt_ = on("jammed-belt");
    loadedBelt_ = on("loaded-belt");
    hum_ = on("hum");
}

double SeedSorter::gain() const {
    constexpr std::array gains{0.5, 1.0, 3.0, 8.0};
    return gains.at((switches_[2] ? 1U : 0U) + (switches_[3] ? 2U : 0U));
}

void SeedSorter::fall(double dt) {
    sinceImpact_ += dt;
    const bool falling = switches_[1] && speed_ > 0.02;
    if (!falling) return;
    if (leftInGroup_ > 0) {
        nextSeed_ -= dt;
        if (nextSeed_ > 0) return;
        impact_ = 0.06 + 0.34 * noise_.uniform();
        sinceImpact_ = 0;
        ++seeds_;
        nextSeed_ = 0.015 + 0.05 * noise_.uniform();
        if (--leftInGroup_ == 0) nextGroup_ = 0.4 + 1.8 * noise_.uniform();
        return;
    }
    nextGroup_ -= dt;
    if (nextGroup_ > 0) return;
    leftInGroup_ = noise_.uniform() < 0.4 ? 1 : 2 + static_cast<int>(noise_.uniform() * 5);
    nextSeed_ = 0;
    ++groups_;
}

void SeedSorter::step(double dt) {
    t_ += dt;
    // A heap of seed on it takes a quarter of its speed.
    const double wanted = jammedBelt_ ? 0 : (loadedBelt_ ? 0.03 : 0.04) * std::clamp(volts_, 0.0, 10.0);
    speed_ += (wanted - speed_) * std::min(1.0, dt / 0.6);
    belt_ += speed_ * dt;
    if (switches_[1] && speed_ > 0.02) hopper_ -= 0.05 * dt;
    if (hopper_ < 6) hopper_ = 42;  // somebody fills it up
    excitation_ = 5.02 - 0.4 * speed_ - (jammedBelt_ ? 0.03 * volts_ : 0);
    drum_ += ((switches_[0] ? 38.0 : 58.0) - drum_) * dt / 240;
    level_ = 12 + 1.2 * (42 - hopper_) + 6 * std::sin(turn * t_ / 47);
    humidity_ = 48 + 9 * std::sin(turn * t_ / 310) - (switches_[0] ? 6 : 0);
    // From the slowest to the fastest and back, an octave in as much time wherever it is.
    sieveHz_ = steadyHz_.value_or(std::sqrt(slowestSieveHz * fastestSieveHz) *
                                  std::pow(fastestSieveHz / slowestSieveHz, 0.5 * std::sin(turn * t_ / 90)));
    sievePhase_ = std::fmod(sievePhase_ + turn * sieveHz_ * dt, turn);
    fall(dt);
    sense();
}

void SeedSorter::sense() {
    const double ring = impact_ * std::exp(-sinceImpact_ / 1.1e-3) * std::cos(turn * 800 * sinceImpact_);
    const double exciter = 0.6 * std::sin(sievePhase_);
    const double amplified = -gain() * 0.6 * std::sin(sievePhase_ - turn * sieveHz_ * amplifierDelay);
    const double r = thermistorOhms(drum_);
    const double mains = hum_ ? std::sin(turn * 50 * t_) : 0;
    sources_ = {Source{excitation_ * 2e-3 * hopper_ / 50 + 1.5e-6 * noise_.normal() + 2e-4 * mains, 350},
                {excitation_ + 4e-4 * noise_.normal(), 100},
                {brokenThermistor_ ? 5 : 5 * r / (r + 10'000) + 3e-4 * noise_.normal(),
                 brokenThermistor_ ? 1e4 : r * 10'000 / (r + 10'000)},
                {distanceVolts(level_) + 0.012 * noise_.normal(), 200},
                {std::fabs(ring) + 0.004 * noise_.normal() + 0.004 * mains, 1000},
                {exciter + 0.003 * noise_.normal(), 50},
                {std::clamp(amplified, -amplifierRail, amplifierRail) + 0.003 * noise_.normal(), 50},
                {humidity_ / 100 + 6e-4 * noise_.normal(), 1000}};

    const double round = std::fmod(t_, 60);
    const bool lid = round > 41 && round < 47;
    if (lid != lidWas_) bounceUntil_ = t_ + 0.008;
    lidWas_ = lid;
    const bool bounced = t_ < bounceUntil_ && (noise_.bits() & 1);
    contacts_ = {Contact{lid == bounced, true},  // closed while the lid is
                 {std::fmod(belt_, tray) < trayBlocks, false},
                 {std::fmod(t_, 9) < 0.35, false},
                 {std::fmod(t_ + 4, 13) < 0.6, false}};
}

}  // namespace cruscotto::sim
