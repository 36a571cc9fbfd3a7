#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
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
    /// From 0 up to, not including, 1.
    double uniform() { return static_cast<double>(bits() >> 11) * 0x1p-53; }

private:
    std::uint64_t state_;
};

/// What hangs on an analog input, as its Thevenin equivalent: noise included.
struct Source {
    double volts = 0;
    double ohms = 100;
};

/// What hangs on a digital input. A contact to ground floats while it is open; any other drives its level.
struct Contact {
    bool closed = false;
    bool toGround = false;
};

/// The two tracks of an incremental encoder, or two pulse outputs: in lines since the start, fractions included.
struct Pulses {
    double first = 0, second = 0;
    bool operator==(const Pulses&) const = default;
    bool encoder = false;  ///< the second track is the first a quarter of a line later, and both can go back
};

/// A simulated plant wired to an I/O box with eight analog, four digital and two counter inputs, one analog and four
/// digital outputs. Exactly repeatable from a seed and the sequence of steps. Confined to one thread.
class Scene {
public:
    virtual ~Scene() = default;
    static constexpr std::size_t analogCount = 8, digitalCount = 4, outputCount = 4;

    /// What the box drives: 0 to 10 V, and its switches.
    virtual void drive(double volts, const std::array<bool, outputCount>& switches) = 0;
    /// The names of the faults that are on; others are off.
    virtual void setFaults(std::span<const std::string_view> names) = 0;
    /// The sine that shakes it, in hertz; nothing: by its own programme. Scenes that are not shaken take no notice.
    virtual void shake(std::optional<double> /*hz*/) {}
    /// Goes on by dt seconds. Precondition: 0 < dt <= 0.05.
    virtual void step(double dt) = 0;

    [[nodiscard]] virtual std::array<Source, analogCount> sources() const = 0;
    /// At the box's own terminals, in degrees Celsius.
    [[nodiscard]] virtual double boxTemperature() const = 0;
    [[nodiscard]] virtual std::array<Contact, digitalCount> contacts() const = 0;
    [[nodiscard]] virtual Pulses pulses() const = 0;
};

/// "pump" or "seed-sorter"; null for anything else.
std::unique_ptr<Scene> makeScene(std::string_view name, std::uint64_t seed);
/// The names of the faults that it can have.
std::span<const std::string_view> sceneFaults(std::string_view name);

}  // namespace cruscotto::sim
