#include "cli/commands.h"

#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <nlohmann/json.hpp>
#include <thread>

#include "core/run_reader.h"
#include "core/units.h"
#include "engine/engine.h"
#include "standins/beehive/beehive.h"

namespace cruscotto::cli {

namespace {

std::atomic<bool> stopAsked{false};
std::atomic<int> marksAsked{0};
static_assert(std::atomic<bool>::is_always_lock_free);

void say(const std::string& line) {
    std::fputs((line + "\n").c_str(), stdout);
    std::fflush(stdout);
}
int complain(const std::string& line, int code) {
    std::fputs(("cruscotto: " + line + "\n").c_str(), stderr);
    return code;
}

/// The bench, or nothing after a complaint.
std::optional<Bench> open(const std::string& path) {
    auto bench = loadBench(path);
    if (!bench) {
        complain(bench.error().english(), badFile);
        return std::nullopt;
    }
    const auto problems = checkDevices(bench.value());
    for (const Problem& p : problems) complain(path + ": " + p.english(), badFile);
    if (!problems.empty()) return std::nullopt;
    return std::move(bench.value());
}

/// Waits in short steps until the time is over or a signal asks to stop; calls each() in between.
template <class Each>
void pass(std::optional<Duration> length, Duration every, Each&& each) {
    using Clock = std::chrono::steady_clock;
    const auto end = length ? Clock::now() + std::chrono::nanoseconds(length->ns) : Clock::time_point::max();
    auto next = Clock::now() + std::chrono::nanoseconds(every.ns);
    while (!stopAsked && Clock::now() < end) {
        const auto step = Clock::now() + std::chrono::milliseconds(20);
        std::this_thread::sleep_until(std::min({end, next, step}));
        if (Clock::now() >= next) {
            each();
            next += std::chrono::nanoseconds(every.ns);
        }
    }
}

/// "drive=5" for each of the outputs; the bench with these start values.
Result<Bench> withOutputs(Bench bench, const std::vector<std::string>& outputs) {
    for (const std::string& one : outputs) {
        const auto equals = one.find('=');
        double value = 0;
        const SignalSpec* s = bench.signal(one.substr(0, equals));
        if (equals == std::string::npos || !parseNumber(one.substr(equals + 1), value))
            return failure("\"{0}\" does not read. Write --set SIGNAL=VALUE, as in --set drive=5.", one);
        if (!s || !s->output) return failure("This bench has no output \"{0}\".", one.substr(0, equals));
        if (value < s->output->low || value > s->output->high)
            return failure("{0} goes from {1} to {2}.", s->name, s->output->low, s->output->high);
        SignalSpec next = *s;
        next.output->start = value;
        bench = withSignal(std::move(bench), std::move(next));
    }
    return bench;
}

/// Says once what each device that is not live has to say. False if there is any.
bool devicesWell(const Engine& engine, const Bench& bench) {
    bool well = true;
    for (const auto& [id, status] : engine.deviceStatus()) {
        if (status.state == LinkState::live || status.state == LinkState::stopped) continue;
        const DeviceSpec* spec = bench.device(id);
        complain((spec ? spec->name : id) + ": " + status.sentence.english(), deviceTrouble);
        well = false;
    }
    return well;
}

std::string bytesText(std::uint64_t n) {
    if (n < 10'000) return fmt::format("{} B", n);
    if (n < 10'000'000) return fmt::format("{} kB", n / 1000);
    return fmt::format("{:.1f} MB", static_cast<double>(n) / 1e6);
}

class ConsoleProgress : public Progress {
public:
    void advance(std::uint64_t done, std::uint64_t total) override {
        if (!isatty(STDERR_FILENO) || total == 0) return;
        const int percent = static_cast<int>(done * 100 / total);
        if (percent == shown_) return;
        shown_ = percent;
        std::fprintf(stderr, "\r%3d %%%s", percent, percent == 100 ? "\n" : "");
    }
    [[nodiscard]] bool cancelled() const override { return stopAsked; }

private:
    int shown_ = -1;
};

}  // namespace

void handleSignals() {
    struct sigaction action {};
    action.sa_handler = [](int) { stopAsked = true; };
    sigaction(SIGINT, &action, nullptr);
    sigaction(SIGTERM, &action, nullptr);
    action.sa_handler = [](int) { ++marksAsked; };
    sigaction(SIGUSR1, &action, nullptr);
}
bool interrupted() {
    return stopAsked;
}

int record(const RecordOptions& options) {
    const auto opened = open(options.bench);
    if (!opened) return badFile;
    const auto changed = withOutputs(*opened, options.outputs);
    if (!changed) return complain(changed.error().english(), wrongUsage);
    const Bench* const bench = &changed.value();
    if (options.asFastAsPossible && !options.length)
        return complain("--as-fast-as-possible needs --for: how much bench time to make.", wrongUsage);
    if (options.asFastAsPossible && !allSimulated(*bench))
        return complain("--as-fast-as-possible is for simulated devices; this bench has one that keeps its own time.",
                        wrongUsage);
    EngineOptions engineOptions;
    if (options.asFastAsPossible) {
        if (options.beginsAtUnix) engineOptions.wallClock = [s = *options.beginsAtUnix] { return s * 1'000'000'000; };
        engineOptions.pace = Pace::asFastAsPossible;
        engineOptions.until = options.length;
    }
    auto started = Engine::startRecorded(*bench, options.out, engineOptions);
    if (!started) return complain(started.error().english(), failed);
    const std::unique_ptr<Engine> engine = std::move(started.value());
    bool well = true;
    if (options.asFastAsPossible) {
        std::atomic<bool> done{false};
        std::thread watcher([&] {
            while (!done && !stopAsked) std::this_thread::sleep_for(std::chrono::milliseconds(20));
            if (!done) engine->interrupt();
        });
        engine->wait();
        done = true;
        watcher.join();
    } else {
        int marks = 0;
        pass(options.length, milliseconds(100), [&] {
            while (marks < marksAsked) engine->mark(engine->now(), fmt::format("Mark {}", ++marks));
            if (!isatty(STDERR_FILENO)) return;
            const RecordingStatus r = engine->recording();
            std::fprintf(stderr, "\r%s  %s  %s ", clockText(engine->now() - Instant{}).c_str(),
                         bytesText(r.bytes).c_str(),
                         r.problem.empty() ? "all samples kept" : r.problem.english().c_str());
        });
        if (isatty(STDERR_FILENO)) std::fputc('\n', stderr);
        well = devicesWell(*engine, *bench);
    }
    engine->stop();
    const RecordingStatus status = engine->recording();
    const std::uint64_t lost = status.lost + engine->lostSamples();
    say(fmt::format("{}: {} samples, {}, {}", options.out, status.samples, bytesText(status.bytes),
                    lost ? fmt::format("{} lost", lost) : "all samples kept"));
    if (!status.problem.empty()) complain(status.problem.english(), lostSamples);
    return lost || !status.problem.empty() ? lostSamples : well ? ok : deviceTrouble;
}

int watch(const WatchOptions& options) {
    const auto bench = open(options.bench);
    if (!bench) return badFile;
    auto engine = Engine::start(*bench);
    const Source& source = engine->source();
    pass(options.length, options.every, [&] {
        const Instant now = engine->now();
        std::string line = clockText(now - Instant{});
        for (const auto& s : bench->signals) {
            const Reading r = source.at(s->id, now);
            const std::string unit = unitText(s->unit());
            std::string value = readingText(r.value, s->scale ? decimalsFor(s->scale->low, s->scale->high) : 3);
            if (isDigital(s->kind))
                value = r.value > 0.5        ? (s->onWord.empty() ? "on" : s->onWord)
                        : s->offWord.empty() ? "off"
                                             : s->offWord;
            if (r.quality == Quality::gap || r.quality == Quality::stale || std::isnan(r.value)) value = "–";
            line += "  " + (s->tag.empty() ? s->id : s->tag) + " " + value +
                    (unit.empty() || value == "–" ? "" : " " + unit);
            if (r.quality != Quality::good) line += std::string(" (") + qualityWord(r.quality) + ")";
        }
        say(line);
    });
    const bool well = devicesWell(*engine, *bench);
    engine->stop();
    return well ? ok : deviceTrouble;
}

int info(const std::string& path, bool json) {
    auto opened = RunReader::open(path);
    if (!opened) return complain(opened.error().english(), badFile);
    RunReader& reader = *opened.value();
    const RunInfo& run = reader.info();
    struct Line {
        const RunSignal* signal;
        const RunGroup* group;
        Summary summary;
    };
    std::vector<Line> lines;
    for (const RunSignal& s : run.signals)
        for (const RunGroup& g : run.groups)
            if (g.id == s.group) {
                Summary all;
                for (const Bucket& b : reader.summaries(s.id, 1)) all.add(b.summary);
                lines.push_back({&s, &g, all});
            }
    const auto lost = run.lostSamples();
    if (json) {
        nlohmann::ordered_json j;
        j["file"] = path;
        j["bench"] = run.bench.name;
        j["closed"] = run.closed;
        j["bytes"] = run.fileBytes;
        j["start-unix-ns"] =
            run.anchors.empty()
                ? nlohmann::ordered_json()
                : nlohmann::ordered_json(run.anchors.front().unixNs + (run.span.from - run.anchors.front().at).ns);
        j["duration-ns"] = (run.span.to - run.span.from).ns;
        j["lost-samples"] = lost;
        j["signals"] = nlohmann::ordered_json::array();
        for (const Line& l : lines) {
            nlohmann::ordered_json s;
            s["id"] = l.signal->key;
            s["name"] = l.signal->current().name;
            s["tag"] = l.signal->current().tag;
            s["unit"] = l.signal->current().unit();
            s["type"] = sampleTypeName(l.signal->type);
            s["rate-hz"] = l.group->rateHz;
            s["samples"] = l.signal->samples;
            s["from-ns"] = (l.group->span.from - run.span.from).ns;
            s["to-ns"] = (l.group->span.to - run.span.from).ns;
            s["definitions"] = l.signal->definitions.size();
            s["gaps"] = nlohmann::ordered_json::array();
            for (const Gap& g : l.group->gaps)
                s["gaps"].push_back({{"from-ns", (g.from - run.span.from).ns},
                                     {"to-ns", (g.to - run.span.from).ns},
                                     {"lost-samples", g.lostSamples},
                                     {"cause", g.cause}});
            if (l.summary.count)
                s["summary"] = {{"min", l.summary.min},
                                {"mean", l.summary.mean},
                                {"max", l.summary.max},
                                {"samples", l.summary.count}};
            j["signals"].push_back(s);
        }
        j["marks"] = nlohmann::ordered_json::array();
        for (const RunMark& m : run.marks)
            j["marks"].push_back({{"at-ns", (m.at - run.span.from).ns}, {"words", m.words}});
        say(j.dump(2));
        return ok;
    }
    say(fmt::format(
        "{}\nbench      {}\nlength     {}\nsize       {}\nstate      {}\nlost       {}", path, run.bench.name,
        clockText(run.span.to - run.span.from), bytesText(run.fileBytes),
        run.closed ? "closed in order" : "not closed: still being recorded, or cut short; what is here is whole",
        lost ? fmt::format("{} samples", lost) : "nothing"));
    say(fmt::format("\n{:<5} {:<24} {:>9} {:>12} {:>10}  {:>12} {:>12} {:>12} {}", "tag", "signal", "rate/Hz",
                    "samples", "gaps", "min", "mean", "max", "unit"));
    for (const Line& l : lines)
        say(fmt::format("{:<5} {:<24} {:>9} {:>12} {:>10}  {:>12} {:>12} {:>12} {}", l.signal->current().tag,
                        l.signal->current().name, l.group->rateHz > 0 ? shortNumber(l.group->rateHz) : "own times",
                        l.signal->samples, l.group->gaps.size(), shortNumber(l.summary.min),
                        shortNumber(l.summary.mean), shortNumber(l.summary.max), unitText(l.signal->current().unit())));
    for (const RunGroup& g : run.groups)
        for (const Gap& gap : g.gaps)
            say(fmt::format("gap in {}/{} at {} s, {} s long, {} samples: {}", g.device, g.name,
                            secondsText((gap.from - run.span.from).ns), secondsText((gap.to - gap.from).ns),
                            gap.lostSamples, gap.cause));
    for (const RunMark& m : run.marks)
        say(fmt::format("mark at {} s: {}", secondsText((m.at - run.span.from).ns), m.words));
    return ok;
}

int exportRun(const std::string& run, const std::string& out, const CsvOptions& options) {
    ConsoleProgress progress;
    auto result = exportCsv(run, out, options, progress);
    if (!result) return complain(result.error().english(), failed);
    say(fmt::format("{}: {} rows", out, result.value().rows));
    for (const auto& [signal, n] : result.value().samples) say(fmt::format("  {:<24} {:>12} samples", signal, n));
    if (result.value().damagedBlocks) {
        return complain(
            fmt::format("{} blocks of the run are damaged and were passed over.", result.value().damagedBlocks),
            lostSamples);
    }
    return ok;
}

int check(const std::string& path, bool write) {
    const auto bench = open(path);
    if (!bench) return badFile;
    if (write) {
        if (auto saved = saveBench(*bench, path); !saved) return complain(saved.error().english(), failed);
    }
    say(fmt::format("{}: fine. {} devices, {} signals, {} pages.", path, bench->devices.size(), bench->signals.size(),
                    bench->pages.size()));
    return ok;
}

int beehive(const StandInOptions& options) {
    BeehiveOptions o;
    using Format = BeehiveOptions::Format;
    o.format = options.format == "labelled" ? Format::labelled
               : options.format == "hex"    ? Format::hex
                                            : Format::delimited;
    o.linesPerSecond = options.linesPerSecond;
    o.seed = options.seed;
    o.link = options.link;
    o.nonsense = options.nonsense;
    auto hive = Beehive::open(o);
    if (!hive) return complain(hive.error().english(), failed);
    say(options.link.empty() ? hive.value()->path() : options.link);
    hive.value()->run(stopAsked);
    return ok;
}

}  // namespace cruscotto::cli
