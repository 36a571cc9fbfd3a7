#include <cmath>

#include "core/base/extremes.h"
#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

bool isUnipolar(const Stage& s) {
    return s.text("coding") == "unipolar";
}

double oneCount(const Stage& s) {
    return (s.number("high") - s.number("low")) / std::ldexp(1.0, static_cast<int>(s.number("bits")));
}

class Counts : public StageProcessor {
public:
    explicit Counts(const Stage& s) : scale_(oneCount(s)) {
        const double levels = std::ldexp(1.0, static_cast<int>(s.number("bits")));
        const bool unipolar = isUnipolar(s);
        base_ = unipolar ? s.number("low") : (s.number("low") + s.number("high")) / 2;
        lowest_ = unipolar ? 0 : -levels / 2;
        highest_ = unipolar ? levels - 1 : levels / 2 - 1;
    }
    void run(Stretch& s) override {
        // Clipping is rare: first it is seen whether there is any at all.
        const Extremes all = extremesOf(s.values);
        if (all.least <= lowest_ || all.most >= highest_) {
            QualityMarker marker(s.quality);
            for (std::size_t i = 0; i < s.values.size(); ++i)
                if (s.values[i] <= lowest_ || s.values[i] >= highest_) marker.mark(i, Quality::clipped);
        }
        for (double& x : s.values) x = base_ + x * scale_;
    }

private:
    double scale_, base_, lowest_, highest_;
};

}  // namespace

/// Counts of a linear converter to volts: a code of n bits spans 2^n levels (IEEE 1057, 4.1: one code bin is
/// full-scale range / 2^n), so volts = low + code * (high - low) / 2^n for unipolar codes (0 .. 2^n - 1) and
/// volts = (low + high) / 2 + code * (high - low) / 2^n for two's complement (-2^(n-1) .. 2^(n-1) - 1).
/// A code at either end of its range is marked clipped.
const StageKind& countsToVolts() {
    static const StageKind kind{
        .key = "counts-to-volts",
        .title = CRUSCOTTO_TEXT("Counts to volts"),
        .group = StageGroup::terminal,
        .fields = {{.key = "bits",
                    .title = CRUSCOTTO_TEXT("Bits"),
                    .type = StageField::Type::whole,
                    .first = 16.0,
                    .low = 1,
                    .high = 32},
                   {.key = "low",
                    .title = CRUSCOTTO_TEXT("From"),
                    .first = -10.0,
                    .needed = true,
                    .unit = "V",
                    .follows = StageField::Follows::rangeLow},
                   {.key = "high",
                    .title = CRUSCOTTO_TEXT("To"),
                    .first = 10.0,
                    .needed = true,
                    .unit = "V",
                    .follows = StageField::Follows::rangeHigh},
                   {.key = "coding",
                    .title = CRUSCOTTO_TEXT("Coding"),
                    .type = StageField::Type::choice,
                    .first = "twos-complement",
                    .choices = {{"twos-complement", CRUSCOTTO_TEXT("two's complement")},
                                {"unipolar", CRUSCOTTO_TEXT("unipolar")}}}},
        .sentence =
            [](const Stage& s) {
                const double count = oneCount(s);
                const bool small = count < 1e-4;
                const auto bits = static_cast<int>(s.number("bits"));
                return text(CRUSCOTTO_TEXT("{0} bits make {1} levels over {2} to {3} V: one count is {4} {5}."), bits,
                            static_cast<std::int64_t>(std::ldexp(1.0, bits)), number(s.number("low")),
                            number(s.number("high")), number(count * (small ? 1e6 : 1e3)), small ? "µV" : "mV");
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor { return processor<Counts>(s); },
        .unitAfter = [](const Stage&, const std::string&) -> std::string { return "V"; },
        .check = [](const Stage& s, const std::string&) -> Result<void> {
            if (s.number("low") >= s.number("high"))
                return failure("The range must begin below where it ends; {0} to {1} V does not.", s.number("low"),
                               s.number("high"));
            return {};
        },
        .suits = isAnalogInput,
        .reach = [](const Stage& s, const std::optional<Scale>&) -> std::optional<Scale> {
            return Scale{s.number("low"), s.number("high")};
        },
        .resolution = [](const Stage& s) -> std::optional<double> { return oneCount(s); },
        // A true value anywhere within one code bin is as likely (GUM F.2.2.1): its width over the root of twelve.
        .contributions = [](const Stage& s, double, double) -> std::vector<UncertaintyContribution> {
            return {{CRUSCOTTO_TEXT("the converter's steps"), oneCount(s) / std::sqrt(12.0)}};
        },
    };
    return kind;
}

}  // namespace cruscotto::stages
