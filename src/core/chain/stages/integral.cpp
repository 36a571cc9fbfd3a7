#include <cmath>

#include "core/base/units.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

double secondsOf(const Stage& s) {
    return convertUnit(s.text("per"), "s").value_or(UnitConversion{}).factor;
}

class Integral : public StageProcessor {
public:
    Integral(double seconds, double factor) : scale_(factor * 1e-9 / seconds) {}
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const Instant now = s.times[i];
            const double x = s.values[i];
            if (std::isfinite(x)) {
                if (begun_) {
                    // The sums of many small parts: what each addition rounds off is added to the next (Kahan).
                    const double part = 0.5 * (x + last_) * static_cast<double>(now.ns - at_.ns) * scale_ - rounded_;
                    const double next = sum_ + part;
                    rounded_ = (next - sum_) - part;
                    sum_ = next;
                }
                begun_ = true;
                last_ = x;
                at_ = now;
            } else {
                begun_ = false;  // nothing is known of this time: it adds nothing
            }
            s.values[i] = sum_;
        }
    }
    /// A gap adds nothing; what was summed up stays.
    void reset() override { begun_ = false; }

private:
    double scale_, sum_ = 0, rounded_ = 0, last_ = 0;
    Instant at_;
    bool begun_ = false;
};

UnitProduct product(const Stage& s, const std::string& before) {
    const UnitPower powers[] = {{before, 1}, {s.text("per"), 1}};
    return unitProduct(powers);
}

}  // namespace

/// The integral over time by the trapezoidal rule, from when it was last set to zero: litres from litres a minute,
/// watt hours from watts. Where there is no reading nothing is added.
const StageKind& integral() {
    static const StageKind kind{
        .key = "integral",
        .title = CRUSCOTTO_TEXT("Total over time"),
        .group = StageGroup::filter,
        .fields = {{.key = "per",
                    .title = CRUSCOTTO_TEXT("Unit of time"),
                    .type = StageField::Type::choice,
                    .first = "min",
                    .choices = {{"s", CRUSCOTTO_TEXT("second")},
                                {"min", CRUSCOTTO_TEXT("minute")},
                                {"h", CRUSCOTTO_TEXT("hour")}}},
                   resetField()},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("The sum over time, in units times {0}, since it was last set to 0."),
                            s.text("per"));
            },
        .make = [](const Stage& s, const std::string& before) -> MadeProcessor {
            return processor<Integral>(secondsOf(s), product(s, before).factor);
        },
        .unitAfter = [](const Stage& s, const std::string& before) { return product(s, before).unit; },
        .memory = [](const Stage&) -> StageMemory { return {.time = wholePast}; },
        .carries = [](const Stage& s, const std::string& before, const StageMoment& m) -> std::optional<CarriedError> {
            // since when it adds up is not known once it has been set to 0
            if (s.number("resets") > 0) return {};
            const double time = product(s, before).factor * m.running.seconds() / secondsOf(s);
            // A step of something that stands still is off by as much all the time.
            return CarriedError{.offset = time, .gain = m.out, .each = time, .noise = time, .averaged = m.running};
        },
        .suits = isAnalog,
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> { return std::nullopt; },
    };
    return kind;
}

}  // namespace cruscotto::stages
