#include "core/control/controller.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include "core/base/number_text.h"

namespace cruscotto {

namespace {
constexpr Duration mayBeLate = milliseconds(2);

/// With straight lines between the points, or each until the next. Precondition: there are points, ascending.
}  // namespace

const char* controlName(ControlKind kind) {
    constexpr std::array names{"two-point", "pid", "follow", "play"};
    return names.at(static_cast<std::size_t>(kind));
}

Controller::Controller(std::shared_ptr<const ControlSpec> spec, Instant from,
                       std::vector<std::pair<double, double>> played)
    : spec_(std::move(spec)), began_(from), ticked_(from) {
    const ControlSpec& s = *spec_;
    next_ = from;
    if (s.kind != ControlKind::play) return;
    const PlayedSpec& p = s.played;
    points_ = p.shape == PlayedSpec::Shape::run ? std::move(played) : p.points;
    if (p.shape == PlayedSpec::Shape::run)
        for (auto& [t, v] : points_) t /= p.speed;
    length_ = p.lasts > 0                          ? p.lasts
              : p.shape == PlayedSpec::Shape::sine ? 1 / p.hertz
              : p.shape == PlayedSpec::Shape::run  ? (p.to - p.from) / p.speed
              : points_.empty()                    ? 0
                                                   : points_.back().first;
}

bool Controller::looksAt(const std::string& signal) const {
    return !signal.empty() && (signal == spec_->signal || signal == spec_->setpointFrom || signal == spec_->readBack);
}

void Controller::feed(const std::string& signal, std::span<const double> values, const TimeOf& timeOf,
                      std::span<const QualityInterval> quality) {
    if (values.empty()) return;
    const auto usable = [&](std::size_t i) {
        return std::isfinite(values[i]) && std::ranges::none_of(quality, [&](const QualityInterval& q) {
                   return i >= q.begin && i < q.end && severity(q.quality) > severity(Quality::clipped);
               });
    };
    const std::size_t newest = values.size() - 1;
    const Known known{usable(newest) ? std::optional(values[newest]) : std::nullopt, timeOf(newest)};
    if (signal == spec_->setpointFrom) target_ = known;
    if (signal == spec_->readBack) back_ = known;
    if (signal != spec_->signal) return;
    reading_ = known;
    if (spec_->kind != ControlKind::follow) return;
    // Each change at its own time, a delay later.
    for (std::size_t i = 0; i < values.size(); ++i) {
        if (!usable(i)) continue;
        if (!late_.empty() && late_.back().second == values[i]) continue;
        if (spec_->delaySeconds <= 0) late_.clear();
        late_.emplace_back(timeOf(i), values[i]);
    }
    constexpr std::size_t mostWaiting = 1'000'000;
    while (late_.size() > mostWaiting) late_.pop_front();
}

void Controller::lose(const std::string& signal, Instant at) {
    if (signal == spec_->signal) reading_ = {{}, at};
    if (signal == spec_->setpointFrom) target_ = {{}, at};
    if (signal == spec_->readBack) back_ = {{}, at};
}

std::optional<double> Controller::setpointAt(Instant now) const {
    const ControlSpec& s = *spec_;
    if (!s.setpointFrom.empty()) return target_.value;
    if (!s.profile.empty()) return valueAt(s.profile, (now - began_).seconds(), true);
    return s.setpoint;
}

void Controller::goOn(const Controller& before) {
    if (before.spec_->kind != spec_->kind) return;
    if (before.spec_->signal == spec_->signal) {
        reading_ = before.reading_;
        late_ = before.late_;
        lastReading_ = before.lastReading_;
    }
    if (before.spec_->setpointFrom == spec_->setpointFrom) target_ = before.target_;
    if (before.spec_->readBack == spec_->readBack) back_ = before.back_;
    if (before.spec_->profile == spec_->profile && before.spec_->played == spec_->played) began_ = before.began_;
    if (before.spec_->played == spec_->played) {
        points_ = before.points_;
        state_.over = before.state_.over;
    }
    on_ = before.on_;
    switched_ = before.switched_;
    unlike_ = before.unlike_;
    state_.failed = before.state_.failed;
    state_.why = before.state_.why;
    state_.wants = before.state_.wants;
    integral_ = before.integral_;
    filtered_ = before.filtered_;
    last_ = before.last_;
    ticked_ = before.ticked_;
    // Other gains make another share: the sum takes up what they change, so that the output does not jump.
    if (last_ && reading_.value && spec_->kind == ControlKind::pid && spec_->integralSeconds > 0)
        if (const auto target = setpointAt(ticked_)) {
            const auto share = [&](const ControlSpec& s) {
                return (s.reverse ? -s.gain : s.gain) * (*target - *reading_.value);
            };
            integral_ += share(*before.spec_) - share(*spec_);
        }
}

void Controller::reset(Instant now) {
    state_.failed = false;
    unlike_.reset();
    switched_.reset();
    next_ = now;
}

void Controller::watchReadBack(Instant now, const OutputNow& output) {
    const ControlSpec& s = *spec_;
    if (s.readBack.empty() || state_.failed) return;
    const bool driven = std::fabs(output.value - s.onValue) < std::fabs(output.value - s.offValue);
    const bool follows = back_.value && (*back_.value > 0.5) == driven;
    if (follows) {
        unlike_.reset();
        return;
    }
    if (!unlike_) unlike_ = now;
    if (now - *unlike_ < seconds(s.readBackWithin)) return;
    state_.failed = true;
    state_.why = back_.value ? text(CRUSCOTTO_TEXT("What reads it back did not follow within {0} s."),
                                    shortNumber(s.readBackWithin))
                             : CRUSCOTTO_TEXT("What reads it back is not known.");
}

void Controller::twoPoint(Instant now, const OutputNow& output) {
    const ControlSpec& s = *spec_;
    if (!output.mine) {  // whoever holds it switches it: its times count from that
        const bool is = std::fabs(output.value - s.onValue) < std::fabs(output.value - s.offValue);
        if (on_ != is) {
            on_ = is;
            switched_ = now;
        }
    }
    watchReadBack(now, output);
    if (state_.failed) {
        state_.wants = output.safe;
        on_ = false;
        return;
    }
    if (!reading_.value || !state_.setpoint) {
        state_.why = CRUSCOTTO_TEXT("What it looks at is not known: the output is safe.");
        state_.wants = output.safe;
        if (on_.value_or(false)) switched_ = now;
        on_ = false;
        return;
    }
    state_.why = {};
    const double error = (*state_.setpoint - *reading_.value) * (s.reverse ? -1 : 1);
    bool on = on_.value_or(false);
    if (error > s.hysteresis / 2) on = true;
    if (error < -s.hysteresis / 2) on = false;
    const auto least = seconds(on_.value_or(false) ? s.leastOn : s.leastOff);
    if (on_ && on != *on_ && switched_ && now - *switched_ < least) on = *on_;
    if (on_ != on) {
        // Before it has ever been on, nothing has to rest.
        if (on_)
            switched_ = now;
        else if (on)
            switched_ = now;
        on_ = on;
    }
    state_.wants = on ? s.onValue : s.offValue;
}

void Controller::pid(Instant now, const OutputNow& output) {
    const ControlSpec& s = *spec_;
    const double dt = (now - ticked_).seconds();
    ticked_ = now;
    const double low = std::max(s.low, output.low), high = std::max(low, std::min(s.high, output.high));
    if (!reading_.value || !state_.setpoint) {
        state_.why = CRUSCOTTO_TEXT("What it looks at is not known: the output is safe.");
        state_.wants = output.safe;
        lastReading_.reset();
        last_.reset();
        return;
    }
    state_.why = {};
    const double y = *reading_.value, gain = s.reverse ? -s.gain : s.gain;
    const double proportional = gain * (*state_.setpoint - y);
    double derivative = 0;
    if (s.derivativeSeconds > 0 && dt > 0) {
        // Of the reading, not of the error: a step of the setpoint is no reason to jump.
        const double filter = s.derivativeSeconds / 10;
        const double before = lastReading_ ? filtered_ : y;
        filtered_ = before + (y - before) * dt / (filter + dt);
        derivative = -gain * s.derivativeSeconds * (filtered_ - before) / dt;
    }
    const bool fresh = !lastReading_;
    lastReading_ = y;
    if (!output.mine || fresh || !last_) {
        // Bumpless: it begins with what the output is.
        integral_ = std::clamp(output.value, low, high) - (s.integralSeconds > 0 ? proportional : 0) - derivative;
        if (s.integralSeconds <= 0) integral_ = 0;
        last_ = std::clamp(output.value, low, high);
    } else if (s.integralSeconds > 0) {
        integral_ += gain / s.integralSeconds * (*state_.setpoint - y) * dt;
    }
    const double asked = proportional + integral_ + derivative;
    double u = std::clamp(asked, low, high);
    if (s.slew > 0 && last_) u = std::clamp(u, *last_ - s.slew * dt, *last_ + s.slew * dt);
    // What cannot be given is not summed up.
    if (s.integralSeconds > 0 && u != asked) {
        const double room = u - proportional - derivative;
        const double before = integral_ - gain / s.integralSeconds * (*state_.setpoint - y) * dt;
        // It stands where it was, or comes nearer to what can be given.
        if (asked > u)
            integral_ = std::max(room, std::min(integral_, before));
        else
            integral_ = std::min(room, std::max(integral_, before));
    }
    last_ = u;
    state_.wants = u;
}

void Controller::follow(Instant now, const OutputNow& output) {
    const ControlSpec& s = *spec_;
    if (!reading_.value) {
        state_.why = CRUSCOTTO_TEXT("What it looks at is not known: the output is safe.");
        state_.wants = output.safe;
        next_.reset();
        return;
    }
    state_.why = {};
    const Duration delay = seconds(s.delaySeconds);
    while (late_.size() > 1 && late_[1].first + delay <= now) late_.pop_front();
    next_ = late_.size() > 1 ? std::optional(late_[1].first + delay) : std::nullopt;
    if (late_.empty()) return;
    if (late_.front().first + delay > now) {
        next_ = late_.front().first + delay;
        return;
    }
    const double v = late_.front().second;
    if (!output.state)
        state_.wants = v * s.factor + s.offset;
    else
        state_.wants = (v > 0.5) != s.inverted ? 1 : 0;
}

std::optional<PlayedList> Controller::rest(Instant now, std::size_t most) const {
    const PlayedSpec& p = spec_->played;
    const bool steps = p.shape == PlayedSpec::Shape::steps || p.shape == PlayedSpec::Shape::run;
    if (spec_->kind != ControlKind::play || !steps || state_.over || points_.empty() || p.times == 0 || length_ <= 0)
        return {};
    PlayedList out;
    constexpr double fraction = 2e-9;  // see play()
    double t = (now - began_).seconds() + fraction;
    const double end = length_ * p.times;
    while (t < end) {
        const double turn = std::floor(t / length_), within = t - turn * length_;
        const auto after =
            std::ranges::upper_bound(points_, within, {}, [](const std::pair<double, double>& q) { return q.first; });
        const double next = std::min(turn * length_ + (after == points_.end() ? length_ : after->first), end);
        const double value = valueAt(points_, within, false);
        if (!out.empty() && out.back().first == value)
            out.back().second += next - t;
        else if (out.size() == most)
            return {};
        else
            out.emplace_back(value, next - t);
        t = next + fraction;
    }
    return out;
}

void Controller::play(Instant now) {
    const PlayedSpec& p = spec_->played;
    if (state_.over) return;
    if (next_ && now - *next_ > mayBeLate) ++state_.late;
    next_.reset();
    double t = (now - began_).seconds();
    if (length_ > 0) {
        const double turns = std::floor(t / length_);
        if (p.times > 0 && turns >= p.times) {
            // It ends where its last value is; a sine where it began.
            state_.over = true;
            if (p.shape == PlayedSpec::Shape::sine)
                state_.wants = p.mean;
            else if (!points_.empty())
                state_.wants = points_.back().second;
            return;
        }
        t -= turns * length_;
        state_.turn = began_ + seconds(turns * length_);
        next_ = began_ + seconds((turns + 1) * length_);
    } else if (p.shape != PlayedSpec::Shape::sine && points_.size() < 2) {
        state_.over = true;
    }
    if (p.shape == PlayedSpec::Shape::sine) {
        state_.wants = p.mean + p.amplitude * std::sin(2 * std::numbers::pi * p.hertz * (now - began_).seconds());
        next_ = std::min(next_.value_or(now + seconds(spec_->everySeconds)), now + seconds(spec_->everySeconds));
        return;
    }
    if (points_.empty()) {
        state_.over = true;
        state_.why = CRUSCOTTO_TEXT("There is nothing to play.");
        return;
    }
    const bool lines = p.shape == PlayedSpec::Shape::ramps;
    // A moment beyond: a time in nanoseconds may lie a fraction of one before a point that it stands for.
    constexpr double fraction = 2e-9;
    state_.wants = valueAt(points_, lines ? t : t + fraction, lines);
    const auto after =
        std::ranges::upper_bound(points_, t + fraction, {}, [](const std::pair<double, double>& q) { return q.first; });
    if (after == points_.end()) return;
    const Instant then = now + seconds(after->first - t);
    const Instant at = lines ? std::min(then, now + seconds(spec_->everySeconds)) : then;
    if (!next_ || at < *next_) next_ = at;
}

void Controller::advance(Instant now, const OutputNow& output) {
    const ControlSpec& s = *spec_;
    state_.reading = reading_.value;
    if (s.kind == ControlKind::twoPoint || s.kind == ControlKind::pid) {
        state_.setpoint = setpointAt(now);
        if (s.kind == ControlKind::pid && next_ && now < *next_) return;
        s.kind == ControlKind::pid ? pid(now, output) : twoPoint(now, output);
        // In step with its beginning, however late it is asked.
        const Duration every = std::max(Duration{1}, seconds(s.everySeconds));
        next_ = began_ + Duration{((now - began_).ns / every.ns + 1) * every.ns};
        return;
    }
    if (s.kind == ControlKind::follow) return follow(now, output);
    if (!next_ || now >= *next_) play(now);
}

std::optional<Instant> Controller::nextDeadline() const {
    return next_;
}

}  // namespace cruscotto
