// Runs side by side: what differs between two, the measures of several, a band of good ones; and the list of a folder.
#include <fmt/format.h>

#include <cmath>
#include <nlohmann/json.hpp>
#include <thread>

#include "cli/commands.h"
#include "cli/say.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/compare/band.h"
#include "core/compare/difference.h"
#include "core/compare/run_table.h"
#include "core/run/run_card.h"
#include "engine/run_source.h"

namespace cruscotto::cli {

namespace {

using Json = nlohmann::ordered_json;

struct OpenRun {
    std::unique_ptr<RunSource> source;
    std::shared_ptr<const RunInfo> info;
    Duration shift{};
    [[nodiscard]] LaidOver laid() const { return {source.get(), shift}; }
    [[nodiscard]] std::optional<Instant> firstMark() const {
        return info->marks.empty() ? std::nullopt : std::optional(info->marks.front().at);
    }
};

std::string inUnit(double v, const std::string& ucum) {
    const std::string unit = unitText(ucum);
    return shortNumber(v) + (unit.empty() || unit == "1" ? "" : " " + unit);
}

Json numberJson(double v) {
    return std::isfinite(v) ? Json(v) : Json(nullptr);
}

int tellDifferences(const CompareOptions& options, const std::vector<OpenRun>& runs) {
    const OpenRun &a = runs.front(), &b = runs.back();
    const Span span = commonSpan(*a.source, b.laid());
    if (!(span.from < span.to)) return complain("The two do not meet in time, laid over each other so.", failed);
    const auto all = differencesBetween(a.info->bench, *a.source, b.info->bench, b.laid(), span);
    auto written = writtenDifferences(a.info->notes, b.info->notes);
    for (Text& t : writtenDifferences(a.info->benchThatComputes(), b.info->benchThatComputes()))
        written.push_back(std::move(t));
    if (options.json) {
        Json j{{"own", a.info->path}, {"other", b.info->path}, {"shift-s", b.shift.seconds()}};
        j["seconds"] = (span.to - span.from).seconds();
        j["signals"] = Json::array();
        for (const SignalDifference& d : all) {
            Json one{{"signal", d.signal}, {"size", d.size()}, {"parts", Json::array()}};
            for (const DifferencePart& p : d.parts)
                one["parts"].push_back({{"kind", differenceName(p.kind)},
                                        {"amount", numberJson(p.amount)},
                                        {"unit", p.unit},
                                        {"size", p.size},
                                        {"words", p.words.english()}});
            j["signals"].push_back(std::move(one));
        }
        j["written"] = Json::array();
        for (const Text& t : written) j["written"].push_back(t.english());
        say(j.dump(2));
        return ok;
    }
    say(fmt::format("over {} s, the first against the last:", shortNumber((span.to - span.from).seconds())));
    for (const SignalDifference& d : all) {
        std::string words;
        for (const DifferencePart& p : d.parts) words += (words.empty() ? "" : "; ") + p.words.english();
        const SignalSpec* s = a.info->bench.signal(d.signal);
        say(fmt::format("{:<24} {}", s ? s->name : d.signal, words.empty() ? "no difference" : words));
    }
    for (const Text& t : written) say(t.english());
    return ok;
}

int tellTable(const CompareOptions& options, const std::vector<OpenRun>& runs) {
    const SignalSpec* signal = namedSignal(runs.front().info->bench, options.signal);
    if (!signal) return complain(fmt::format("There is no signal {} in it.", options.signal), wrongUsage);
    Span span = runs.front().source->extent();
    std::vector<std::pair<const Bench*, LaidOver>> of;
    for (const OpenRun& run : runs) {
        of.emplace_back(&run.info->bench, run.laid());
        const Span common = commonSpan(*runs.front().source, run.laid());
        span = {std::max(span.from, common.from), std::min(span.to, common.to)};
    }
    if (!(span.from < span.to)) return complain("The runs do not meet in time, laid over each other so.", failed);
    auto table = runTable(of, signal->id, options.against, span);
    if (!table) return complain(table.error().english(), failed);
    Json j{{"signal", signal->id}, {"seconds", (span.to - span.from).seconds()}, {"runs", Json::array()}};
    for (const OpenRun& run : runs) j["runs"].push_back(run.info->path);
    j["measures"] = Json::object();
    for (const RunTableRow& row : table.value()) {
        if (!options.measures.empty() && std::ranges::find(options.measures, row.measure) == options.measures.end())
            continue;
        Json one{{"unit", row.unit},
                 {"mean", numberJson(row.mean)},
                 {"standard-deviation", numberJson(row.deviation)},
                 {"minimum", numberJson(row.least)},
                 {"maximum", numberJson(row.greatest)},
                 {"values", Json::array()}};
        std::string values;
        for (const Measure& m : row.of) {
            one["values"].push_back(numberJson(m.whyNot.empty() ? m.value : std::nan("")));
            values += fmt::format(" {:>12}", m.whyNot.empty() ? shortNumber(m.value) : "–");
        }
        if (!options.json)
            say(fmt::format("{:<20}{} | mean {}, between them {} ", row.measure, values, inUnit(row.mean, row.unit),
                            std::isfinite(row.deviation) ? inUnit(row.deviation, row.unit) : "–"));
        j["measures"][row.measure] = std::move(one);
    }
    if (options.json) say(j.dump(2));
    return ok;
}

/// The last run against the band of those before it.
int tellBand(const CompareOptions& options, std::vector<OpenRun>& runs) {
    constexpr std::size_t leastGood = 2, places = 1000;
    if (runs.size() < leastGood + 1)
        return complain("--band takes two good runs at least, and then the one that is judged.", wrongUsage);
    const OpenRun& judged = runs.back();
    const Span whole = judged.source->extent();
    const ColumnRequest at{
        whole.from, Duration{std::max<std::int64_t>(1, (whole.to - whole.from).ns / std::int64_t{places})}, places};
    BandLimits limits;
    limits.spreads = options.spreads;
    limits.allowance = options.allowance;
    limits.outside = options.outsidePercent / 100;
    Json j{{"judged", judged.info->path}, {"signals", Json::object()}};
    bool fine = true;
    for (const auto& s : judged.info->bench.signals) {
        if (!options.signal.empty() && namedSignal(judged.info->bench, options.signal) != s.get()) continue;
        std::vector<LaidOver> good;
        for (const OpenRun& run : std::span(runs).first(runs.size() - 1))
            if (run.info->bench.signal(s->id)) good.push_back(run.laid());
        const BandVerdict v = judgedBy(bandOf(s->id, good, at), limits, *judged.source, s->id);
        fine = fine && (v.fine || v.judged == 0);
        const std::string words = verdictText(v, s->unit(), whole.from).english();
        j["signals"][s->id] = {{"verdict", v.judged == 0 ? "none"
                                           : v.fine      ? "good"
                                                         : "bad"},
                               {"outside-share", v.outsideShare},
                               {"farthest", v.farthest},
                               {"unit", s->unit()},
                               {"words", words}};
        if (!options.json)
            say(fmt::format("{:<5} {:<24} {}", v.judged == 0 ? "–" : v.fine ? "good" : "BAD", s->name, words));
    }
    if (j["signals"].empty()) return complain(fmt::format("There is no signal {} in it.", options.signal), wrongUsage);
    j["verdict"] = fine ? "good" : "bad";
    if (options.json) say(j.dump(2));
    return fine ? ok : failed;
}

}  // namespace

int compareRuns(const CompareOptions& options) {
    if (options.runs.size() < 2) return complain("Name two runs at least.", wrongUsage);
    std::vector<OpenRun> runs;
    for (const std::string& path : options.runs)
        runs.push_back({std::make_unique<RunSource>(path, std::size_t{1} << 30), nullptr, {}});
    for (OpenRun& run : runs) {
        while (!run.source->state().done) std::this_thread::sleep_for(std::chrono::milliseconds(2));
        if (const auto& error = run.source->state().error) return complain(error->english(), badFile);
        run.info = run.source->info();
    }
    Alignment by = Alignment::beginning;
    Crossing crossing;
    if (options.align == "mark") {
        by = Alignment::firstMark;
    } else if (options.align == "time-of-day") {
        by = Alignment::timeOfDay;
    } else if (options.align == "crossing") {
        by = Alignment::crossing;
        const SignalSpec* s = namedSignal(runs.front().info->bench, options.crossingOf);
        if (!s) return complain("--align crossing wants --of SIGNAL and --level VALUE.", wrongUsage);
        crossing = {s->id, options.level, !options.falls};
    }
    // The one that is judged stands; else the first.
    OpenRun& stands = options.band ? runs.back() : runs.front();
    for (OpenRun& run : runs) {
        if (&run == &stands) continue;
        auto shift = shiftFor(by, *stands.source, stands.firstMark(), *run.source, run.firstMark(), crossing);
        if (!shift) return complain(run.info->path + ": " + shift.error().english(), failed);
        run.shift = shift.value() + options.shift;
    }
    if (options.band) return tellBand(options, runs);
    if (!options.signal.empty()) return tellTable(options, runs);
    if (runs.size() > 2) return complain("What differs is told of two runs; of more, name a --signal.", wrongUsage);
    return tellDifferences(options, runs);
}

int listRuns(const RunsOptions& options) {
    for (const std::string& day : {options.search.since, options.search.until})
        if (!day.empty() && !isDay(day))
            return complain(fmt::format("\"{}\" is no day, such as 2026-11-29.", day), wrongUsage);
    std::size_t listed = 0;
    Json all = Json::array();
    for (const std::string& path : runsIn(options.folder)) {
        const RunCard card = readRunCard(path);
        if (!found(card, options.search)) continue;
        ++listed;
        if (options.json) {
            Json j{{"path", path}};
            if (!card.problem.empty()) {
                j["problem"] = card.problem.english();
            } else {
                j["bench"] = card.bench;
                for (const auto& [key, words] : runNoteKeys)
                    if (!(card.notes.*words).empty()) j[key] = card.notes.*words;
                j["began"] = card.began();
                j["seconds"] = card.length.seconds();
                j["closed"] = card.closed;
                j["signals"] = card.signals;
                j["marks"] = card.markCount;
                j["bytes"] = card.bytes;
            }
            all.push_back(std::move(j));
        } else if (!card.problem.empty()) {
            say(fmt::format("{:<16} {}", "unreadable", card.problem.english()));
        } else {
            say(fmt::format("{:<16} {:>9}  {:<28} {}{}{}", card.began(), clockText(card.length), card.title(), path,
                            card.markCount ? fmt::format("  {} marks", card.markCount) : "",
                            card.notes.verdict.empty() ? "" : "  " + card.notes.verdict));
        }
    }
    if (options.json) say(all.dump(2));
    if (!listed && !options.json) say("no run is found there");
    return ok;
}

}  // namespace cruscotto::cli
