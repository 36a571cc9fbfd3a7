#include <cmath>
#include <deque>

#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class Events : public StageProcessor {
public:
    explicit Events(const Stage& s)
        : threshold_(s.number("threshold")),
          rearm_(threshold_ - s.number("hysteresis")),
          dead_(seconds(s.number("dead-time-s"))),
          pause_(seconds(s.number("pause-s"))),
          window_(seconds(s.number("window-s"))),
          reads_(s.text("reads")) {}
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double x = s.values[i];  // no number is no event; what has been counted stays
            const Instant now = s.times[i];
            if (x < rearm_) armed_ = true;
            const bool ringing = any_ && now - last_ < dead_;
            if (armed_ && x >= threshold_ && !ringing) {
                if (any_ && now - last_ > pause_) closeGroup();
                any_ = true;
                ++count_;
                if (inGroup_ == 0) ++groups_;
                ++inGroup_;
                peak_ = x;
                last_ = now;
                recent_.push_back(now);
            } else if (ringing && x > peak_) {
                peak_ = x;
            }
            if (x >= threshold_) armed_ = false;
            if (any_ && inGroup_ > 0 && now - last_ > pause_) closeGroup();
            if (any_ && now - last_ >= dead_) height_ = peak_;
            while (!recent_.empty() && now - recent_.front() >= window_) recent_.pop_front();
            s.values[i] = reads_ == "count"    ? static_cast<double>(count_)
                          : reads_ == "rate"   ? static_cast<double>(recent_.size()) / window_.seconds()
                          : reads_ == "height" ? height_
                                               : static_cast<double>(group_);
        }
    }
    [[nodiscard]] std::uint64_t count() const { return count_; }
    [[nodiscard]] std::uint64_t groups() const { return groups_; }
    void reset() override {
        armed_ = any_ = false;
        inGroup_ = 0;
        recent_.clear();
    }

private:
    void closeGroup() { group_ = std::exchange(inGroup_, 0); }

    const double threshold_, rearm_;
    const Duration dead_, pause_, window_;
    const std::string reads_;
    bool armed_ = false, any_ = false;
    std::uint64_t count_ = 0, inGroup_ = 0, group_ = 0, groups_ = 0;
    double peak_ = 0, height_ = std::numeric_limits<double>::quiet_NaN();
    Instant last_;
    std::deque<Instant> recent_;
};

/// Runs it over a stretch as if it had begun there.
void runOver(Events& events, std::span<const double> values, std::span<const Instant> times) {
    std::vector<double> copy(values.begin(), values.end());
    const std::vector<Instant> when(times.begin(), times.end());
    const SampleTimes at{nullptr, &when};
    std::vector<QualityInterval> quality;
    Stretch stretch{copy, at, quality};
    events.run(stretch);
}

Text counted(const Stage& s, std::span<const double> values, std::span<const Instant> times) {
    Events with(s), without(s.with("dead-time-s", 0.0));
    runOver(with, values, times);
    runOver(without, values, times);
    if (s.number("dead-time-s") == 0)
        return text(CRUSCOTTO_TEXT("{0} events, {1} groups."), with.count(), with.groups());
    return text(CRUSCOTTO_TEXT("{0} events, {1} groups; {2} without the dead time."), with.count(), with.groups(),
                without.count());
}

}  // namespace

/// Events in an analog signal. One begins where the threshold is reached after the signal was below it by the
/// hysteresis; what happens within the dead time behind its beginning belongs to it (ringing); a pause closes a group.
/// Reads as the count since the bench began, as the events a second over the window, as the height of the last event
/// (its highest value within the dead time), or as the size of the last group that is closed.
const StageKind& events() {
    static const StageKind kind{
        .key = "events",
        .title = CRUSCOTTO_TEXT("Events"),
        .group = StageGroup::event,
        .fields = {{.key = "reads",
                    .title = CRUSCOTTO_TEXT("Reads as"),
                    .type = StageField::Type::choice,
                    .first = "count",
                    .choices = {{"count", CRUSCOTTO_TEXT("count")},
                                {"rate", CRUSCOTTO_TEXT("events a second")},
                                {"height", CRUSCOTTO_TEXT("height of the last")},
                                {"group", CRUSCOTTO_TEXT("size of the last group")}}},
                   {.key = "threshold", .title = CRUSCOTTO_TEXT("Threshold"), .first = 1.0, .needed = true},
                   {.key = "hysteresis", .title = CRUSCOTTO_TEXT("Hysteresis"), .first = 0.0, .low = 0},
                   {.key = "dead-time-s",
                    .title = CRUSCOTTO_TEXT("Dead time"),
                    .first = 0.0,
                    .unit = "s",
                    .low = 0,
                    .high = 1000},
                   {.key = "pause-s",
                    .title = CRUSCOTTO_TEXT("A group ends after"),
                    .first = 1.0,
                    .unit = "s",
                    .low = 0,
                    .high = 1e5,
                    .with = "reads",
                    .withChoices = {"group"}},
                   {.key = "window-s",
                    .title = CRUSCOTTO_TEXT("Rate over"),
                    .first = 10.0,
                    .unit = "s",
                    .low = 0,
                    .high = 1e4,
                    .aboveLow = true,
                    .with = "reads",
                    .withChoices = {"rate"}}},
        .sentence =
            [](const Stage& s) {
                if (s.number("dead-time-s") == 0)
                    return text(CRUSCOTTO_TEXT("An event each time {0} is reached."), number(s.number("threshold")));
                return text(
                    CRUSCOTTO_TEXT("An event each time {0} is reached; for {1} s behind it nothing else counts."),
                    number(s.number("threshold")), number(s.number("dead-time-s")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor { return processor<Events>(s); },
        .unitAfter = [](const Stage& s, const std::string& before) -> std::string {
            return s.text("reads") == "height" ? before : s.text("reads") == "rate" ? "/s" : "1";
        },
        .memory = [](const Stage&) -> StageMemory { return {.time = wholePast}; },
        .suits = isAnalogInput,
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> { return {}; },
        .levels = {"threshold"},
        .tried = counted,
    };
    return kind;
}

}  // namespace cruscotto::stages
