#pragma once

#include <algorithm>
#include <cmath>
#include <numbers>
#include <random>
#include <vector>

namespace cruscotto::test {

/// A signal as a sound source makes it, through a 16-bit converter: of a random shape, size, pace and noise.
class HealthyShape {
public:
    enum Kind { sine, square, ramps, heldRamps, steps, bursts, constant, pulses, kinds };
    static constexpr const char* names[] = {"sine",  "square", "ramps",    "held ramps",
                                            "steps", "bursts", "constant", "pulses"};

    HealthyShape(Kind kind, unsigned seed, double rateHz) : kind_(kind), rate_(rateHz), random_(seed) {
        size_ = std::pow(10, between(1.5, 4.3));
        level_ = between(-1, 1) * (30'000 - size_);
        // a sixth of them clean: what a generator or a calculation makes
        noise_ = random_() % 6 == 0 ? 0 : std::min(size_ / 4, std::pow(10, between(-0.6, 2.5)));
        hz_ = std::pow(10, between(-1, std::log10(rateHz / 20)));
        share_ = between(0.1, 0.9);
        phase_ = between(0, 1);
    }
    [[nodiscard]] double next() {
        const double t = static_cast<double>(n_++) / rate_;
        const double turns = hz_ * t + phase_, part = turns - std::floor(turns);
        double v = 0;
        switch (kind_) {
            case sine:
                v = std::sin(2 * std::numbers::pi * turns);
                break;
            case square:
                v = part < share_ ? 1 : -1;
                break;
            case ramps:
                v = part < share_ ? -1 + 2 * part / share_ : 1 - 2 * (part - share_) / (1 - share_);
                break;
            case heldRamps:  // up, held, down, held
                v = part < 0.25 ? -1 + 8 * part : part < 0.5 ? 1 : part < 0.75 ? 1 - 8 * (part - 0.5) : -1;
                break;
            case steps:
                if (std::floor(turns) != stepNumber_) {
                    stepNumber_ = std::floor(turns);
                    step_ = between(-1, 1);
                }
                v = step_;
                break;
            case bursts:
                v = part < share_ ? std::sin(2 * std::numbers::pi * 20 * part / share_) : 0;
                break;
            case pulses:  // each rises at once and dies away, after a while that nobody knows
                if (t >= nextPulse_) {
                    pulseAt_ = t;
                    nextPulse_ = t + between(0.3, 3) / hz_;
                }
                v = std::exp(-(t - pulseAt_) * 6 * hz_) * 2 - 1;
                break;
            default:
                break;
        }
        if (noise_ > 0) v += noise_ / size_ * normal_(random_);
        return std::clamp(std::round(level_ + size_ * v), -32'768.0, 32'767.0);
    }

private:
    double between(double low, double high) { return std::uniform_real_distribution<double>(low, high)(random_); }

    Kind kind_;
    double rate_;
    std::mt19937 random_;
    std::normal_distribution<double> normal_;
    double size_ = 1, level_ = 0, noise_ = 0, hz_ = 1, share_ = 0.5, phase_ = 0;
    double stepNumber_ = -1, step_ = 0, pulseAt_ = -10, nextPulse_ = 0;
    std::uint64_t n_ = 0;
};

}  // namespace cruscotto::test
