#include <cmath>

#include "core/base/units.h"
#include "core/chain/quality_marker.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class Quadrature : public StageProcessor {
public:
    explicit Quadrature(double perStep) : perStep_(perStep) {}
    void run(Stretch& s) override {
        QualityMarker marker(s.quality);
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const double other = s.inputs[0][i];
            if (!std::isfinite(other) || !std::isfinite(s.values[i])) {
                s.values[i] = std::nan("");
                continue;
            }
            const bool a = s.values[i] > 0.5, b = other > 0.5, index = s.inputs[1][i] > 0.5;
            const int now = (b ? 2 : 0) | (a != b ? 1 : 0);  // in the order in which they follow: 0, 1, 2, 3
            if (known_) {
                const int step = (now - phase_ + 4) % 4;
                if (step == 2) marker.mark(i, Quality::suspect);  // both changed: a step was missed
                position_ += step == 1 ? 1 : step == 3 ? -1 : 0;
            }
            if (index && !index_) position_ = 0;
            index_ = index;
            phase_ = now;
            known_ = true;
            s.values[i] = static_cast<double>(position_) * perStep_;
        }
    }
    void reset() override { known_ = false; }

private:
    double perStep_;
    std::int64_t position_ = 0;
    int phase_ = 0;
    bool known_ = false, index_ = false;
};

StageField input(const char* key, Text title) {
    return {.key = key,
            .title = std::move(title),
            .type = StageField::Type::source,
            .first = StageSource{"", 0, "1"},
            .unit = "1"};
}

}  // namespace

/// Position from the two tracks of an incremental encoder on digital inputs, all four edges of a line counted; this
/// input is track A. Up where A leads. An edge of the index sets it to 0. A sample at which both tracks have changed
/// has missed a step and is suspect.
const StageKind& quadrature() {
    static const StageKind kind{
        .key = "quadrature",
        .title = CRUSCOTTO_TEXT("Encoder, two tracks"),
        .group = StageGroup::sensor,
        .fields = {input("track-b", CRUSCOTTO_TEXT("Track B")),
                   input("index", CRUSCOTTO_TEXT("Index")),
                   {.key = "lines",
                    .title = CRUSCOTTO_TEXT("Lines per unit"),
                    .first = 500.0,
                    .low = 0,
                    .high = 1e9,
                    .aboveLow = true},
                   unitField(),
                   resetField()},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("{0} lines of four edges each are 1 {1}; up where this track leads."),
                            number(s.number("lines")), unitText(s.text("unit")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Quadrature>(0.25 / s.number("lines"));
        },
        .unitAfter = typedUnit,
        .memory = [](const Stage&) -> StageMemory { return {.time = wholePast}; },
        .suits = [](ChannelKind of) { return of == ChannelKind::digitalInput; },
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> { return std::nullopt; },
        .resolution = [](const Stage& s) -> std::optional<double> { return 0.25 / s.number("lines"); },
        .gives = StageKind::Gives::number,
    };
    return kind;
}

}  // namespace cruscotto::stages
