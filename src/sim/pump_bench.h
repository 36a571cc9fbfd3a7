#pragma once

#include "sim/scene.h"

namespace cruscotto::sim {

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
class PumpBench : public Scene {
public:
    explicit PumpBench(std::uint64_t seed) : noise_(seed) {}

    /// What the box drives.
    double driveVolts = 0;
    bool valveOpen = false;
    bool beacon = false;
    PumpFaults faults;

    void drive(double volts, const std::array<bool, outputCount>& switches) override {
        driveVolts = volts;
        valveOpen = switches[0];
        beacon = switches[1];
    }
    void setFaults(std::span<const std::string_view> names) override;
    void step(double dt) override;
    [[nodiscard]] std::array<Source, analogCount> sources() const override;
    [[nodiscard]] double boxTemperature() const override { return volts_[7] / 0.01; }
    [[nodiscard]] std::array<Contact, digitalCount> contacts() const override;
    /// Flow, shaft.
    [[nodiscard]] Pulses pulses() const override { return {flowPulses_, shaftPulses_, false}; }

    /// Volts of the sensors, noise included: AI0, AI1, AI2 less AI3, AI4, AI5 at 1 mA, AI6, AI7, and the box's own
    /// cold-junction sensor (10 mV per degree Celsius).
    [[nodiscard]] const std::array<double, 8>& volts() const { return volts_; }
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
    std::array<double, 8> volts_{};
    std::array<bool, 4> levels_{};
    std::array<bool, 4> switches_{};
    std::array<double, 4> bounceUntil_{};
};

}  // namespace cruscotto::sim
