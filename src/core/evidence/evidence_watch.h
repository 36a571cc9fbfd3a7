#pragma once

#include <array>
#include <deque>
#include <functional>
#include <map>
#include <utility>

#include "core/analysis/signs.h"
#include "core/evidence/evidence.h"

namespace cruscotto {

/// What a raw sample is worth, for the grounds: raw * perStep + offset in `unit`.
struct RawWorth {
    double perStep = 1, offset = 0;
    std::string unit;      ///< UCUM
    double step = 0;       ///< by which raw samples differ at least; 0: not known
    double fullScale = 0;  ///< of raw samples; 0: not known
    bool operator==(const RawWorth&) const = default;
};

/// Gathers the evidence of one signal, look by look, about once a second. Costs nothing in between. Confined to one
/// thread.
class EvidenceWatch {
public:
    explicit EvidenceWatch(RawWorth worth = {}) : worth_(std::move(worth)) {}

    /// How many of the newest samples, and of those that are thinned out over a second, a look takes at most.
    static constexpr std::size_t mostSamples = 1024, mostThinned = 320;
    static constexpr std::size_t mostDense = 65'536;
    static constexpr double contactSeconds = 1.4;  ///< a look at a contact: with what lies at its seam
    static constexpr Duration every = milliseconds(1000);

    /// Raw samples up to now.
    struct Stretch {
        double rateHz = 0;
        std::uint64_t end = 0;            ///< number of the sample behind the last one
        std::span<const double> newest;   ///< all of a second, or mostSamples
        std::span<const double> thinned;  ///< every so many of the last second
        double thinnedHz = 0;
        /// The newest of the input that is converted before this one, as many or fewer, and its name.
        std::span<const double> before = {};
        std::string beforeName = {};
        /// The samples of the last so many seconds, at most mostDense of them, equally spaced, and their rate: asked
        /// for where those above raise a question.
        std::function<double(double seconds, std::vector<double>& out)> dense = {};
    };
    /// The other analog inputs of the device, by name, thinned in the same way; asked for where it matters.
    using Neighbours = std::function<std::vector<std::pair<std::string, std::vector<double>>>()>;

    /// One look: begin, what there is of the following in any order, end.
    void beginLook(Instant now);
    void analog(const Stretch& stretch, const Neighbours& neighbours);
    /// Of a digital input: `newest` as many as show that it changed (every few milliseconds one), over more than a
    /// look.
    void contact(const Stretch& stretch);
    /// The newest reading and the worst quality of those about it, by device and chain.
    void reading(double value, Quality worst, double raw, const std::string& unit);
    /// Another signal should read the same, within so much, and has not for longer than `forSeconds`.
    struct Pair {
        std::string name;  ///< of the other
        double own = 0, other = 0;
        double within = 0, forSeconds = 0;
        std::string unit;
    };
    void pair(const Pair& pair);
    void endLook();

    /// Somebody says that the signal reads `value` now (it is grounded, at the supply), and over a while it read `mean`
    /// with a standard deviation `noise`. Stands until it is told again or forgotten.
    void told(Instant now, std::optional<double> value, double mean, double noise, double allowed,
              const std::string& unit);

    /// Through `ohms` it was pulled towards `volts`, in the unit of RawWorth: the raw samples were `before` and became
    /// `with`. What that says stands for a minute.
    void probed(Instant now, double volts, double ohms, double before, double with);

    /// What is known of before does not hold any more: another chain, another device.
    void forget();
    /// The worst first.
    [[nodiscard]] const std::vector<Evidence>& evidence() const { return evidence_; }
    [[nodiscard]] bool suspect() const { return suspect_; }

private:
    struct Standing {
        int score = 0;
        std::optional<Evidence> now;
    };
    void found(Doubt doubt, Text grounds, double sure, int looks = 1);
    [[nodiscard]] std::string worth(double raw) const;
    [[nodiscard]] std::string worthOfDifference(double raw) const;
    void stuck(const Stretch& stretch, const signs::Movement& movement);
    void jumps(const Stretch& stretch, const signs::Movement& movement);
    void coarse(const signs::Movement& movement);
    void flatTops(const Stretch& stretch);
    void sameAsBefore(const Stretch& stretch);
    void mains(const Stretch& stretch, const Neighbours& neighbours);

    RawWorth worth_;
    Instant at_;
    static constexpr std::size_t doubts = 16;
    std::array<Standing, doubts> standing_;
    std::array<bool, doubts> seen_{};
    std::optional<Evidence> probed_;
    std::vector<Evidence> evidence_;
    bool suspect_ = false;

    // how it moved before
    std::deque<bool> lively_;  // look by look: it moved as noise does
    std::optional<double> stoodAt_;
    Instant stoodSince_;
    int stoodLooks_ = 0;
    std::deque<std::vector<std::pair<std::uint64_t, double>>> jumped_;  // number of the sample and its value
    std::uint64_t jumpsUntil_ = 0;
    double lowest_ = 0, highest_ = 0;
    int looks_ = 0;
    std::deque<double> readings_;
    std::map<std::string, Instant> apartSince_;  // by the other's name
    Instant bouncedAt_;
    std::uint64_t bounceUntil_ = 0;
};

}  // namespace cruscotto
