#include <array>
#include <cmath>
#include <map>
#include <mutex>

#include "core/base/units.h"
#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"
#include "core/chain/stages/thermocouple_functions.h"
#include "core/chain/stages/tolerance.h"

namespace cruscotto::stages {

namespace {

/// The inverse of a reference function as cubic pieces between equally spaced points, whose values and slopes are the
/// function's own: within 1e-5 degC of it, and some ten times as fast as solving it for each sample. Where it
/// is almost flat (below -250 degC, for type B below 150) it is solved.
class Inverse {
public:
    /// Worked out when a type is first used (10 ms), and kept. Any thread.
    static const Inverse& of(const ThermocoupleFunction& f) {
        static std::mutex mutex;
        static std::map<const ThermocoupleFunction*, Inverse> all;
        const std::lock_guard lock(mutex);
        const auto known = all.find(&f);
        return known != all.end() ? known->second : all.emplace(&f, Inverse(f)).first->second;
    }
    [[nodiscard]] double celsius(double mv) const {
        const Half& half = mv < 0 ? below_ : above_;
        if (half.coefficients.empty() || mv < half.from) return f_->celsius(mv);
        const double x = (mv - half.from) * half.perMillivolt;
        const auto i = std::min(static_cast<std::size_t>(x), pieces - 1);
        const double u = x - static_cast<double>(i);
        const std::array<double, 4>& c = half.coefficients[i];
        return c[0] + u * (c[1] + u * (c[2] + u * c[3]));
    }

private:
    static constexpr std::size_t pieces = 2048;
    struct Half {
        double from = 0, perMillivolt = 0;
        std::vector<std::array<double, 4>> coefficients;
    };
    explicit Inverse(const ThermocoupleFunction& f) : f_(&f) {
        const double flat = f.unique().low > 0 ? 150 : -250;
        const double low = f.range().low < flat ? f.millivolts(flat) : f.unique().low;
        if (low < 0) below_ = half(low, 0);
        above_ = half(std::max(low, 0.0), f.unique().high);
    }
    /// The function bends sharply at 0 degC for some types: a point lies there.
    [[nodiscard]] Half half(double from, double to) const {
        Half out{from, static_cast<double>(pieces) / (to - from), {}};
        const double step = (to - from) / static_cast<double>(pieces);
        const double inside = step * 1e-6;
        for (std::size_t i = 0; i < pieces; ++i) {
            const double a = from + step * static_cast<double>(i), b = i + 1 == pieces ? to : a + step;
            const double t0 = f_->celsius(a), t1 = f_->celsius(b);
            const double m0 = step / f_->slope(f_->celsius(a + inside)), m1 = step / f_->slope(f_->celsius(b - inside));
            out.coefficients.push_back({t0, m0, 3 * (t1 - t0) - 2 * m0 - m1, 2 * (t0 - t1) + m0 + m1});
        }
        return out;
    }

    const ThermocoupleFunction* f_;
    Half below_, above_;
};

class Thermocouple : public StageProcessor {
public:
    Thermocouple(const Stage& s, const std::string& before)
        : function_(*ThermocoupleFunction::of(s.text("type"))),
          inverse_(Inverse::of(function_)),
          toMillivolts_(convertUnit(before, "mV")->factor),
          burnOut_(s.text("burn-out")) {}
    void run(Stretch& s) override {
        QualityMarker marker(s.quality);
        const StageInput& junction = s.inputs[0];
        const Scale unique = function_.unique(), range = function_.range();
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            if (const double cold = junction[i]; cold != cold_) {
                cold_ = cold;
                offset_ = cold >= range.low && cold <= range.high ? function_.millivolts(cold)
                                                                  : std::numeric_limits<double>::quiet_NaN();
            }
            double mv = s.values[i] * toMillivolts_ + offset_;
            if (mv > unique.high && mv < unique.high + rounding) mv = unique.high;
            if (mv < unique.low && mv > unique.low - rounding && unique.low < 0) mv = unique.low;
            if (mv >= unique.low && mv <= unique.high) {
                s.values[i] = inverse_.celsius(mv);
                continue;
            }
            const bool high = mv > unique.high, low = mv < unique.low;
            const bool broken = (high && burnOut_ == "up") || (low && burnOut_ == "down");
            if (high || low)
                marker.mark(i, broken ? Quality::openSensor : Quality::outOfRange);
            else if (!std::isnan(s.values[i]))
                marker.mark(i, Quality::suspect);  // the cold junction has no reading
            s.values[i] = std::numeric_limits<double>::quiet_NaN();
        }
    }

private:
    const ThermocoupleFunction& function_;
    const Inverse& inverse_;
    static constexpr double rounding = 0.0006;  ///< mV: of tables, at the very ends
    double toMillivolts_;
    const std::string burnOut_;
    double cold_ = std::numeric_limits<double>::quiet_NaN();
    double offset_ = std::numeric_limits<double>::quiet_NaN();
};

}  // namespace

/// The temperature at the measuring junction: the voltage and that of the type's reference function at the cold
/// junction's temperature together, through the inverse of that function (IEC 60584-1:2013; NIST Monograph 175). Takes
/// V, mV or uV. Beyond the type's range there is no reading; where the input has a burn-out current, that end of it
/// means a broken wire.
const StageKind& thermocouple() {
    static const StageKind kind{
        .key = "thermocouple",
        .title = CRUSCOTTO_TEXT("Thermocouple"),
        .group = StageGroup::sensor,
        .fields = {{.key = "type",
                    .title = CRUSCOTTO_TEXT("Type"),
                    .type = StageField::Type::choice,
                    .first = "K",
                    .choices = {{"B", CRUSCOTTO_TEXT("B: platinum-rhodium 30 % and 6 %")},
                                {"E", CRUSCOTTO_TEXT("E: chromel and constantan")},
                                {"J", CRUSCOTTO_TEXT("J: iron and constantan")},
                                {"K", CRUSCOTTO_TEXT("K: chromel and alumel")},
                                {"N", CRUSCOTTO_TEXT("N: nicrosil and nisil")},
                                {"R", CRUSCOTTO_TEXT("R: platinum-rhodium 13 % and platinum")},
                                {"S", CRUSCOTTO_TEXT("S: platinum-rhodium 10 % and platinum")},
                                {"T", CRUSCOTTO_TEXT("T: copper and constantan")}}},
                   {.key = "cold-junction",
                    .title = CRUSCOTTO_TEXT("Cold junction"),
                    .type = StageField::Type::source,
                    .first = StageSource{"", 23, "Cel"},
                    .unit = "Cel",
                    .low = -50,
                    .high = 200},
                   {.key = "burn-out",
                    .title = CRUSCOTTO_TEXT("A broken wire drives the input"),
                    .type = StageField::Type::choice,
                    .first = "none",
                    .choices = {{"none", CRUSCOTTO_TEXT("nowhere")},
                                {"up", CRUSCOTTO_TEXT("to its upper end")},
                                {"down", CRUSCOTTO_TEXT("to its lower end")}}},
                   {.key = "tolerance",
                    .title = CRUSCOTTO_TEXT("Class (IEC 60584-1)"),
                    .type = StageField::Type::choice,
                    .first = "none",
                    .choices = {{"none", CRUSCOTTO_TEXT("not given")},
                                {"1", CRUSCOTTO_TEXT("1")},
                                {"2", CRUSCOTTO_TEXT("2")}},
                    .quiet = true}},
        .sentence =
            [](const Stage& s) {
                const auto* f = ThermocoupleFunction::of(s.text("type"));
                const double low = s.text("type") == "B" ? 50 : f->range().low;
                return text(CRUSCOTTO_TEXT("Type {0} after IEC 60584-1, from {1} to {2} °C; the voltage is that above "
                                           "the cold junction's."),
                            s.text("type"), number(low), number(f->range().high));
            },
        .make = [](const Stage& s, const std::string& before) -> MadeProcessor {
            return processor<Thermocouple>(s, before);
        },
        .takes = "V",
        .unitAfter = [](const Stage&, const std::string&) -> std::string { return "Cel"; },
        .suits = isAnalogInput,
        .contributions = [](const Stage& s, double, double degrees) -> std::vector<UncertaintyContribution> {
            const std::string& sensor = s.text("type");
            const auto limit = toleranceOf(sensor, s.text("tolerance"), degrees);
            if (!limit) return {};
            return {{text(CRUSCOTTO_TEXT("the sensor's tolerance, type {0} class {1}"), sensor, s.text("tolerance")),
                     *limit / std::sqrt(3.0)}};
        },
        .remark = [](const Stage&, double in) -> Text {
            if (!(in < 0)) return {};
            return CRUSCOTTO_TEXT(
                "It says that the sensor is colder than the cold junction. If it is warmer, or if it goes down when "
                "you "
                "warm it, its two wires are swapped.");
        },
    };
    return kind;
}

}  // namespace cruscotto::stages
