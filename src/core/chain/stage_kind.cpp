#include "core/chain/stage_kind.h"

#include <algorithm>
#include <cmath>

#include "core/base/units.h"
#include "core/chain/stages/list.h"
#include "core/signal/pyramid.h"

namespace cruscotto {

namespace {

/// A stage that is switched off.
class Pass : public StageProcessor {
public:
    void run(Stretch&) override {}
};

/// What the stage, as new, makes of one value that comes in.
double alone(StageProcessor& processor, std::span<const StageInput> inputs, double in) {
    std::vector<double> values{in};
    const std::vector<Instant> when{Instant{}};
    const SampleTimes times{nullptr, &when};
    std::vector<QualityInterval> quality;
    Stretch stretch{values, times, quality, inputs};
    processor.reset();
    processor.run(stretch);
    return values[0];
}

}  // namespace

std::span<const StageKind* const> stageKinds() {
#define CRUSCOTTO_ADDRESS(name) &stages::name(),
    static const std::vector<const StageKind*> all{CRUSCOTTO_STAGES(CRUSCOTTO_ADDRESS)};
#undef CRUSCOTTO_ADDRESS
    return all;
}

Text stageGroupTitle(StageGroup group) {
    switch (group) {
        case StageGroup::terminal:
            return CRUSCOTTO_TEXT("From the terminal");
        case StageGroup::sensor:
            return CRUSCOTTO_TEXT("Sensor");
        case StageGroup::law:
            return CRUSCOTTO_TEXT("Scale or law");
        case StageGroup::filter:
            return CRUSCOTTO_TEXT("Filter");
        case StageGroup::event:
            return CRUSCOTTO_TEXT("States and events");
        case StageGroup::computation:
            return CRUSCOTTO_TEXT("Computed from others");
        case StageGroup::unit:
            break;
    }
    return CRUSCOTTO_TEXT("Unit and range");
}

const StageKind* stageKind(std::string_view key) {
    const auto all = stageKinds();
    const auto it = std::ranges::find_if(all, [&](const StageKind* k) { return k->key == key; });
    return it == all.end() ? nullptr : *it;
}

std::vector<Stage> offeredStages(ChannelKind channel, const std::string& unit) {
    std::vector<Stage> out;
    for (const StageKind* kind : stageKinds()) {
        if (!kind->suits || !kind->suits(channel)) continue;
        Stage stage(*kind);
        bool possible = true;
        for (std::size_t i = 0; i < kind->fields.size(); ++i) {
            // Of what is computed the unit is found; elsewhere it stays until another is typed.
            const bool found = kind->group == StageGroup::computation;
            if (kind->fields[i].type == StageField::Type::unit && !found) stage = stage.with(i, unit);
            if (kind->fields[i].type != StageField::Type::likeUnit) continue;
            const auto units = compatibleUnits(unit);
            const auto other = std::ranges::find_if(units, [&](const std::string& u) { return u != unit; });
            possible = possible && other != units.end();
            if (other != units.end()) stage = stage.with(i, *other);
        }
        if (possible && checkStage(stage, unit)) out.push_back(std::move(stage));
    }
    return out;
}

MadeProcessor makeProcessor(const Stage& stage, const std::string& unitBefore) {
    if (stage.isOff()) return processor<Pass>();
    if (auto checked = checkStage(stage, unitBefore); !checked) return checked.error();
    return stage.kind().make(stage, unitBefore);
}

StageMemory memoryOf(const Stage& stage) {
    return stage.kind().memory && !stage.isOff() ? stage.kind().memory(stage) : StageMemory{};
}

std::optional<Scale> reachAfter(const Stage& stage, const std::string& unitBefore, const std::optional<Scale>& in) {
    if (stage.isOff()) return in;
    if (stage.kind().reach) return stage.kind().reach(stage, in);
    auto made = in ? makeProcessor(stage, unitBefore) : MadeProcessor(Error{});
    if (!made) return {};
    const auto inputs = constantInputs(stage);
    constexpr int steps = 64;  // a formula need not be highest at an end
    Summary reached;
    for (int k = 0; k <= steps; ++k)
        reached.add(alone(*made.value(), inputs, in->low + (in->high - in->low) * k / steps));
    return reached.min < reached.max ? std::optional(Scale{reached.min, reached.max}) : std::nullopt;
}

double sensitivity(const Stage& stage, const std::string& unitBefore, double in) {
    auto made = makeProcessor(stage, unitBefore);
    if (!made) return std::numeric_limits<double>::quiet_NaN();
    const auto inputs = constantInputs(stage);
    // The cube root of the rounding error balances it against the curvature.
    const double step = std::max(std::fabs(in), 1.0) * 6e-6;
    const double below = in - step, above = in + step;
    return (alone(*made.value(), inputs, above) - alone(*made.value(), inputs, below)) / (above - below);
}

Sensitivities sensitivities(const Stage& stage, const std::string& unitBefore, double in,
                            const std::vector<double>& sources) {
    Sensitivities out;
    out.sources.assign(sources.size(), 0);
    auto made = makeProcessor(stage, unitBefore);
    if (!made) {
        out.in = std::numeric_limits<double>::quiet_NaN();
        return out;
    }
    std::vector<StageInput> inputs;
    for (const double v : sources) inputs.push_back({{}, v});
    const auto slope = [&](double& at) {
        const double was = at, step = std::max(std::fabs(was), 1.0) * 6e-6;
        at = was + step;
        const double above = alone(*made.value(), inputs, in), top = at;
        at = was - step;
        const double below = alone(*made.value(), inputs, in), bottom = at;
        at = was;
        return (above - below) / (top - bottom);
    };
    out.in = slope(in);
    for (std::size_t k = 0; k < inputs.size(); ++k) out.sources[k] = slope(inputs[k].constant);
    return out;
}

double delayOf(const Stage& stage, const std::string& unitBefore, double interval) {
    const double unknown = std::numeric_limits<double>::quiet_NaN();
    auto made = stage.kind().smooths && !stage.isOff() && interval > 0 ? makeProcessor(stage, unitBefore)
                                                                       : MadeProcessor(Error{});
    if (!made) return unknown;
    // A ramp comes out as the same ramp, later, once the beginning is forgotten.
    constexpr std::size_t part = 1000, most = 2'000'000;
    std::vector<double> values(part);
    std::vector<Instant> when(part);
    std::vector<QualityInterval> quality;
    const auto inputs = constantInputs(stage);
    double before = unknown;
    for (std::size_t first = 0; first < most; first += part) {
        for (std::size_t i = 0; i < part; ++i) {
            values[i] = static_cast<double>(first + i);
            when[i] = Instant{} + seconds(static_cast<double>(first + i) * interval);
        }
        const SampleTimes times{nullptr, &when};
        Stretch stretch{values, times, quality, inputs};
        made.value()->run(stretch);
        const double late = static_cast<double>(first + part - 1) - values.back();
        if (std::fabs(late - before) <= 1e-6 * std::max(1.0, std::fabs(late))) return late * interval;
        before = late;
    }
    return unknown;
}

std::vector<StageInput> constantInputs(const Stage& stage) {
    std::vector<StageInput> out;
    for (const WantedSource& wanted : sourcesOf(stage)) {
        const StageSource& source = *wanted.source;
        const auto in = convertUnit(source.unit.empty() ? wanted.unit : source.unit, wanted.unit);
        const bool known = in && source.signal.empty();
        out.push_back({{}, known ? source.constant * in->factor + in->offset : std::nan("")});
    }
    return out;
}

Stage withRange(Stage stage, const Scale& range) {
    for (std::size_t i = 0; i < stage.kind().fields.size(); ++i) {
        const auto follows = stage.kind().fields[i].follows;
        if (follows == StageField::Follows::nothing) continue;
        stage = stage.with(i, follows == StageField::Follows::rangeLow ? range.low : range.high);
    }
    return stage;
}

}  // namespace cruscotto
