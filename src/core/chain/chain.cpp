#include "core/chain/chain.h"

#include <muParser.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <deque>
#include <limits>
#include <span>
#include <unordered_map>

#include "core/base/overload.h"
#include "core/base/units.h"
#include "core/signal/pyramid.h"

namespace cruscotto {

namespace {

constexpr double noValue = std::numeric_limits<double>::quiet_NaN();
constexpr std::size_t longestFormula = 1000;

struct Times {
    const Block* block = nullptr;
    const std::vector<Instant>* list = nullptr;
    [[nodiscard]] Instant operator[](std::size_t i) const { return block ? block->timeOf(i) : (*list)[i]; }
};

/// Marks single samples and joins neighbours of the same quality.
class QualityMarker {
public:
    explicit QualityMarker(std::vector<QualityInterval>& out) : out_(out) {}
    void mark(std::size_t i, Quality q) {
        if (open_ && out_.back().end == i && out_.back().quality == q) {
            out_.back().end = i + 1;
        } else {
            out_.push_back({i, i + 1, q});
            open_ = true;
        }
    }

private:
    std::vector<QualityInterval>& out_;
    bool open_ = false;
};

Result<std::unique_ptr<mu::Parser>> parseFormula(const Formula& formula, double* x) {
    if (formula.text.size() > longestFormula)
        return failure("The formula is longer than {0} characters. Split it or use a shorter one.", longestFormula);
    try {
        auto parser = std::make_unique<mu::Parser>();
        parser->DefineVar("x", x);
        parser->SetExpr(formula.text);
        *x = 1;
        parser->Eval();
        return parser;
    } catch (const mu::ParserError& e) {
        return failure("The formula does not read: {0} Use x for the incoming value, as in 2.5*x+1.", e.GetMsg());
    }
}

// One small machine a stage. run() takes the values of a stretch from one stage to the next, in place.

struct Machine {
    virtual ~Machine() = default;
    virtual void run(std::vector<double>& v, const Times& t, std::vector<QualityInterval>& q) = 0;
    virtual void reset() {}
};

struct LineMachine : Machine {
    double slope, offset;
    LineMachine(double s, double o) : slope(s), offset(o) {}
    void run(std::vector<double>& v, const Times&, std::vector<QualityInterval>&) override {
        for (double& x : v) x = slope * x + offset;
    }
};

struct CountsMachine : Machine {
    double scale, base, lowest, highest;
    explicit CountsMachine(const CountsToVolts& s) {
        const double levels = std::ldexp(1.0, s.bits);
        const bool twos = s.coding == CountsToVolts::Coding::twosComplement;
        scale = (s.high - s.low) / levels;
        base = twos ? (s.low + s.high) / 2 : s.low;
        lowest = twos ? -levels / 2 : 0;
        highest = twos ? levels / 2 - 1 : levels - 1;
    }
    void run(std::vector<double>& v, const Times&, std::vector<QualityInterval>& q) override {
        // Clipping is rare: first it is seen whether there is any at all.
        unsigned clipped = 0;
        for (const double x : v) clipped |= static_cast<unsigned>(x <= lowest) | static_cast<unsigned>(x >= highest);
        if (clipped) {
            QualityMarker marker(q);
            for (std::size_t i = 0; i < v.size(); ++i)
                if (v[i] <= lowest || v[i] >= highest) marker.mark(i, Quality::clipped);
        }
        for (double& x : v) x = base + x * scale;
    }
};

struct MeanMachine : Machine {
    std::vector<double> ring;
    std::size_t next = 0, filled = 0, finite = 0;
    double sum = 0;
    explicit MeanMachine(int n) : ring(static_cast<std::size_t>(n)) {}
    void run(std::vector<double>& v, const Times& t, std::vector<QualityInterval>&) override {
        if (filled == 0 && t.block) next = t.block->firstIndex % ring.size();
        for (std::size_t i = 0; i < v.size();) {
            if (next == 0 && filled == ring.size()) {
                // Taken anew once a round, so that rounding cannot add up over days; and at the same samples however
                // the stream is cut into blocks and wherever it begins, so that a recording, or a part of one, gives
                // the same readings as the live bench did.
                sum = 0;
                for (const double old : ring) sum += std::isfinite(old) ? old : 0;
            }
            const std::size_t part = std::min(v.size() - i, ring.size() - next);
            const std::span<double> now = std::span(v).subspan(i, part);
            if (filled == ring.size() && finite == filled && allFinite(now)) {
                const auto n = static_cast<double>(filled);
                double s = sum;
                double* old = ring.data() + next;
                for (std::size_t k = 0; k < part; ++k) {
                    s += now[k] - old[k];
                    old[k] = now[k];
                    now[k] = s / n;
                }
                sum = s;
                next = next + part == ring.size() ? 0 : next + part;
            } else {
                for (double& x : now) one(x);
            }
            i += part;
        }
    }
    static bool allFinite(std::span<const double> v) {
        std::array<double, 4> zero{};  // side by side, so that no addition waits for the one before it
        std::size_t i = 0;
        for (; i + 4 <= v.size(); i += 4)
            for (std::size_t l = 0; l < 4; ++l) zero[l] += v[i + l] * 0;
        for (; i < v.size(); ++i) zero[0] += v[i] * 0;
        return zero[0] + zero[1] + zero[2] + zero[3] == 0;
    }
    void one(double& x) {
        double change = 0;
        if (filled == ring.size()) {
            if (std::isfinite(ring[next])) change = -ring[next], --finite;
        } else {
            ++filled;
        }
        ring[next] = x;
        if (std::isfinite(x)) change += x, ++finite;
        sum += change;
        next = next + 1 == ring.size() ? 0 : next + 1;
        x = finite ? sum / static_cast<double>(finite) : noValue;
    }
    void reset() override {
        next = filled = finite = 0;
        sum = 0;
    }
};

struct FormulaMachine : Machine {
    std::unique_ptr<double> x = std::make_unique<double>(0);
    std::unique_ptr<mu::Parser> parser;
    void run(std::vector<double>& v, const Times&, std::vector<QualityInterval>& q) override {
        QualityMarker marker(q);
        for (std::size_t i = 0; i < v.size(); ++i) {
            double y = noValue;
            if (std::isfinite(v[i])) {
                *x = v[i];
                try {
                    y = parser->Eval();
                } catch (const mu::ParserError&) {
                    y = noValue;
                }
                if (!std::isfinite(y)) y = noValue, marker.mark(i, Quality::outOfRange);
            }
            v[i] = y;
        }
    }
};

struct RangeMachine : Machine {
    double low, high;
    RangeMachine(double l, double h) : low(l), high(h) {}
    void run(std::vector<double>& v, const Times&, std::vector<QualityInterval>& q) override {
        if (const Summary s = summarise(v); !(s.min < low || s.max > high)) return;
        QualityMarker marker(q);
        for (std::size_t i = 0; i < v.size(); ++i)
            if (v[i] < low || v[i] > high) marker.mark(i, Quality::outOfRange);
    }
};

struct InvertMachine : Machine {
    void run(std::vector<double>& v, const Times&, std::vector<QualityInterval>&) override {
        for (double& x : v) x = x == 0 ? 1 : 0;
    }
};

struct CounterMachine : Machine {
    struct Edge {
        std::int64_t ns;
        std::uint64_t count;
    };
    PulseCounter spec;
    std::deque<Edge> edges;
    std::optional<std::uint32_t> last;
    std::uint64_t total = 0;
    std::int64_t quietSince = 0, before = 0;
    static constexpr std::int64_t fewestSamples = 10;
    static constexpr std::size_t mostEdges = 100'000;
    explicit CounterMachine(const PulseCounter& s) : spec(s) {}

    /// Sums over the edges, counted from the first of them, which therefore adds nothing. Whole numbers: however long
    /// edges come and go, nothing is rounded.
    struct Sums {
        using Whole = unsigned __int128;
        Whole time = 0, pulses = 0, both = 0, squares = 0;
        void add(Whole t, Whole p) {
            both += t * p;
            squares += t * t;
            time += t;
            pulses += p;
        }
        /// As counted from a moment later by `t` nanoseconds and `p` pulses, for `n` edges.
        void countFrom(Whole t, Whole p, Whole n) {
            both += n * t * p - t * pulses - p * time;
            squares += n * t * t - 2 * t * time;
            time -= n * t;
            pulses -= n * p;
        }
    };
    Sums sums;

    void takeEdge(const Edge& e) {
        edges.push_back(e);
        sums.add(static_cast<Sums::Whole>(e.ns - edges.front().ns), e.count - edges.front().count);
    }
    void dropFirstEdge() {
        const Edge first = edges.front();
        edges.pop_front();
        sums.countFrom(static_cast<Sums::Whole>(edges.front().ns - first.ns), edges.front().count - first.count,
                       edges.size());
    }
    void forgetEdges() {
        edges.clear();
        sums = {};
    }

    /// Pulses a second by the least-squares line through the edges: their times are only known to one sample, and a
    /// line through all of them averages that out, where the first and the last alone would not.
    double slopeOfEdges() const {
        const auto number = [](Sums::Whole sum) { return static_cast<double>(static_cast<__int128>(sum)); };
        const auto n = static_cast<double>(edges.size());
        const double time = number(sums.time);
        return 1e9 * (n * number(sums.both) - time * number(sums.pulses)) / (n * number(sums.squares) - time * time);
    }

    void run(std::vector<double>& v, const Times& t, std::vector<QualityInterval>&) override {
        const std::int64_t silence = seconds(spec.silenceSeconds).ns;
        const std::int64_t gate = seconds(spec.gateSeconds).ns;
        const double perSecond = spec.mode == PulseCounter::Mode::rpm ? 60.0 / spec.pulsesPerTurn : 1.0;
        for (std::size_t i = 0; i < v.size(); ++i) {
            const std::int64_t now = t[i].ns;
            // Anything but a whole number of 32 bits cannot come from a counter; the sample is passed over.
            const bool whole = v[i] >= 0 && v[i] <= 4294967295.0;
            const std::uint32_t raw = whole ? static_cast<std::uint32_t>(v[i]) : last.value_or(0);
            if (!last) {
                last = raw;
                quietSince = now;
            }
            if (const std::uint32_t pulses = raw - *last) {
                total += pulses;
                last = raw;
                if (now - quietSince > silence) forgetEdges();  // the first edge after a silence has no partner
                takeEdge({now, total});
                quietSince = now;
                while (edges.size() > 2 && (now - edges[1].ns >= gate || edges.size() > mostEdges)) dropFirstEdge();
            }
            if (spec.mode == PulseCounter::Mode::count) {
                v[i] = static_cast<double>(total);
                continue;
            }
            const std::int64_t quiet = now - quietSince;
            // A time that is known to one sample says little about a span of a few of them.
            const std::int64_t enough = std::min(gate, fewestSamples * (now - std::exchange(before, now)));
            if (quiet > silence) {
                forgetEdges();
                v[i] = 0;
            } else if (edges.size() < 2 || edges.back().ns - edges.front().ns < enough) {
                v[i] = reading == 0 ? 0 : noValue;  // one edge alone tells no speed
            } else {
                double hz = slopeOfEdges();
                // No edge since then: it cannot be faster than one pulse in that time.
                if (quiet > 0) hz = std::min(hz, 1e9 / static_cast<double>(quiet));
                v[i] = hz * perSecond;
            }
            reading = v[i];
        }
    }
    void reset() override {
        forgetEdges();
        last.reset();
        reading = noValue;
    }
    double reading = noValue;
};

struct PassMachine : Machine {
    void run(std::vector<double>&, const Times&, std::vector<QualityInterval>&) override {}
};

Result<std::unique_ptr<Machine>> makeMachine(const Stage& stage, const std::string& unitBefore) {
    using Made = std::unique_ptr<Machine>;
    if (auto checked = checkStage(stage, unitBefore); !checked) return checked.error();
    return std::visit(Overload{
                          [](const CountsToVolts& s) -> Result<Made> { return Made(new CountsMachine(s)); },
                          [](const SlopeOffset& s) -> Result<Made> { return Made(new LineMachine(s.slope, s.offset)); },
                          [](const TwoPoints& s) -> Result<Made> {
                              const double slope = (s.y2 - s.y1) / (s.x2 - s.x1);
                              return Made(new LineMachine(slope, s.y1 - slope * s.x1));
                          },
                          [](const Formula& s) -> Result<Made> {
                              auto machine = std::make_unique<FormulaMachine>();
                              auto parser = parseFormula(s, machine->x.get());
                              if (!parser) return parser.error();
                              machine->parser = std::move(parser.value());
                              return Made(std::move(machine));
                          },
                          [](const MovingMean& s) -> Result<Made> { return Made(new MeanMachine(s.samples)); },
                          [&](const ConvertUnit& s) -> Result<Made> {
                              const auto c = convertUnit(unitBefore, s.unit);
                              return Made(new LineMachine(c->factor, c->offset));
                          },
                          [](const ValidRange& s) -> Result<Made> { return Made(new RangeMachine(s.low, s.high)); },
                          [](const Invert&) -> Result<Made> { return Made(new InvertMachine); },
                          [](const PulseCounter& s) -> Result<Made> { return Made(new CounterMachine(s)); },
                      },
                      stage);
}

}  // namespace

Result<void> checkStage(const Stage& stage, const std::string& unitBefore) {
    const auto finite = [](std::initializer_list<double> values) {
        return std::all_of(values.begin(), values.end(), [](double v) { return std::isfinite(v); });
    };
    return std::visit(
        Overload{
            [&](const CountsToVolts& s) -> Result<void> {
                if (s.bits < 1 || s.bits > 32) return failure("The number of bits must be 1 to 32, not {0}.", s.bits);
                if (!finite({s.low, s.high}) || s.low >= s.high)
                    return failure("The range must begin below where it ends; {0} to {1} V does not.", s.low, s.high);
                return {};
            },
            [&](const SlopeOffset& s) -> Result<void> {
                if (!finite({s.slope, s.offset})) return failure("Slope and offset must be finite numbers.");
                return {};
            },
            [&](const TwoPoints& s) -> Result<void> {
                if (!finite({s.x1, s.y1, s.x2, s.y2})) return failure("Both points must be finite numbers.");
                if (s.x1 == s.x2)
                    return failure("Both points stand at {0}: move the signal before the second one is captured.",
                                   s.x1);
                return {};
            },
            [&](const Formula& s) -> Result<void> {
                double x = 0;
                auto parsed = parseFormula(s, &x);
                if (!parsed) return parsed.error();
                return {};
            },
            [&](const MovingMean& s) -> Result<void> {
                if (s.samples < 1 || s.samples > 1'000'000)
                    return failure("A moving mean takes 1 to 1000000 samples, not {0}.", s.samples);
                return {};
            },
            [&](const ConvertUnit& s) -> Result<void> {
                if (!convertUnit(unitBefore, s.unit))
                    return failure("{0} cannot be said in {1}: they measure different things.", unitText(unitBefore),
                                   unitText(s.unit));
                return {};
            },
            [&](const ValidRange& s) -> Result<void> {
                if (!finite({s.low, s.high}) || s.low >= s.high)
                    return failure("The valid range must begin below where it ends; {0} to {1} does not.", s.low,
                                   s.high);
                return {};
            },
            [](const Invert&) -> Result<void> { return {}; },
            [&](const PulseCounter& s) -> Result<void> {
                if (!finite({s.pulsesPerTurn}) || s.pulsesPerTurn <= 0)
                    return failure("Pulses per turn must be more than 0, not {0}.", s.pulsesPerTurn);
                if (!finite({s.silenceSeconds, s.gateSeconds}) || s.silenceSeconds <= 0 || s.silenceSeconds > 1e6 ||
                    s.gateSeconds < 0 || s.gateSeconds > 1e4)
                    return failure("The silence must be more than 0 s and the gate 0 s or more.");
                return {};
            },
        },
        stage);
}

std::size_t rememberedSamples(const ChainSpec& chain) {
    std::size_t out = 0;
    for (const Stage& stage : chain)
        if (const auto* mean = std::get_if<MovingMean>(&stage)) out += static_cast<std::size_t>(mean->samples);
    return out;
}

struct ChainEvaluator::State {
    std::vector<std::unique_ptr<Machine>> machines;
    std::vector<double> values;
    std::size_t memorySamples = 1;
    Duration memoryTime;
    bool silent = false;

    void run(const Times& times, Readings& out) {
        if (out.values.empty()) return;
        values[0] = out.values.back();
        if (silent) {
            out.quality.push_back({0, out.values.size(), Quality::outOfRange});
            std::ranges::fill(out.values, noValue);
        }
        for (std::size_t i = 0; i < machines.size(); ++i) {
            machines[i]->run(out.values, times, out.quality);
            values[i + 1] = out.values.back();
        }
    }
};

ChainEvaluator::ChainEvaluator(std::unique_ptr<State> state) : state_(std::move(state)) {}
ChainEvaluator::ChainEvaluator(ChainEvaluator&&) noexcept = default;
ChainEvaluator& ChainEvaluator::operator=(ChainEvaluator&&) noexcept = default;
ChainEvaluator::~ChainEvaluator() = default;

Result<ChainEvaluator> ChainEvaluator::make(const ChainSpec& spec, ChannelKind kind) {
    auto state = std::make_unique<State>();
    std::string unit = rawUnit(kind);
    for (const Stage& stage : spec) {
        auto machine = makeMachine(stage, unit);
        if (!machine) return machine.error();
        state->machines.push_back(std::move(machine.value()));
        unit = unitAfter(stage, unit);
        if (const auto* mean = std::get_if<MovingMean>(&stage))
            state->memorySamples += 2 * static_cast<std::size_t>(mean->samples);  // one round more, for its rounding
        if (const auto* counter = std::get_if<PulseCounter>(&stage))
            state->memoryTime = counter->mode == PulseCounter::Mode::count
                                    ? Duration{std::numeric_limits<std::int64_t>::max() / 4}
                                    : seconds(counter->silenceSeconds * 2 + counter->gateSeconds);
    }
    state->values.assign(spec.size() + 1, noValue);
    return ChainEvaluator(std::move(state));
}

ChainEvaluator ChainEvaluator::nothing(std::size_t stages) {
    auto state = std::make_unique<State>();
    state->values.assign(stages + 1, noValue);
    state->silent = true;
    return ChainEvaluator(std::move(state));
}

void ChainEvaluator::process(const Block& block, std::size_t column, Readings& out) {
    if (block.gapBefore) reset();
    out.values.clear();
    out.quality.clear();
    appendAsDouble(block.columns[column], out.values);
    if (column < block.quality.size()) out.quality = block.quality[column];
    state_->run(Times{&block, nullptr}, out);
}

void ChainEvaluator::process(const std::vector<double>& raw, const std::vector<Instant>& times, Readings& out) {
    out.values = raw;
    out.quality.clear();
    state_->run(Times{nullptr, &times}, out);
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
    for (auto& machine : state_->machines) machine->reset();
}

}  // namespace cruscotto
