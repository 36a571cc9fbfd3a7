#include <cmath>

#include "core/base/units.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

/// A counter of 32 bits that wraps, as a count that does not; up and down.
class Total : public StageProcessor {
public:
    explicit Total(double perPulse) : perPulse_(perPulse) {}
    void run(Stretch& s) override {
        for (double& v : s.values) {
            if (v >= 0 && v <= 4294967295.0) {
                const auto raw = static_cast<std::uint32_t>(v);
                if (last_) count_ += static_cast<std::int32_t>(raw - *last_);
                last_ = raw;
            }
            v = static_cast<double>(count_) * perPulse_;
        }
    }
    /// The counter goes on counting in a gap: what it shows behind it belongs to the total.

private:
    double perPulse_;
    std::optional<std::uint32_t> last_;
    std::int64_t count_ = 0;
};

}  // namespace

/// What a counter has counted since it was last set to zero, in the unit of what it counts: litres, turns, metres of
/// belt. A counter that also counts down, as one behind a quadrature decoder, gives a position.
const StageKind& total() {
    static const StageKind kind{
        .key = "total",
        .title = CRUSCOTTO_TEXT("Total or position"),
        .group = StageGroup::sensor,
        .fields = {{.key = "pulses",
                    .title = CRUSCOTTO_TEXT("Pulses per unit"),
                    .first = 1.0,
                    .low = 0,
                    .high = 1e12,
                    .aboveLow = true},
                   unitField(),
                   resetField()},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("{0} pulses are 1 {1}; counted since it was last set to 0."),
                            number(s.number("pulses")), unitText(s.text("unit")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Total>(1 / s.number("pulses"));
        },
        .unitAfter = typedUnit,
        .memory = [](const Stage&) -> StageMemory { return {.time = wholePast}; },
        .suits = [](ChannelKind of) { return of == ChannelKind::counterInput; },
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> { return std::nullopt; },
        .resolution = [](const Stage& s) -> std::optional<double> { return 1 / s.number("pulses"); },
    };
    return kind;
}

}  // namespace cruscotto::stages
