#include <cmath>

#include "core/base/units.h"
#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

constexpr double zeroCelsius = 273.15;

/// 1/T = a + b ln R + c (ln R)^3, T in kelvin and R in ohms (Steinhart and Hart, Deep-Sea Research 15, 1968).
struct SteinhartHart {
    double a = 0, b = 0, c = 0;
};

SteinhartHart coefficientsOf(const Stage& s) {
    const std::string& model = s.text("model");
    if (model == "coefficients") return {s.number("a"), s.number("b"), s.number("c")};
    if (model == "beta") {
        // 1/T = 1/T0 + ln(R/R0)/beta
        const double beta = s.number("beta");
        return {1 / (s.number("t0") + zeroCelsius) - std::log(s.number("r0")) / beta, 1 / beta, 0};
    }
    // Through three points, (degC, ohm) each: two differences take a away, and one of them b.
    double l[3], y[3];
    for (std::size_t i = 0; i < 3; ++i) {
        l[i] = std::log(s.table("points")[i][1]);
        y[i] = 1 / (s.table("points")[i][0] + zeroCelsius);
    }
    const double g1 = (y[1] - y[0]) / (l[1] - l[0]), g2 = (y[2] - y[0]) / (l[2] - l[0]);
    const double c = (g2 - g1) / (l[2] - l[1]) / (l[0] + l[1] + l[2]);
    const double b = g1 - c * (l[0] * l[0] + l[0] * l[1] + l[1] * l[1]);
    return {y[0] - l[0] * (b + c * l[0] * l[0]), b, c};
}

class Thermistor : public StageProcessor {
public:
    Thermistor(const Stage& s, const std::string& before)
        : toOhm_(convertUnit(before, "Ohm")->factor), k_(coefficientsOf(s)) {}
    void run(Stretch& s) override {
        QualityMarker marker(s.quality);
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double r = s.values[i] * toOhm_;
            const double l = std::log(r);
            const double inverse = k_.a + l * (k_.b + k_.c * l * l);  // 1/T; not above 0: hotter than anything
            const double t = 1 / inverse - zeroCelsius;
            if (r > 0 && inverse > 0 && t > -100 && t < 400) {
                s.values[i] = t;
                continue;
            }
            // Cold beyond all use is an open sensor.
            if (!std::isnan(r))
                marker.mark(i, r > 0 && inverse > 0 && t <= -100 ? Quality::openSensor : Quality::outOfRange);
            s.values[i] = std::numeric_limits<double>::quiet_NaN();
        }
    }

private:
    double toOhm_;
    SteinhartHart k_;
};

}  // namespace

/// The temperature of a thermistor from its resistance: by beta (1/T = 1/T0 + ln(R/R0)/beta), by the coefficients of
/// Steinhart and Hart, or by those that fit three points. Takes ohms.
const StageKind& thermistor() {
    static const StageKind kind{
        .key = "thermistor",
        .title = CRUSCOTTO_TEXT("Thermistor"),
        .group = StageGroup::sensor,
        .fields = {{.key = "model",
                    .title = CRUSCOTTO_TEXT("Known by"),
                    .type = StageField::Type::choice,
                    .first = "beta",
                    .choices = {{"beta", CRUSCOTTO_TEXT("beta")},
                                {"coefficients", CRUSCOTTO_TEXT("coefficients")},
                                {"points", CRUSCOTTO_TEXT("three points")}}},
                   {.key = "r0",
                    .title = CRUSCOTTO_TEXT("Resistance"),
                    .first = 10000.0,
                    .unit = "Ohm",
                    .low = 0,
                    .high = 1e9,
                    .aboveLow = true,
                    .with = "model",
                    .withChoices = {"beta"}},
                   {.key = "t0",
                    .title = CRUSCOTTO_TEXT("At"),
                    .first = 25.0,
                    .unit = "Cel",
                    .low = -100,
                    .high = 300,
                    .with = "model",
                    .withChoices = {"beta"}},
                   {.key = "beta",
                    .title = CRUSCOTTO_TEXT("Beta"),
                    .first = 3950.0,
                    .unit = "K",
                    .low = 100,
                    .high = 20000,
                    .with = "model",
                    .withChoices = {"beta"}},
                   {.key = "a",
                    .title = CRUSCOTTO_TEXT("A"),
                    .first = 1.129148e-3,
                    .with = "model",
                    .withChoices = {"coefficients"}},
                   {.key = "b",
                    .title = CRUSCOTTO_TEXT("B"),
                    .first = 2.34125e-4,
                    .with = "model",
                    .withChoices = {"coefficients"}},
                   {.key = "c",
                    .title = CRUSCOTTO_TEXT("C"),
                    .first = 8.76741e-8,
                    .with = "model",
                    .withChoices = {"coefficients"}},
                   {.key = "points",
                    .title = CRUSCOTTO_TEXT("Three points, °C and Ω"),
                    .type = StageField::Type::table,
                    .first = StageTable{},
                    .columns = 2,
                    .mostRows = 3,
                    .with = "model",
                    .withChoices = {"points"}}},
        .sentence =
            [](const Stage& s) {
                const std::string& model = s.text("model");
                if (model == "beta")
                    return text(CRUSCOTTO_TEXT("{0} Ω at {1} °C, with a beta of {2} K."), number(s.number("r0")),
                                number(s.number("t0")), number(s.number("beta")));
                return Text(model == "points"
                                ? CRUSCOTTO_TEXT("The curve of Steinhart and Hart through its three points.")
                                : CRUSCOTTO_TEXT("The curve of Steinhart and Hart with its coefficients."));
            },
        .make = [](const Stage& s, const std::string& before) -> MadeProcessor {
            return processor<Thermistor>(s, before);
        },
        .takes = "Ohm",
        .unitAfter = [](const Stage&, const std::string&) -> std::string { return "Cel"; },
        .check = [](const Stage& s, const std::string&) -> Result<void> {
            if (s.text("model") != "points") return {};
            const StageTable& points = s.table("points");
            if (points.size() != 3) return failure("Three points are needed, each a temperature and a resistance.");
            for (std::size_t i = 0; i < 3; ++i) {
                if (!(points[i][1] > 0 && points[i][0] > -zeroCelsius))
                    return failure("Point {0} is none: the resistance must be more than 0.", i + 1);
                for (std::size_t k = 0; k < i; ++k)
                    if (points[i][1] == points[k][1] || points[i][0] == points[k][0])
                        return failure("Points {0} and {1} have one value in common; they must lie apart.", k + 1,
                                       i + 1);
            }
            return {};
        },
        .suits = isAnalogInput,
    };
    return kind;
}

}  // namespace cruscotto::stages
