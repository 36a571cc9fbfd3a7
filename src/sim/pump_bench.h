#pragma once

#include <array>
#include <cstdint>
#include <string>
#include <vector>

namespace cruscotto::sim {

/// Noise that is the same on every machine for one seed. Confined to one thread.
class Noise {
public:
    explicit Noise(std::uint64_t seed) : state_(seed) {}
    /// 64 random bits (splitmix64).
    std::uint64_t bits() {
        std::uint64_t z = (state_ += 0x9E3779B97F4A7C15ULL);
        z = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9ULL;
        z = (z ^ (z >> 27)) * 0x94D049BB133111EBULL;
        return z ^ (z >> 31);
    }
    /// Mean 0, standard deviation 1, near normal (the sum of four uniform numbers), never beyond 3.47.
    double normal() {
        const std::uint64_t z = bits();
        const auto sum = static_cast<double>((z & 0xffff) + (z >> 16 & 0xffff) + (z >> 32 & 0xffff) + (z >> 48));
        return (sum - 131070.0) * (1.7320508075688772 / 65536.0);
    }

private:
    std::uint64_t state_;
};

/// What can be made to go wrong on the pump bench.
struct PumpFaults {
    bool brokenOutletWire = false;  ///< AI1 carries no current
    bool clippedVibration = false;  ///< the accelerometer's amplifier stands at its rail
    bool hum = false;               ///< 50 Hz on all analog inputs
    bool stalledShaft = false;
    bool dryRunning = false;
};

/// A small centrifugal pump on a loop with a tank, a throttle valve and a guard door. Exactly repeatable from a seed
/// and the sequence of steps. Confined to one thread.
class PumpBench {
public:
    explicit PumpBench(std::uint64_t seed) : noise_(seed) {}

    /// What the box drives.
    double driveVolts = 0;
    bool valveOpen = false;
    bool beacon = false;
    PumpFaults faults;

    /// Goes on by dt seconds. Precondition: 0 < dt <= 0.05.
    void step(double dt);

    /// Volts at the terminals, noise included, before any range or quantisation: AI0, AI1, AI2-AI3, AI4, AI5, AI6,
    /// AI7, and the box's own cold-junction sensor (10 mV per degree Celsius).
    static constexpr std::size_t analogCount = 8;
    [[nodiscard]] const std::array<double, analogCount>& volts() const { return volts_; }
    /// Pulses so far: flow, shaft.
    [[nodiscard]] std::array<std::uint32_t, 2> pulses() const {
        return {static_cast<std::uint32_t>(flowPulses_), static_cast<std::uint32_t>(shaftPulses_)};
    }
    /// Levels of DI0 to DI3, bouncing included. DI0 (tank low) is a switch to ground: it reads low when closed.
    [[nodiscard]] const std::array<bool, 4>& levels() const { return levels_; }

    // The true state, for tests.
    [[nodiscard]] double speedRpm() const { return speed_ * ratedRpm; }
    [[nodiscard]] double flowLpm() const { return flow_; }
    [[nodiscard]] double inletBar() const { return inlet_; }
    [[nodiscard]] double outletBar() const { return outlet_; }
    [[nodiscard]] double currentA() const { return current_; }
    [[nodiscard]] double bearingC() const { return bearing_; }
    [[nodiscard]] double waterC() const { return water_; }
    [[nodiscard]] double coldJunctionC() const { return coldJunction_; }

    static constexpr double ratedRpm = 2900;

private:
    void hydraulics(double dt);
    void sense();

    Noise noise_;
    double t_ = 0;
    double speed_ = 0;  // of the rated speed
    double valve_ = 0;  // 0 closed, 1 open
    double flow_ = 0, inlet_ = 0.25, outlet_ = 0.25, current_ = 0;
    double bearing_ = 24, water_ = 21.5, coldJunction_ = 24;
    double shaftTurns_ = 0, flowPulses_ = 0, shaftPulses_ = 0;
    double wander_ = 0;
    std::array<double, analogCount> volts_{};
    std::array<bool, 4> levels_{};
    std::array<bool, 4> switches_{};
    std::array<double, 4> bounceUntil_{};
};

}  // namespace cruscotto::sim
