#include "core/bench/uncertainty.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "core/analysis/steadiness.h"
#include "core/analysis/straight_line.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/chain.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {

constexpr int deepestBudget = 32;
/// How an error goes with what is measured is looked up at so many moments before, spread over so long, or over so many
/// samples where that is longer.
constexpr int momentsBefore = 6;
constexpr Duration lookBack = milliseconds(10'000);
constexpr int samplesBack = 30;
/// Over more readings than these no stage is evaluated once more.
constexpr std::size_t mostReevaluated = 20'000;

/// A reading as a sum of independent errors, each with the slope to it.
struct LinearForm {
    struct Term {
        Text source;
        std::string signal;
        double amount = 0;
        double degreesOfFreedom = 0;
        bool claimed = false;
        bool each = false;                    ///< a new one with every sample
        std::optional<Duration> common = {};  ///< of noise: for so long it is one and the same
    };
    std::map<std::string, Term> terms;  // by what they are: equal keys are one error
    double value = std::nan("");
    std::string unit;
    std::vector<double> behind;

    void scale(double by) {
        for (auto& [key, term] : terms) term.amount *= by;
    }
    void add(const std::string& key, const Term& term) {
        const auto [it, fresh] = terms.try_emplace(key, term);
        if (!fresh) it->second.amount += term.amount;
    }
    void add(const LinearForm& other, double by) {
        for (const auto& [key, term] : other.terms) {
            Term scaled = term;
            scaled.amount *= by;
            add(key, scaled);
        }
    }
    [[nodiscard]] double standard() const {
        double squares = 0;
        for (const auto& [key, term] : terms) squares += term.amount * term.amount;
        return std::sqrt(squares);
    }
};

class Propagation {
public:
    Propagation(const Bench& bench, const MeasuredMoment& moment, Duration before = {})
        : bench_(bench), moment_(moment), before_(before) {}

    Result<LinearForm> of(const std::string& id, int depth) {
        if (const auto known = done_.find(id); known != done_.end()) return known->second;
        const SignalSpec* s = bench_.signal(id);
        if (!s) return failure("There is no signal \"{0}\".", id);
        if (depth > deepestBudget) return failure("{0} needs itself.", s->name);
        if (isOutput(s->kind)) {
            const std::vector<double> values = valuesOf(id);
            LinearForm form;
            form.value = values.empty() ? std::nan("") : values.back();
            form.unit = s->unit();
            missing.push_back(text(CRUSCOTTO_TEXT("{0} is an output, and taken as exact."), s->name));
            return form;
        }
        auto made = behind(*s, s->chain.size(), depth);
        if (!made) return made.error();
        LinearForm form = std::move(made.value());
        form.unit = readingUnit(s->chain, s->kind);
        if (s->computed) form.unit = s->unit().empty() ? form.unit : s->unit();
        // What it wanders by: a computed one's comes with its inputs.
        if (!s->computed && moment_.noise)
            if (const auto noise = moment_.noise(id); noise.deviation > 0)
                form.add("noise " + id, {.source = CRUSCOTTO_TEXT("its noise"),
                                         .signal = s->name,
                                         .amount = noise.deviation,
                                         .degreesOfFreedom = std::numeric_limits<double>::infinity(),
                                         .common = noise.common});
        if (!form.behind.empty()) form.behind.back() = form.standard();
        done_.emplace(id, form);
        return form;
    }
    std::vector<Text> missing;
    std::size_t wentOver = 0;

private:
    [[nodiscard]] std::vector<double> valuesOf(const std::string& id) const {
        return before_.ns == 0 ? moment_.stages(id) : moment_.stagesBefore(id, before_);
    }

    /// What is behind so many stages of its chain; without its noise.
    Result<LinearForm> behind(const SignalSpec& s, std::size_t stages, int depth) {
        const std::vector<double> values = valuesOf(s.id);
        if (values.size() != s.chain.size() + 1 || std::isnan(values[stages]))
            return failure("{0} has no reading then.", s.name);
        LinearForm form;
        form.behind.push_back(0);
        for (std::size_t i = 0; i < stages; ++i)
            if (auto done = stage(s, i, values, form, depth); !done) return done.error();
        form.value = values[stages];
        return form;
    }

    /// What comes into a stage of the signal, so long before: what is behind the stage before it, or, of a computation
    /// of one signal, that signal in the unit that is wanted.
    struct Entering {
        const SignalSpec& s;
        std::size_t stage;
        const WantedSource* source;  // of a computation
        double factor, offset;       // to the unit that it wants
    };
    std::optional<LinearForm> entering(const Entering& in, Duration earlier, int depth) {
        Propagation then(bench_, moment_, before_ + earlier);
        auto made = in.source ? then.of(in.source->source->signal, depth + 1) : then.behind(in.s, in.stage, depth);
        wentOver += then.wentOver;
        if (!made) return {};
        if (in.source) {
            made.value().scale(in.factor);
            made.value().value = made.value().value * in.factor + in.offset;
        }
        return std::move(made.value());
    }

    /// What came in at this moment and at some before it, with what it was off by.
    struct Moments {
        std::vector<double> at;
        std::vector<LinearForm> errors;
        /// How far an error goes with what is measured (as one of an amplification does) and how far it stays. What
        /// a maker says of the reading says nothing of its sign: it goes with the size of what is measured then.
        [[nodiscard]] StraightLine lineOf(const std::string& key) const {
            std::vector<double> amounts, sizes;
            for (const LinearForm& e : errors) {
                const auto then = e.terms.find(key);
                amounts.push_back(then == e.terms.end() ? 0 : then->second.amount);
            }
            for (const double v : at) sizes.push_back(std::fabs(v));
            const StraightLine signedOne = straightLine(at, amounts), ofSize = straightLine(sizes, amounts);
            return ofSize.rest < signedOne.rest ? ofSize : signedOne;
        }
    };
    Moments momentsOf(const Entering& in, const LinearForm& form, double value, Duration interval, int depth) {
        Moments out{{value}, {form}};
        if (!moment_.stagesBefore) return out;
        const Duration over =
            std::min(std::max(lookBack, Duration{interval.ns * samplesBack}), moment_.running - before_);
        for (int k = 1; k <= momentsBefore && over.ns > 0; ++k)
            if (auto then = entering(in, Duration{over.ns * k / momentsBefore}, depth)) {
                out.at.push_back(then->value);
                out.errors.push_back(std::move(*then));
            }
        return out;
    }

    /// Each error of what comes in becomes what the stage makes of it.
    void carry(const CarriedError& carried, const Entering& in, LinearForm& form, double value, Duration interval,
               int depth) {
        const Moments moments =
            carried.gain != 0 ? momentsOf(in, form, value, interval, depth) : Moments{{value}, {form}};
        for (auto& [key, term] : form.terms) {
            if (term.common) {
                // What was averaged stays as it is for as long as that took.
                const Duration common = std::max(*term.common, carried.averaged);
                term.amount *=
                    carried.noise * (common.ns > 0 ? std::sqrt(term.common->seconds() / common.seconds()) : 1);
                term.common = common;
                continue;
            }
            if (term.each) {
                term.amount *= carried.each;
                continue;
            }
            const StraightLine line = moments.lineOf(key);
            term.amount = carried.offset * line.at(0) + carried.gain * line.slope;
        }
    }

    /// One of what a stage goes over: readings, or a constant, in the unit that the stage wants; and how they err.
    struct Column {
        MeasuredMoment::Series readings;
        std::vector<double> values;  // of the first one's times
        double constant = 0;
        Moments errors;
    };
    std::optional<Column> columnOf(const Entering& in, const LinearForm& form, double value, Duration over, int depth) {
        const std::string& id = in.source ? in.source->source->signal : in.s.id;
        const SignalSpec* s = bench_.signal(id);
        if (!s) return {};
        Column out;
        out.readings = moment_.series(id, in.source ? s->chain.size() : in.stage, before_, over, mostReevaluated + 1);
        if (out.readings.values.empty() || out.readings.values.size() > mostReevaluated) return {};
        for (double& v : out.readings.values) v = v * in.factor + in.offset;
        const Duration interval = moment_.interval ? moment_.interval(id) : Duration{};
        out.errors = momentsOf(in, form, value, interval, depth);
        return out;
    }
    /// What comes out of the stage at the end, `by` times this error added to all that it goes over; NaN: nothing.
    double outcome(StageProcessor& processor, const std::vector<Column>& columns, bool computes, const std::string& key,
                   double by) {
        processor.reset();
        std::vector<std::vector<double>> with;
        for (const Column& c : columns) {
            std::vector<double>& v = with.emplace_back(c.values);
            if (v.empty() || by == 0) continue;
            const StraightLine error = c.errors.lineOf(key);
            for (double& x : v) x += by * error.at(x);
        }
        const std::vector<Instant>& times = columns.front().readings.times;
        const SampleTimes when{nullptr, &times};
        std::vector<double> values = computes ? std::vector<double>(times.size(), std::nan("")) : with.front();
        std::vector<StageInput> inputs;
        for (std::size_t k = computes ? 0 : 1; k < columns.size(); ++k)
            inputs.push_back({with[k], columns[k].constant});
        std::vector<QualityInterval> quality;
        Stretch stretch{values, when, quality, inputs};
        processor.run(stretch);
        wentOver += times.size();
        return values.back();
    }
    /// Each error becomes what the stage makes of it, going over its readings with it and without it (a central
    /// difference of all that it looks back at), or nothing, where what stays and what is in proportion falls out. What
    /// wanders is in the scatter of what is measured. False: the readings are not known, or there are too many of them.
    bool reevaluate(const SignalSpec& s, std::size_t i, const std::string& unitBefore, std::vector<Column> columns,
                    bool fallsOut, LinearForm& form) {
        const Stage& stage = s.chain[i];
        auto made = makeProcessor(stage, unitBefore);
        if (!made || columns.empty() || columns.front().readings.values.empty()) return false;
        for (Column& c : columns) {
            const auto& [values, times] = c.readings;
            for (std::size_t k = 0; const Instant t : columns.front().readings.times) {
                if (values.empty()) break;
                while (k + 1 < times.size() && times[k + 1] <= t) ++k;
                c.values.push_back(values[k]);
            }
        }
        const bool computes = s.computed && i == 0;
        StageProcessor& processor = *made.value();
        if (!std::isfinite(outcome(processor, columns, computes, {}, 0))) return false;
        const std::optional<double> scatter = processor.scatter();
        bool wandered = false;
        for (auto it = form.terms.begin(); it != form.terms.end();) {
            LinearForm::Term& term = it->second;
            if (term.common || term.each) {
                wandered = wandered || term.amount != 0;
                it = form.terms.erase(it);
                continue;
            }
            if (fallsOut) {
                term.amount = 0;
                ++it;
                continue;
            }
            const double more = outcome(processor, columns, computes, it->first, 1);
            const double less = outcome(processor, columns, computes, it->first, -1);
            if (!std::isfinite(more) || !std::isfinite(less)) return false;
            term.amount = (more - less) / 2;
            ++it;
        }
        if (scatter)
            form.add(fmt::format("{}/{}/scatter", s.id, i),
                     {.source = CRUSCOTTO_TEXT("the scatter of what is measured"),
                      .signal = s.name,
                      .amount = *scatter,
                      .degreesOfFreedom = std::numeric_limits<double>::infinity()});
        else if (wandered)
            missing.push_back(text(CRUSCOTTO_TEXT("What noise and the converter's steps make of “{0}” of {1} cannot be "
                                                  "told."),
                                   stage.kind().title.english(), s.name));
        return true;
    }

    Result<void> stage(const SignalSpec& s, std::size_t i, const std::vector<double>& values, LinearForm& form,
                       int depth) {
        const Stage& stage = s.chain[i];
        if (stage.isOff()) {
            form.behind.push_back(form.standard());
            return {};
        }
        const std::string before = unitBefore(s.chain, i, s.kind);
        std::vector<double> sources;
        struct Needed {
            LinearForm form;
            double factor = 0, offset = 0;  // to the unit that is wanted
        };
        std::vector<Needed> needed;
        for (const WantedSource& wanted : sourcesOf(stage)) {
            if (!wanted.isSignal()) {
                const auto in =
                    convertUnit(wanted.source->unit.empty() ? wanted.unit : wanted.source->unit, wanted.unit);
                sources.push_back(in ? wanted.source->constant * in->factor + in->offset : wanted.source->constant);
                needed.emplace_back();
                continue;
            }
            auto other = of(wanted.source->signal, depth + 1);
            if (!other) return other.error();
            const auto in = convertUnit(other.value().unit, wanted.unit);
            const double factor = in ? in->factor : 1, offset = in ? in->offset : 0;
            sources.push_back(other.value().value * factor + offset);
            needed.push_back({std::move(other.value()), factor, offset});
        }
        // A filter lets what stands still through; of what it makes of a change nothing is said here.
        const StageMemory memory = memoryOf(stage);
        const StageKind& kind = stage.kind();
        const bool filter = kind.smooths;
        const bool alone = memory.samples == 0 && memory.time.ns == 0;
        // Behind a filter that smooths, a step is one with those beside it; what is left of them is in the noise.
        if (filter)
            for (auto& [key, term] : form.terms) term.each = false;
        if (!filter && !alone) {
            const auto wanted = sourcesOf(stage);
            const bool computes = s.computed && i == 0;
            const bool ofOne = computes && wanted.size() == 1 && wanted[0].isSignal();
            const Entering in = ofOne ? Entering{s, i, wanted.data(), needed[0].factor, needed[0].offset}
                                      : Entering{s, i, nullptr, 1, 0};
            const std::string measured = ofOne ? wanted[0].source->signal : s.id;
            const double value = ofOne ? sources[0] : values[i];
            if (computes)
                for (const Needed& n : needed) form.add(n.form, n.factor);
            const Duration interval = moment_.interval ? moment_.interval(measured) : Duration{};
            StageMoment moment{values[i + 1], value, moment_.running - before_, interval};
            if (moment_.mean && before_.ns == 0)
                if (const double mean = moment_.mean(s.id, i, lookBack); std::isfinite(mean)) moment.mean = mean;
            const auto carried = kind.carries ? kind.carries(stage, before, moment) : std::nullopt;
            const auto reevaluated = [&] {
                if (!moment_.series || memory.time >= wholePast || kind.gives == StageKind::Gives::state) return false;
                const Duration over = std::min(
                    std::max(memory.time, Duration{interval.ns * static_cast<std::int64_t>(memory.samples)}) + interval,
                    moment_.running - before_);
                std::vector<Column> columns;
                const auto add = [&](const Entering& from, LinearForm errors, double now) {
                    auto column = columnOf(from, errors, now, over, depth);
                    if (column) columns.push_back(std::move(*column));
                    return column.has_value();
                };
                if (!computes && !add(in, form, value)) return false;
                for (std::size_t k = 0; k < wanted.size(); ++k) {
                    if (!wanted[k].isSignal()) {
                        columns.emplace_back().constant = sources[k];
                        continue;
                    }
                    LinearForm errors = needed[k].form;
                    errors.scale(needed[k].factor);
                    if (!add({s, i, &wanted[k], needed[k].factor, needed[k].offset}, std::move(errors), sources[k]))
                        return false;
                }
                const bool fallsOut = carried && carried->offset == 0 && carried->gain == 0;
                return reevaluate(s, i, before, std::move(columns), fallsOut, form);
            };
            if (carried && (!computes || ofOne)) {
                carry(*carried, in, form, value, interval, depth);
            } else if (!form.terms.empty() && !reevaluated()) {
                missing.push_back(
                    text(CRUSCOTTO_TEXT("What comes behind “{0}” of {1} depends on more than a moment: what is "
                                        "before it is not carried on."),
                         kind.title.english(), s.name));
                form.terms.clear();
            }
            if (kind.ownErrors) {
                std::size_t n = 0;
                for (UncertaintyContribution& c : kind.ownErrors(stage, moment))
                    form.add(fmt::format("{}/{}/own {}", s.id, i, n++),
                             {std::move(c.source), s.name, c.standardUncertainty, c.degreesOfFreedom});
            }
        } else if (!filter) {
            // A computation takes nothing but its sources.
            const double in = s.computed && i == 0 ? 0 : values[i];
            const Sensitivities slopes = sensitivities(stage, before, in, sources);
            if (!std::isfinite(slopes.in))
                return failure("How {0} answers to what comes in cannot be told at “{1}”.", s.name,
                               stage.kind().title.english());
            form.scale(slopes.in);
            for (std::size_t k = 0; k < needed.size(); ++k)
                if (std::isfinite(slopes.sources[k])) form.add(needed[k].form, slopes.sources[k] * needed[k].factor);
        }
        if (stage.kind().contributions) {
            std::size_t n = 0;
            for (UncertaintyContribution& c : stage.kind().contributions(stage, values[i], values[i + 1])) {
                const std::string key = c.shared.empty() ? fmt::format("{}/{}/{}", s.id, i, n) : c.shared;
                ++n;
                form.add(key, {std::move(c.source), s.name, c.standardUncertainty, c.degreesOfFreedom,
                               stage.kind().resolution == nullptr, stage.kind().resolution != nullptr});
            }
        } else if (stage.kind().resolution) {
            if (const auto step = stage.kind().resolution(stage))
                form.add(fmt::format("{}/{}/step", s.id, i),
                         {.source = CRUSCOTTO_TEXT("its steps"),
                          .signal = s.name,
                          .amount = *step / std::sqrt(12.0),
                          .degreesOfFreedom = std::numeric_limits<double>::infinity(),
                          .each = true});
        }
        form.behind.push_back(form.standard());
        return {};
    }

    const Bench& bench_;
    const MeasuredMoment& moment_;
    const Duration before_;  // the moment that is asked for
    std::map<std::string, LinearForm> done_;
};

}  // namespace

Result<Uncertainty> uncertaintyOf(const Bench& bench, const std::string& signal, const MeasuredMoment& moment,
                                  std::optional<double> k) {
    Propagation propagation(bench, moment);
    auto form = propagation.of(signal, 0);
    if (!form) return form.error();
    Uncertainty out;
    out.value = form.value().value;
    out.unit = form.value().unit;
    out.k = k.value_or(bench.coverage);
    out.standard = form.value().standard();
    out.behind = form.value().behind;
    out.missing = std::move(propagation.missing);
    out.wentOver = propagation.wentOver;
    double fourth = 0;
    for (const auto& [key, term] : form.value().terms) {
        const double variance = term.amount * term.amount;
        out.claimed = out.claimed || (term.claimed && variance > 0);
        out.parts.push_back({term.source, term.signal, term.amount, term.degreesOfFreedom,
                             out.standard > 0 ? variance / (out.standard * out.standard) : 0});
        if (std::isfinite(term.degreesOfFreedom) && term.degreesOfFreedom > 0)
            fourth += variance * variance / term.degreesOfFreedom;
    }
    std::ranges::stable_sort(out.parts, std::ranges::greater(), &UncertaintyPart::share);
    out.degreesOfFreedom = fourth > 0 ? std::pow(out.standard, 4) / fourth : std::numeric_limits<double>::infinity();
    if (out.parts.empty())
        out.missing.push_back(
            CRUSCOTTO_TEXT("Nothing is known of how far off it may be: no converter's steps, no accuracy, "
                           "no class, no calibration."));
    return out;
}

std::vector<double> stagesOf(const Bench& bench, const Source& source, const std::string& signal, Instant t) {
    std::vector<double> stages = source.stagesAt(signal, t);
    const SignalSpec* s = bench.signal(signal);
    if (!s || stages.size() == s->chain.size() + 1) return stages;
    if (isOutput(s->kind)) return {source.at(signal, t).value};
    if (!s->computed) return stages;
    // Of one that was recorded as what it read, the stages come from what its inputs read.
    auto made = ChainEvaluator::make(s->chain, s->kind, neededUnits(bench, *s));
    if (!made) return stages;
    std::vector<std::vector<double>> needed;
    for (const NeededSignal& n : neededSignals(s->chain)) needed.push_back({source.at(n.id, t).value});
    const std::vector<std::span<const double>> spans(needed.begin(), needed.end());
    Readings readings;
    made.value().process({std::nan("")}, {t}, readings, spans);
    stages = made.value().stageValues();
    stages.back() = source.at(signal, t).value;
    return stages;
}

Result<Uncertainty> uncertaintyAt(const Bench& bench, const Source& source, const std::string& signal, Instant t) {
    MeasuredMoment moment;
    moment.running = std::max(Duration{}, t - source.extent().from);
    moment.series = [&](const std::string& id, std::size_t stages, Duration before, Duration over, std::size_t most) {
        MeasuredMoment::Series out;
        const Instant end = t - before + Duration{1};
        if (!source.stageSeries(id, stages, {end - over, end}, most, out.values, out.times)) return decltype(out){};
        return out;
    };
    moment.stages = [&](const std::string& id) { return stagesOf(bench, source, id, t); };
    moment.stagesBefore = [&](const std::string& id, Duration before) {
        return stagesOf(bench, source, id, t - before);
    };
    moment.interval = [&](const std::string& id) {
        std::vector<double> values;
        std::vector<Instant> times;
        const Span all{source.extent().from, t + Duration{1}};
        if (!source.stageSeries(id, 0, all, samplesBack, values, times) || times.size() < 2) return Duration{};
        return Duration{(times.back() - times.front()).ns / static_cast<std::int64_t>(times.size() - 1)};
    };
    moment.mean = [&](const std::string& id, std::size_t stages, Duration over) {
        const auto means = source.stageMeans(id, {t - over, t + Duration{1}}).means;
        return stages < means.size() ? means[stages] : std::nan("");
    };
    moment.noise = [&](const std::string& id) {
        const SignalSpec* s = bench.signal(id);
        std::vector<double> values;
        std::vector<Instant> times;
        if (!s || !source.stageSeries(id, s->chain.size(), noiseSpan(t), noiseSamples, values, times))
            return MeasuredMoment::Noise{};
        const Steadiness stood = steadinessOf(values, times);
        if (!(stood.noise > 0)) return MeasuredMoment::Noise{};
        // As many are independent as the uncertainty of the mean says.
        const double share = stood.standardUncertainty / stood.noise;
        return MeasuredMoment::Noise{stood.noise, seconds((times.back() - times.front()).seconds() * share * share)};
    };
    return uncertaintyOf(bench, signal, moment);
}

int decimalsFor(double expanded) {
    if (!(expanded > 0)) return 9;
    return std::clamp(1 - static_cast<int>(std::floor(std::log10(expanded) + 1e-12)), 0, 9);
}

std::string withUncertainty(double value, double expanded) {
    if (!(expanded > 0)) return shortNumber(value);
    const int decimals = decimalsFor(expanded);
    return readingText(value, decimals) + " ± " + readingText(expanded, decimals);
}

}  // namespace cruscotto
