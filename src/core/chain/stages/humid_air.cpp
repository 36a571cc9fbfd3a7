#include <cmath>

#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

// Over water, from -45 to 60 °C: WMO-No. 8, Guide to Instruments and Methods of Observation (2018), annex 4.B.
constexpr double slope = 17.62, pole = 243.12, atFreezing = 6.112;  // 1, °C, hPa
constexpr double lowest = -45, highest = 60;
constexpr double waterVapour = 216.679;  // g K / (hPa m3): 1 / the specific gas constant of water vapour

class HumidAir : public StageProcessor {
public:
    explicit HumidAir(bool dewPoint) : dewPoint_(dewPoint) {}
    void run(Stretch& s) override {
        QualityMarker marker(s.quality);
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double t = s.inputs[0][i], humidity = s.inputs[1][i];
            const bool known = std::isfinite(t) && std::isfinite(humidity);
            const bool inside = t >= lowest && t <= highest && humidity > 0 && humidity <= 100;
            if (known && !inside) marker.mark(i, Quality::outOfRange);
            s.values[i] = known && inside ? of(t, humidity) : std::nan("");
        }
    }

private:
    [[nodiscard]] double of(double t, double humidity) const {
        const double exponent = slope * t / (pole + t);
        if (!dewPoint_) return waterVapour * humidity / 100 * atFreezing * std::exp(exponent) / (t + 273.15);
        const double x = std::log(humidity / 100) + exponent;
        return pole * x / (slope - x);
    }
    bool dewPoint_;
};

StageField measured(const char* key, Text title, double first, const char* unit) {
    return {.key = key,
            .title = std::move(title),
            .type = StageField::Type::source,
            .first = StageSource{"", first, unit},
            .needed = true,
            .unit = unit};
}

}  // namespace

/// Dew point or absolute humidity of air, from its temperature and its relative humidity.
const StageKind& humidAir() {
    static const StageKind kind{
        .key = "humid-air",
        .title = CRUSCOTTO_TEXT("Humid air"),
        .group = StageGroup::computation,
        .fields = {{.key = "gives",
                    .title = CRUSCOTTO_TEXT("Gives"),
                    .type = StageField::Type::choice,
                    .first = "dew-point",
                    .choices = {{"dew-point", CRUSCOTTO_TEXT("dew point")},
                                {"absolute-humidity", CRUSCOTTO_TEXT("absolute humidity")}}},
                   measured("temperature", CRUSCOTTO_TEXT("Temperature"), 20, "Cel"),
                   measured("humidity", CRUSCOTTO_TEXT("Relative humidity"), 50, "%")},
        .sentence =
            [](const Stage& s) {
                return s.text("gives") == "dew-point"
                           ? text(CRUSCOTTO_TEXT("Dew point over water by the Magnus formula (WMO-No. 8, annex 4.B), "
                                                 "from −45 to 60 °C."))
                           : text(CRUSCOTTO_TEXT("Water in a cubic metre of air by the Magnus formula (WMO-No. 8, "
                                                 "annex 4.B), from −45 to 60 °C."));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<HumidAir>(s.text("gives") == "dew-point");
        },
        .unitAfter = [](const Stage& s,
                        const std::string&) { return std::string(s.text("gives") == "dew-point" ? "Cel" : "g/m3"); },
        .suits = isComputed,
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> { return std::nullopt; },
    };
    return kind;
}

}  // namespace cruscotto::stages
