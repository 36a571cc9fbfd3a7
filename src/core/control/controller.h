#pragma once

#include <deque>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "core/base/text.h"
#include "core/base/time.h"
#include "core/control/control.h"
#include "core/control/pattern.h"
#include "core/signal/block.h"

namespace cruscotto {

/// How an output that is controlled stands, when its controller is asked.
struct OutputNow {
    double value = 0;
    bool mine = true;  ///< it is what the controller wants; else somebody else holds it
    double low = 0, high = 1, safe = 0;
    bool state = false;  ///< on or off
};

/// How a control stands.
struct ControlState {
    std::optional<double> wants;     ///< nothing: it leaves the output alone
    std::optional<double> setpoint;  ///< now
    std::optional<double> reading;
    bool over = false;            ///< what it played has ended
    std::optional<Instant> turn;  ///< when what it plays began, this time
    bool failed = false;          ///< the read-back did not follow: safe until somebody resets it
    Text why;                     ///< why it does not do as it should; empty: it does
    std::uint64_t late = 0;       ///< values that came more than 2 ms late, of those that have their time
    bool operator==(const ControlState&) const = default;
};

/// One control at work. A reading that is not known keeps nothing on: the output goes to its safe value. Confined to
/// one thread.
class Controller {
public:
    /// `played`: the samples of a run's stretch, by seconds from 0 on; empty unless it plays a run.
    Controller(std::shared_ptr<const ControlSpec> spec, Instant from,
               std::vector<std::pair<double, double>> played = {});

    using TimeOf = std::function<Instant(std::size_t)>;
    [[nodiscard]] bool looksAt(const std::string& signal) const;
    void feed(const std::string& signal, std::span<const double> values, const TimeOf& timeOf,
              std::span<const QualityInterval> quality = {});
    /// Nothing is known of the signal from here on, until something comes.
    void lose(const std::string& signal, Instant at);
    /// Time has come to `now`, and the output stands so. What it wants is in state().
    void advance(Instant now, const OutputNow& output);
    [[nodiscard]] std::optional<Instant> nextDeadline() const;
    [[nodiscard]] const ControlState& state() const { return state_; }
    /// It goes on from where this one of the same output stood: what was known, summed up and switched stays.
    void goOn(const Controller& before);
    /// Its read-back is looked at anew.
    void reset(Instant now);
    /// All that it still plays from `now` on, for a device that can be told it as a whole: steps that come to an end,
    /// `most` of them at most; else nothing.
    [[nodiscard]] std::optional<PlayedList> rest(Instant now, std::size_t most) const;
    [[nodiscard]] const ControlSpec& spec() const { return *spec_; }

private:
    struct Known {
        std::optional<double> value;
        Instant at;
    };
    void twoPoint(Instant now, const OutputNow& output);
    void watchReadBack(Instant now, const OutputNow& output);
    void pid(Instant now, const OutputNow& output);
    void follow(Instant now, const OutputNow& output);
    void play(Instant now);
    [[nodiscard]] std::optional<double> setpointAt(Instant now) const;

    std::shared_ptr<const ControlSpec> spec_;
    Instant began_;
    std::vector<std::pair<double, double>> points_;
    double length_ = 0;  ///< of what is played once, in seconds
    std::optional<Instant> next_;
    ControlState state_;
    Known reading_, target_, back_;
    // two-point
    std::optional<bool> on_;
    std::optional<Instant> switched_;
    std::optional<Instant> unlike_;  ///< since when the read-back does not follow
    // PID
    double integral_ = 0, filtered_ = 0;
    std::optional<double> last_;  ///< what it wanted
    std::optional<double> lastReading_;
    Instant ticked_;
    // follow
    std::deque<std::pair<Instant, double>> late_;
};

}  // namespace cruscotto
