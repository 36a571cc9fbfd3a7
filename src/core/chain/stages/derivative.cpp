#include <cmath>

#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class Derivative : public StageProcessor {
public:
    explicit Derivative(std::size_t n) : ring_(n) {}
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const Point now{s.times[i], s.values[i]};
            const Point before = std::exchange(ring_[next_], now);
            next_ = next_ + 1 == ring_.size() ? 0 : next_ + 1;
            const bool full = filled_ == ring_.size();
            if (!full) ++filled_;
            const auto ns = static_cast<double>(now.at.ns - before.at.ns);
            s.values[i] =
                full && ns > 0 ? (now.value - before.value) * 1e9 / ns : std::numeric_limits<double>::quiet_NaN();
        }
    }
    void reset() override { next_ = filled_ = 0; }

private:
    struct Point {
        Instant at;
        double value = 0;
    };
    std::vector<Point> ring_;
    std::size_t next_ = 0, filled_ = 0;
};

}  // namespace

/// How fast it changes, a second: the difference to the sample n before over the time between. No reading before there
/// is one.
const StageKind& derivative() {
    static const StageKind kind{
        .key = "derivative",
        .title = CRUSCOTTO_TEXT("Change per second"),
        .group = StageGroup::filter,
        .fields = {{.key = "samples",
                    .title = CRUSCOTTO_TEXT("Over samples"),
                    .type = StageField::Type::whole,
                    .first = 10.0,
                    .low = 1,
                    .high = 100'000}},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("The change to the sample {0} before, a second."),
                            static_cast<int>(s.number("samples")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Derivative>(static_cast<std::size_t>(s.number("samples")));
        },
        .unitAfter = [](const Stage&, const std::string& before) { return (before == "1" ? "" : before) + "/s"; },
        .memory = [](const Stage& s) -> StageMemory {
            const auto n = static_cast<std::size_t>(s.number("samples"));
            return {.held = 2 * n, .samples = n + 1};
        },
        .carries = [](const Stage& s, const std::string&, const StageMoment& m) -> std::optional<CarriedError> {
            if (m.interval.ns <= 0) return {};
            const double both = std::sqrt(2.0) / (s.number("samples") * m.interval.seconds());
            return CarriedError{.gain = m.out, .each = both, .noise = both};
        },
        .suits = isAnalog,
    };
    return kind;
}

}  // namespace cruscotto::stages
