#pragma once

#include "sim/scene.h"

namespace cruscotto::sim {

/// A seed sorter: a hopper on a load cell, a heated drum, a belt with trays and an encoder, a plate on which the seeds
/// fall, and a sieve that is shaken through an inverting amplifier.
class SeedSorter : public Scene {
public:
    explicit SeedSorter(std::uint64_t seed) : noise_(seed) {}

    void drive(double volts, const std::array<bool, outputCount>& switches) override;
    void setFaults(std::span<const std::string_view> names) override;
    void shake(std::optional<double> hz) override { steadyHz_ = hz; }
    void step(double dt) override;
    [[nodiscard]] std::array<Source, analogCount> sources() const override { return sources_; }
    [[nodiscard]] double boxTemperature() const override { return 24; }
    [[nodiscard]] std::array<Contact, digitalCount> contacts() const override { return contacts_; }
    [[nodiscard]] Pulses pulses() const override { return {lines(), lines(), true}; }

    // The true state, for tests.
    [[nodiscard]] double hopperKg() const { return hopper_; }
    [[nodiscard]] double excitationV() const { return excitation_; }
    [[nodiscard]] double drumC() const { return drum_; }
    [[nodiscard]] double levelCm() const { return level_; }
    [[nodiscard]] double humidity() const { return humidity_; }
    [[nodiscard]] double beltMetres() const { return belt_; }
    [[nodiscard]] double sieveHz() const { return sieveHz_; }
    [[nodiscard]] double gain() const;
    /// Seeds and groups of seeds that have fallen on the plate.
    [[nodiscard]] std::uint64_t seeds() const { return seeds_; }
    [[nodiscard]] std::uint64_t groups() const { return groups_; }

    static constexpr double slowestSieveHz = 3, fastestSieveHz = 40, amplifierDelay = 1.5e-3, amplifierRail = 3.4;
    static constexpr double linesPerTurn = 500, metresPerTurn = 0.12;

private:
    [[nodiscard]] double lines() const { return belt_ / metresPerTurn * linesPerTurn; }
    void fall(double dt);
    void sense();

    Noise noise_;
    double volts_ = 0;
    std::array<bool, outputCount> switches_{};
    bool brokenThermistor_ = false, jammedBelt_ = false, loadedBelt_ = false, hum_ = false;
    double t_ = 0;
    double hopper_ = 42, excitation_ = 5, drum_ = 26, level_ = 30, humidity_ = 52;
    double speed_ = 0, belt_ = 0;
    double sieveHz_ = 11, sievePhase_ = 0;
    std::optional<double> steadyHz_;
    double impact_ = 0, sinceImpact_ = 1, nextGroup_ = 1, nextSeed_ = 0;
    int leftInGroup_ = 0;
    std::uint64_t seeds_ = 0, groups_ = 0;
    std::array<Source, analogCount> sources_{};
    std::array<Contact, digitalCount> contacts_{};
    bool lidWas_ = false;
    double bounceUntil_ = 0;
};

}  // namespace cruscotto::sim
