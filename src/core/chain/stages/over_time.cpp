#include <cmath>
#include <deque>

#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

struct Point {
    Instant at;
    double value;
};

/// The extreme of the last so long: of those that are held each is more extreme than all that come behind it.
class Extreme {
public:
    Extreme(double sign, Duration window) : sign_(sign), window_(window) {}
    double step(Instant now, double x) {
        if (std::isfinite(x)) {
            while (!held_.empty() && sign_ * held_.back().value <= sign_ * x) held_.pop_back();
            held_.push_back({now, x});
        }
        while (window_.ns > 0 && !held_.empty() && held_.front().at <= now - window_) held_.pop_front();
        if (window_.ns == 0 && held_.size() > 1) held_.resize(1);
        return held_.empty() ? std::nan("") : held_.front().value;
    }
    void reset() {
        if (window_.ns > 0) held_.clear();
    }

private:
    double sign_;
    Duration window_;
    std::deque<Point> held_;
};

/// The mean of the last so long; over all time with a window of 0.
class Mean {
public:
    explicit Mean(Duration window) : window_(window) {}
    double step(Instant now, double x) {
        if (std::isfinite(x)) {
            add(x, 1);
            if (window_.ns > 0) held_.push_back({now, x});
        }
        while (!held_.empty() && held_.front().at <= now - window_) {
            add(-held_.front().value, -1);
            held_.pop_front();
        }
        return count_ > 0 ? (sum_ + rest_) / static_cast<double>(count_) : std::nan("");
    }
    void reset() {
        if (window_.ns == 0) return;
        held_.clear();
        sum_ = rest_ = 0;
        count_ = 0;
    }

private:
    /// Neumaier's sum: what is rounded off is kept beside it.
    void add(double x, int n) {
        const double next = sum_ + x;
        rest_ += std::fabs(sum_) >= std::fabs(x) ? (sum_ - next) + x : (x - next) + sum_;
        sum_ = next;
        count_ += n;
        if (count_ == 0) sum_ = rest_ = 0;
    }
    Duration window_;
    std::deque<Point> held_;
    double sum_ = 0, rest_ = 0;
    std::int64_t count_ = 0;
};

class OverTime : public StageProcessor {
public:
    OverTime(const std::string& what, Duration window)
        : least_(-1, window), greatest_(1, window), mean_(window), what_(what) {}
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const Instant now = s.times[i];
            double& x = s.values[i];
            if (what_ == "mean")
                x = mean_.step(now, x);
            else if (what_ == "least")
                x = least_.step(now, x);
            else if (what_ == "greatest")
                x = greatest_.step(now, x);
            else
                x = greatest_.step(now, x) - least_.step(now, x);
        }
    }
    void reset() override {
        least_.reset();
        greatest_.reset();
        mean_.reset();
    }

private:
    Extreme least_, greatest_;
    Mean mean_;
    std::string what_;
};

}  // namespace

/// The least, the greatest, the mean or the span of the last seconds; with 0 s of all since it was last set back, which
/// a gap does not end.
const StageKind& overTime() {
    static const StageKind kind{
        .key = "over-time",
        .title = CRUSCOTTO_TEXT("Least, greatest, mean"),
        .group = StageGroup::filter,
        .fields = {{.key = "what",
                    .title = CRUSCOTTO_TEXT("What"),
                    .type = StageField::Type::choice,
                    .first = "greatest",
                    .choices = {{"least", CRUSCOTTO_TEXT("least")},
                                {"greatest", CRUSCOTTO_TEXT("greatest")},
                                {"mean", CRUSCOTTO_TEXT("mean")},
                                {"span", CRUSCOTTO_TEXT("span")}}},
                   {.key = "time-s",
                    .title = CRUSCOTTO_TEXT("Of the last"),
                    .first = 60.0,
                    .unit = "s",
                    .low = 0,
                    .high = 86400},
                   resetField()},
        .sentence =
            [](const Stage& s) {
                const std::string& what = s.text("what");
                return s.number("time-s") > 0
                           ? text(CRUSCOTTO_TEXT("The {0} of the last {1} s."), what, number(s.number("time-s")))
                           : text(CRUSCOTTO_TEXT("The {0} of all since it was last set back."), what);
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<OverTime>(s.text("what"), seconds(s.number("time-s")));
        },
        .memory = [](const Stage& s) -> StageMemory {
            if (s.number("time-s") == 0) return {.time = wholePast};
            return {.held = 2 * static_cast<std::size_t>(std::min(1e6, s.number("time-s") * 100)),
                    .samples = 1,
                    .time = seconds(s.number("time-s"))};
        },
        .carries = [](const Stage& s, const std::string& before, const StageMoment& m) -> std::optional<CarriedError> {
            if (s.text("what") == "span")
                return CarriedError{.gain = m.out, .each = std::sqrt(2.0), .noise = std::sqrt(2.0)};
            if (s.text("what") == "mean")
                return carriedAsMean(m, s.number("time-s") > 0 ? seconds(s.number("time-s")) : m.running);
            return carriedAsItIs(s, before, m);
        },
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
