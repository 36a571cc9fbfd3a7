// What each stage of a signal's chain makes of given raw samples, without a device.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <nlohmann/json.hpp>

#include "cli/commands.h"
#include "cli/say.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/chain.h"
#include "core/chain/stage_kind.h"

namespace cruscotto::cli {

namespace {

/// What a stage made of one sample.
struct StageOutcome {
    double value = 0;
    Quality quality = Quality::good;
};

/// For each stage, beginning with the raw sample, its outcome for each sample.
Result<std::vector<std::vector<StageOutcome>>> outcomes(const SignalSpec& signal, const ChainOptions& options,
                                                        const std::vector<std::vector<double>>& given) {
    std::vector<Instant> times;
    for (std::size_t i = 0; i < options.raw.size(); ++i)
        times.push_back(Instant{options.every.ns * static_cast<std::int64_t>(i)});
    const std::vector<std::span<const double>> needed(given.begin(), given.end());
    std::vector<std::vector<StageOutcome>> out;
    // Each beginning of the chain by itself, so that each stage's own quality is seen.
    for (std::size_t stages = 0; stages <= signal.chain.size(); ++stages) {
        const ChainSpec part(signal.chain.begin(), signal.chain.begin() + std::ptrdiff_t(stages));
        auto made = ChainEvaluator::make(part, signal.kind);
        if (!made) return made.error();
        Readings readings;
        made.value().process(options.raw, times, readings,
                             std::span(needed).first(std::min(needed.size(), neededSignals(part).size())));
        auto& column = out.emplace_back();
        for (const double v : readings.values) column.push_back({v, Quality::good});
        for (const QualityInterval& q : readings.quality)
            for (std::size_t i = q.begin; i < q.end; ++i)
                if (severity(q.quality) > severity(column[i].quality)) column[i].quality = q.quality;
    }
    return out;
}

/// What was given for each signal that the chain needs, by its id or by the key of the field that names it.
Result<std::vector<std::vector<double>>> givenFor(const SignalSpec& signal, const ChainOptions& options) {
    std::map<std::string, double> given;
    for (const std::string& pair : options.given) {
        const auto at = pair.find('=');
        double v = 0;
        if (at == std::string::npos || !parseNumber(pair.substr(at + 1), v))
            return failure("--given takes NAME=NUMBER, not {0}.", pair);
        given[pair.substr(0, at)] = v;
    }
    std::vector<std::vector<double>> out;
    std::string missing, known;
    for (const Stage& stage : signal.chain)
        for (const WantedSource& wanted : sourcesOf(stage)) {
            if (!wanted.isSignal()) continue;
            const StageField& field = stage.kind().fields[wanted.field];
            const bool several = field.type == StageField::Type::sources;
            const std::string& name = several ? wanted.source->signal : field.key;
            known += (known.empty() ? "" : ", ") + name;
            auto it = given.find(name);
            if (it == given.end()) it = given.find(wanted.source->signal);
            if (it == given.end() && !wanted.source->name.empty()) it = given.find(wanted.source->name);
            if (it == given.end())
                missing += (missing.empty() ? "" : ", ") + fmt::format("{}=… ({})", name, unitText(wanted.unit));
            out.emplace_back(options.raw.size(), it == given.end() ? std::nan("") : it->second);
        }
    for (const auto& [name, value] : given) {
        const auto needed = neededSignals(signal.chain);
        bool isSignal = std::ranges::any_of(needed, [id = name](const NeededSignal& n) { return n.id == id; });
        for (const Stage& stage : signal.chain)
            for (const WantedSource& wanted : sourcesOf(stage))
                isSignal = isSignal || (wanted.isSignal() && wanted.source->name == name);
        if (!isSignal && (", " + known + ",").find(", " + name + ",") == std::string::npos)
            return failure("The chain needs nothing called {0}{1}.", name,
                           known.empty() ? std::string() : "; it needs " + known);
    }
    if (!missing.empty()) return failure("The chain needs other signals; say what they read: --given {0}.", missing);
    return out;
}

}  // namespace

const SignalSpec* namedSignal(const Bench& bench, const std::string& name) {
    const auto named = std::ranges::find_if(
        bench.signals, [&](const auto& s) { return s->id == name || s->tag == name || s->name == name; });
    return named == bench.signals.end() ? nullptr : named->get();
}

int chain(const ChainOptions& options) {
    const auto bench = openBench(options.bench);
    if (!bench) return badFile;
    const SignalSpec* named = namedSignal(*bench, options.signal);
    if (!named) return complain(fmt::format("There is no signal {} in this bench.", options.signal), wrongUsage);
    const SignalSpec& signal = *named;
    if (signal.output) return complain(fmt::format("{} is an output: it has no chain.", signal.name), wrongUsage);
    const auto given = givenFor(signal, options);
    if (!given) return complain(given.error().english(), wrongUsage);
    const auto made = outcomes(signal, options, given.value());
    if (!made) return complain(made.error().english(), badFile);
    std::vector<std::string> units;
    for (std::size_t k = 0; k <= signal.chain.size(); ++k) units.push_back(unitBefore(signal.chain, k, signal.kind));

    if (options.json) {
        using Json = nlohmann::ordered_json;
        const auto number = [](double v) { return std::isfinite(v) ? Json(v) : Json(nullptr); };
        Json all{{"signal", signal.id}, {"samples", Json::array()}};
        for (std::size_t i = 0; i < options.raw.size(); ++i) {
            Json sample{{"raw", number(options.raw[i])}, {"stages", Json::array()}};
            const auto outcome = [&](std::size_t k) {
                const StageOutcome& o = made.value()[k][i];
                return Json{{"value", number(o.value)}, {"unit", units[k]}, {"quality", qualityWord(o.quality)}};
            };
            for (std::size_t k = 1; k <= signal.chain.size(); ++k) {
                Json stage{{"stage", stageKey(signal.chain[k - 1])}};
                stage.update(outcome(k));
                sample["stages"].push_back(std::move(stage));
            }
            sample["reading"] = outcome(signal.chain.size());
            all["samples"].push_back(std::move(sample));
        }
        say(all.dump(2));
        return ok;
    }
    for (std::size_t i = 0; i < options.raw.size(); ++i) {
        say(fmt::format("{}raw {}", i ? "\n" : "", exactNumber(options.raw[i])));
        for (std::size_t k = 1; k <= signal.chain.size(); ++k) {
            const StageOutcome& o = made.value()[k][i];
            const std::string unit = unitText(units[k]);
            say(fmt::format("  {:<24} {} {}{}", stageTitle(signal.chain[k - 1]).english(),
                            std::isnan(o.value) ? "–" : shortNumber(o.value), unit,
                            o.quality == Quality::good ? "" : fmt::format(" ({})", qualityWord(o.quality))));
        }
    }
    return ok;
}

}  // namespace cruscotto::cli
