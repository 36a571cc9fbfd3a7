#include "core/chain/chain.h"

#include <algorithm>
#include <limits>

#include "core/base/units.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {

constexpr double noReading = std::numeric_limits<double>::quiet_NaN();

}  // namespace

std::string rawUnit(ChannelKind kind) {
    switch (kind) {
        case ChannelKind::analogInput:
            return "{counts}";
        case ChannelKind::counterInput:
            return "{pulses}";
        case ChannelKind::analogOutput:
            return "V";
        case ChannelKind::digitalInput:
        case ChannelKind::digitalOutput:
        case ChannelKind::computed:
            break;
    }
    return "1";
}

std::string unitBefore(const ChainSpec& chain, std::size_t stage, ChannelKind kind) {
    std::string unit = rawUnit(kind);
    for (std::size_t i = 0; i < std::min(stage, chain.size()); ++i) unit = unitAfter(chain[i], unit);
    return unit;
}

std::string readingUnit(const ChainSpec& chain, ChannelKind kind) {
    return unitBefore(chain, chain.size(), kind);
}

Result<void> checkChain(const ChainSpec& chain, ChannelKind kind) {
    std::string unit = rawUnit(kind);
    for (const Stage& stage : chain) {
        if (auto checked = checkStage(stage, unit); !checked) return checked;
        unit = unitAfter(stage, unit);
    }
    return {};
}

bool readsState(const ChainSpec& chain, ChannelKind kind) {
    bool state = isDigital(kind);
    for (const Stage& stage : chain)
        if (!stage.isOff() && stage.kind().gives != StageKind::Gives::same)
            state = stage.kind().gives == StageKind::Gives::state;
    return state;
}

ChainSpec withStageInPlace(const ChainSpec& chain, const Stage& stage, ChannelKind kind) {
    const auto order = [](const Stage& s) {
        switch (s.kind().group) {
            case StageGroup::computation:
                return 0;
            case StageGroup::terminal:
                return 1;
            case StageGroup::filter:
                return s.kind().smooths ? 2 : 5;
            case StageGroup::sensor:
                return 3;
            case StageGroup::law:
                return 4;
            case StageGroup::event:
                return 6;
            case StageGroup::unit:
                break;
        }
        return 7;
    };
    std::size_t at = chain.size();
    while (at > 0 && order(chain[at - 1]) > order(stage)) --at;
    for (const std::size_t place : {at, chain.size()}) {
        ChainSpec out = chain;
        out.insert(out.begin() + static_cast<std::ptrdiff_t>(place), stage);
        if (checkChain(out, kind)) return out;
    }
    ChainSpec out = chain;
    out.push_back(stage);
    return out;
}

std::size_t rememberedSamples(const ChainSpec& chain) {
    std::size_t out = 0;
    for (const Stage& stage : chain) out += memoryOf(stage).held;
    return out;
}

bool remembers(const ChainSpec& chain) {
    return std::any_of(chain.begin(), chain.end(), [](const Stage& s) {
        const StageMemory memory = memoryOf(s);
        return memory.samples > 0 || memory.time.ns > 0;
    });
}

std::vector<NeededSignal> neededSignals(const ChainSpec& chain) {
    std::vector<NeededSignal> out;
    for (const Stage& stage : chain) std::ranges::move(neededSignals(stage), std::back_inserter(out));
    return out;
}

struct ChainEvaluator::State {
    struct Step {
        std::unique_ptr<StageProcessor> processor;
        std::vector<StageInput> inputs;
        struct Signal {
            std::size_t input;
            UnitConversion in;
            std::vector<double> converted;
        };
        std::vector<Signal> signals;  // those of the inputs that are signals
    };
    std::vector<Step> steps;
    std::vector<double> values;
    std::size_t memorySamples = 1;
    Duration memoryTime;
    bool silent = false;

    void run(const SampleTimes& times, Readings& out, Needed needed) {
        if (out.values.empty()) return;
        values[0] = out.values.back();
        if (silent) {
            out.quality.push_back({0, out.values.size(), Quality::outOfRange});
            std::ranges::fill(out.values, noReading);
        }
        std::size_t next = 0;
        for (std::size_t i = 0; i < steps.size(); ++i) {
            for (Step::Signal& s : steps[i].signals) {
                const bool given = next < needed.size() && needed[next].size() == out.values.size();
                s.converted.assign(out.values.size(), noReading);
                if (given)
                    std::ranges::transform(needed[next], s.converted.begin(),
                                           [&](double v) { return v * s.in.factor + s.in.offset; });
                steps[i].inputs[s.input].values = s.converted;
                ++next;
            }
            Stretch stretch{out.values, times, out.quality, steps[i].inputs};
            steps[i].processor->run(stretch);
            values[i + 1] = out.values.back();
        }
    }
};

ChainEvaluator::ChainEvaluator(std::unique_ptr<State> state) : state_(std::move(state)) {}
ChainEvaluator::ChainEvaluator(ChainEvaluator&&) noexcept = default;
ChainEvaluator& ChainEvaluator::operator=(ChainEvaluator&&) noexcept = default;
ChainEvaluator::~ChainEvaluator() = default;

Result<ChainEvaluator> ChainEvaluator::make(const ChainSpec& spec, ChannelKind kind,
                                            const std::vector<std::string>& neededUnits) {
    auto state = std::make_unique<State>();
    std::string unit = rawUnit(kind);
    std::size_t next = 0;
    for (const Stage& stage : spec) {
        auto processor = makeProcessor(stage, unit);
        if (!processor) return processor.error();
        State::Step step{std::move(processor.value()), constantInputs(stage), {}};
        std::size_t input = 0;
        for (const WantedSource& wanted : sourcesOf(stage)) {
            if (wanted.isSignal()) {
                const auto in = convertUnit(next < neededUnits.size() ? neededUnits[next] : wanted.unit, wanted.unit);
                if (!in)
                    return failure("{0}: {1} is wanted in {2}, and {3} reads in {4}.", stage.kind().title.english(),
                                   stage.kind().fields[wanted.field].title.english(), unitText(wanted.unit),
                                   wanted.source->signal, unitText(neededUnits[next]));
                step.signals.push_back({input, *in, {}});
                ++next;
            }
            ++input;
        }
        state->steps.push_back(std::move(step));
        unit = unitAfter(stage, unit);
        const StageMemory memory = memoryOf(stage);
        state->memorySamples += memory.samples;
        state->memoryTime = std::max(state->memoryTime, memory.time);
    }
    state->values.assign(spec.size() + 1, noReading);
    return ChainEvaluator(std::move(state));
}

ChainEvaluator ChainEvaluator::nothing(std::size_t stages) {
    auto state = std::make_unique<State>();
    state->values.assign(stages + 1, noReading);
    state->silent = true;
    return ChainEvaluator(std::move(state));
}

void ChainEvaluator::process(const Block& block, std::size_t column, Readings& out, Needed needed) {
    if (block.gapBefore) reset();
    out.values.clear();
    out.quality.clear();
    appendAsDouble(block.columns[column], out.values);
    if (column < block.quality.size()) out.quality = block.quality[column];
    state_->run(SampleTimes{&block, nullptr}, out, needed);
}

void ChainEvaluator::process(const std::vector<double>& raw, const std::vector<Instant>& times, Readings& out,
                             Needed needed) {
    out.values = raw;
    out.quality.clear();
    state_->run(SampleTimes{nullptr, &times}, out, needed);
}

const std::vector<double>& ChainEvaluator::stageValues() const {
    return state_->values;
}
std::size_t ChainEvaluator::memorySamples() const {
    return state_->memorySamples;
}
Duration ChainEvaluator::memoryTime() const {
    return state_->memoryTime;
}

void ChainEvaluator::reset() {
    for (auto& step : state_->steps) step.processor->reset();
}

}  // namespace cruscotto
