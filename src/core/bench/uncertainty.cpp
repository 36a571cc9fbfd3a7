#include "core/bench/uncertainty.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "core/analysis/steadiness.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/chain.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {

constexpr int deepestBudget = 32;

/// A reading as a sum of independent errors, each with the slope to it.
struct LinearForm {
    struct Term {
        Text source;
        std::string signal;
        double amount = 0;
        double degreesOfFreedom = 0;
        bool claimed = false;
    };
    std::map<std::string, Term> terms;  // by what they are: equal keys are one error
    double value = std::nan("");
    std::string unit;
    std::vector<double> behind;

    void scale(double by) {
        for (auto& [key, term] : terms) term.amount *= by;
    }
    void add(const std::string& key, Term term) {
        const auto [it, fresh] = terms.try_emplace(key, std::move(term));
        if (!fresh) it->second.amount += term.amount;
    }
    void add(const LinearForm& other, double by) {
        for (const auto& [key, term] : other.terms) {
            Term scaled = term;
            scaled.amount *= by;
            add(key, std::move(scaled));
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
    Propagation(const Bench& bench, const MeasuredMoment& moment) : bench_(bench), moment_(moment) {}

    Result<LinearForm> of(const std::string& id, int depth) {
        if (const auto known = done_.find(id); known != done_.end()) return known->second;
        const SignalSpec* s = bench_.signal(id);
        if (!s) return failure("There is no signal \"{0}\".", id);
        if (depth > deepestBudget) return failure("{0} needs itself.", s->name);
        const std::vector<double> values = moment_.stages(id);
        LinearForm form;
        if (isOutput(s->kind)) {
            form.value = values.empty() ? std::nan("") : values.back();
            form.unit = s->unit();
            missing.push_back(text(CRUSCOTTO_TEXT("{0} is an output, and taken as exact."), s->name));
            return form;
        }
        if (values.size() != s->chain.size() + 1 || std::isnan(values.back()))
            return failure("{0} has no reading then.", s->name);
        form.behind.push_back(0);
        for (std::size_t i = 0; i < s->chain.size(); ++i)
            if (auto done = stage(*s, i, values, form, depth); !done) return done.error();
        form.value = values.back();
        form.unit = readingUnit(s->chain, s->kind);
        if (s->computed) form.unit = s->unit().empty() ? form.unit : s->unit();
        // What it wanders by: a computed one's comes with its inputs.
        if (!s->computed && moment_.noise)
            if (const double noise = moment_.noise(id); noise > 0)
                form.add("noise " + id,
                         {CRUSCOTTO_TEXT("its noise"), s->name, noise, std::numeric_limits<double>::infinity()});
        if (!form.behind.empty()) form.behind.back() = form.standard();
        done_.emplace(id, form);
        return form;
    }
    std::vector<Text> missing;

private:
    Result<void> stage(const SignalSpec& s, std::size_t i, const std::vector<double>& values, LinearForm& form,
                       int depth) {
        const Stage& stage = s.chain[i];
        if (stage.isOff()) {
            form.behind.push_back(form.standard());
            return {};
        }
        const std::string before = unitBefore(s.chain, i, s.kind);
        std::vector<double> sources;
        std::vector<std::pair<LinearForm, double>> needed;  // and the factor to the unit that is wanted
        for (const WantedSource& wanted : sourcesOf(stage)) {
            if (!wanted.isSignal()) {
                const auto in =
                    convertUnit(wanted.source->unit.empty() ? wanted.unit : wanted.source->unit, wanted.unit);
                sources.push_back(in ? wanted.source->constant * in->factor + in->offset : wanted.source->constant);
                needed.emplace_back(LinearForm{}, 0);
                continue;
            }
            auto other = of(wanted.source->signal, depth + 1);
            if (!other) return other.error();
            const auto in = convertUnit(other.value().unit, wanted.unit);
            const double factor = in ? in->factor : 1;
            sources.push_back(other.value().value * factor + (in ? in->offset : 0));
            needed.emplace_back(std::move(other.value()), factor);
        }
        // A filter lets what stands still through; of what it makes of a change nothing is said here.
        const StageMemory memory = memoryOf(stage);
        const bool filter = stage.kind().smooths;
        const bool alone = memory.samples == 0 && memory.time.ns == 0;
        std::optional<double> steady;
        if (!filter && !alone && stage.kind().steadySlope)
            steady = stage.kind().steadySlope(stage, before, moment_.running);
        if (steady) {
            form.scale(*steady);
        } else if (!filter && !alone) {
            // nothing is known of a counter's samples before but that they are whole
            if (!form.terms.empty())
                missing.push_back(
                    text(CRUSCOTTO_TEXT("What comes behind “{0}” of {1} depends on more than a moment: what is "
                                        "before it is not carried on."),
                         stage.kind().title.english(), s.name));
            form.terms.clear();
        } else if (!filter) {
            // A computation takes nothing but its sources.
            const double in = s.computed && i == 0 ? 0 : values[i];
            const Sensitivities slopes = sensitivities(stage, before, in, sources);
            if (!std::isfinite(slopes.in))
                return failure("How {0} answers to what comes in cannot be told at “{1}”.", s.name,
                               stage.kind().title.english());
            form.scale(slopes.in);
            for (std::size_t k = 0; k < needed.size(); ++k)
                if (std::isfinite(slopes.sources[k])) form.add(needed[k].first, slopes.sources[k] * needed[k].second);
        }
        if (stage.kind().contributions) {
            std::size_t n = 0;
            for (UncertaintyContribution& c : stage.kind().contributions(stage, values[i], values[i + 1])) {
                const std::string key = c.shared.empty() ? fmt::format("{}/{}/{}", s.id, i, n) : c.shared;
                ++n;
                form.add(key, {std::move(c.source), s.name, c.standardUncertainty, c.degreesOfFreedom,
                               stage.kind().resolution == nullptr});
            }
        } else if (stage.kind().resolution) {
            if (const auto step = stage.kind().resolution(stage))
                form.add(fmt::format("{}/{}/step", s.id, i),
                         {CRUSCOTTO_TEXT("its steps"), s.name, *step / std::sqrt(12.0),
                          std::numeric_limits<double>::infinity()});
        }
        form.behind.push_back(form.standard());
        return {};
    }

    const Bench& bench_;
    const MeasuredMoment& moment_;
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
    moment.stages = [&](const std::string& id) { return stagesOf(bench, source, id, t); };
    moment.noise = [&](const std::string& id) {
        const SignalSpec* s = bench.signal(id);
        std::vector<double> values;
        std::vector<Instant> times;
        if (!s || !source.stageSeries(id, s->chain.size(), noiseSpan(t), noiseSamples, values, times)) return 0.0;
        return steadinessOf(values, times).noise;
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
