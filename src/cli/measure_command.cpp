// What a stretch of a signal comes to: levels, edges, sines, and one signal against another.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>
#include <thread>

#include "cli/commands.h"
#include "cli/say.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/stretch_measures.h"
#include "core/bench/uncertainty.h"
#include "devices/device_kind.h"
#include "engine/engine.h"
#include "engine/run_source.h"

namespace cruscotto::cli {

namespace {

using Json = nlohmann::ordered_json;
Json measureJson(const Measure& m) {
    Json j{{"value", std::isfinite(m.value) ? Json(m.value) : Json(nullptr)}, {"unit", m.unit}};
    if (m.u >= 0 && std::isfinite(m.u)) j["u"] = m.u;
    if (!m.whyNot.empty()) j["why-not"] = m.whyNot.english();
    if (!m.note.empty()) j["note"] = m.note.english();
    return j;
}

int tell(const MeasureOptions& options, const Source& source, const Bench& bench, Span span) {
    const SignalSpec* signal = namedSignal(bench, options.signal);
    if (!signal) return complain(fmt::format("There is no signal {} in it.", options.signal), wrongUsage);
    const SignalSpec* against = options.against.empty() ? nullptr : namedSignal(bench, options.against);
    if (!options.against.empty() && !against)
        return complain(fmt::format("There is no signal {} in it.", options.against), wrongUsage);
    // the last reading of all belongs to it where no end is named
    const Span within{span.from, options.to ? span.to : span.to + nanoseconds(1)};
    auto measured = measuresOver(bench, source, signal->id, against ? against->id : "", within);
    if (!measured) return complain(measured.error().english(), failed);
    auto& all = measured.value().all;
    std::vector<std::string> names;
    for (const MeasureKind& kind : measureKinds())
        if (measureFits(kind, signal->isState())) names.push_back(kind.name);
    if (against)
        for (const MeasureKind& kind : measureKindsOfTwo()) names.push_back(kind.name);
    if (!options.measures.empty()) {
        for (const std::string& wanted : options.measures)
            if (const MeasureKind* kind = measureKind(wanted); !kind || !all.contains(wanted)) {
                const bool ofTwo = kind && kind->group == MeasureGroup::ofTwo;
                return complain(
                    ofTwo ? fmt::format("{} is of two signals: name the other one with --against.", wanted)
                          : fmt::format("There is no measure {}. There are: {}.", wanted, fmt::join(names, ", ")),
                    wrongUsage);
            }
        names = options.measures;
    }
    if (options.json) {
        Json j{{"signal", signal->id}};
        if (against) j["against"] = against->id;
        j["from-s"] = options.from.value_or(Duration{}).seconds();
        j["to-s"] = options.from.value_or(Duration{}).seconds() + (span.to - span.from).seconds();
        for (const std::string& name : names) j["measures"][name] = measureJson(all[name]);
        say(j.dump(2));
        return ok;
    }
    for (const std::string& name : names) {
        const Measure& m = all[name];
        const std::string unit = m.unit == "1" ? "" : " " + unitText(m.unit);
        if (!m.whyNot.empty())
            say(fmt::format("{:<20} –  {}", name, m.whyNot.english()));
        else if (m.u > 0)
            say(fmt::format("{:<20} {}{} (k = 2)", name, withUncertainty(m.value, 2 * m.u), unit));
        else
            say(fmt::format("{:<20} {}{}", name, shortNumber(m.value), unit));
        if (!m.note.empty()) say(fmt::format("{:<20} {}", "", m.note.english()));
    }
    return ok;
}

}  // namespace

int measure(const MeasureOptions& options) {
    const auto stretchIn = [&](Span whole) -> std::optional<Span> {
        Span span = whole;
        if (options.from) span.from = whole.from + *options.from;
        if (options.to) span.to = whole.from + *options.to;
        if (!(span.from < span.to) || span.from > whole.to || span.to > whole.to + seconds(1)) return {};
        return span;
    };
    if (options.file.ends_with(".bench")) {
        auto bench = loadBench(options.file, checkDevices);
        if (!bench) return complain(bench.error().english(), badFile);
        const Duration length = options.to.value_or(seconds(5));
        EngineOptions engineOptions;
        engineOptions.outputsAtRest = true;
        const auto engine = Engine::start(bench.value(), engineOptions);
        while (engine->now() < Instant{} + length) std::this_thread::sleep_for(std::chrono::milliseconds(20));
        const auto span = stretchIn({Instant{}, Instant{} + length});
        const int result = span ? tell(options, engine->source(), bench.value(), *span)
                                : complain("--from must lie before --to.", wrongUsage);
        engine->stop();
        return result;
    }
    RunSource source(options.file, std::size_t{4} << 30);
    while (!source.state().done) std::this_thread::sleep_for(std::chrono::milliseconds(2));
    if (const auto& error = source.state().error) return complain(error->english(), badFile);
    const auto info = source.info();
    const auto span = stretchIn(info->span);
    if (!span)
        return complain(fmt::format("--from must lie before --to, and both in the run, which is {} s long.",
                                    shortNumber((info->span.to - info->span.from).seconds())),
                        wrongUsage);
    return tell(options, source, info->bench, *span);
}

}  // namespace cruscotto::cli
