#include <cmath>
#include <deque>

#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

constexpr std::size_t mostHeld = 1'000'000;

class Delay : public StageProcessor {
public:
    explicit Delay(Duration by) : by_(by) {}
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const Instant now = s.times[i];
            held_.push_back({now, s.values[i]});
            while (held_.size() > 1 && (held_[1].at <= now - by_ || held_.size() > mostHeld)) held_.pop_front();
            s.values[i] = held_.front().at <= now - by_ ? held_.front().value : std::nan("");
        }
    }
    void reset() override { held_.clear(); }

private:
    struct Point {
        Instant at;
        double value;
    };
    Duration by_;
    std::deque<Point> held_;
};

}  // namespace

/// What it was so long before: the newest sample that is at least as old. No reading before there is one.
const StageKind& delay() {
    static const StageKind kind{
        .key = "delay",
        .title = CRUSCOTTO_TEXT("Delay"),
        .group = StageGroup::filter,
        .fields =
            {{.key = "time-s", .title = CRUSCOTTO_TEXT("By"), .first = 1.0, .unit = "s", .low = 0, .high = 86400}},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("What it was {0} s before."), number(s.number("time-s")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Delay>(seconds(s.number("time-s")));
        },
        .memory = [](const Stage& s) -> StageMemory {
            return {.held = 2 * std::min<std::size_t>(mostHeld, static_cast<std::size_t>(s.number("time-s") * 100)),
                    .samples = 1,
                    .time = seconds(s.number("time-s") * 1.001 + 1)};
        },
        .carries = carriedAsItIs,
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
