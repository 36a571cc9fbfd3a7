#include "cli/commands.h"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <thread>

#include "cli/rule_requests.h"
#include "cli/say.h"
#include "core/base/endings.h"
#include "core/base/json_text.h"
#include "core/base/new_file.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/rule_edits.h"
#include "core/bench/run_name.h"
#include "core/bench/seen_readings.h"
#include "core/run/run_format.h"
#include "core/run/run_notes.h"
#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "core/run/run_version.h"
#include "core/signal/scale.h"
#include "devices/can/can_settings.h"
#include "devices/device_kind.h"
#include "devices/replay/replay_device.h"
#include "engine/engine.h"
#include "engine/preflight.h"

namespace cruscotto::cli {

namespace {

std::atomic<bool> stopAsked{false};
std::atomic<int> marksAsked{0};
static_assert(std::atomic<bool>::is_always_lock_free);

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
    const auto statuses = engine.deviceStatus();
    for (const auto& device : bench.devices) {
        const auto it = statuses.find(device->id);
        if (it != statuses.end() && (it->second.state == LinkState::live || it->second.state == LinkState::stopped))
            continue;
        complain(device->name + ": " +
                     (it == statuses.end()          ? std::string("nothing has been heard of it yet.")
                      : it->second.sentence.empty() ? std::string(linkStateWord(it->second.state)) + "."
                                                    : it->second.sentence.english()),
                 deviceTrouble);
        well = false;
    }
    return well;
}

/// What the run did not get, a line each. True where there is nothing to say.
bool tellAccount(const RecordingStatus& status, const Bench& bench) {
    const auto nameOf = [&](const std::string& id) {
        const DeviceSpec* d = bench.device(id);
        return d ? d->name : id;
    };
    for (const auto& s : status.skipped)
        complain(fmt::format("{}: {} of what it sent did not fit and {} skipped; the last: {}", nameOf(s.device),
                             s.count, s.count == 1 ? "was" : "were", s.last),
                 deviceTrouble);
    for (const auto& [device, sentence] : status.troubles)
        complain(fmt::format("{} did not deliver all the time: {}", nameOf(device), sentence), deviceTrouble);
    for (const std::string& id : status.empty) {
        const SignalSpec* s = bench.signal(id);
        complain(fmt::format("{}: nothing came. Is \"{}\" what the device calls it?", s ? s->name : id,
                             s ? s->terminal : ""),
                 deviceTrouble);
    }
    return status.skipped.empty() && status.troubles.empty() && status.empty.empty();
}

NewFile::Existing existing(bool force) {
    return force ? NewFile::Existing::replace : NewFile::Existing::refuse;
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

Result<void> makeWay(const std::string& path, bool force) {
    if (auto may = mayBecome(path, existing(force)); !may) return may;
    if (force && ::unlink(path.c_str()) != 0 && errno != ENOENT)
        return failure("{0} cannot be replaced ({1}).", path, std::strerror(errno));
    return {};
}

void handleSignals() {
    onEndingSignals([](int) { stopAsked = true; });
    struct sigaction action {};
    action.sa_handler = [](int) { ++marksAsked; };
    sigaction(SIGUSR1, &action, nullptr);
}
void askToStop() {
    stopAsked = true;
}
const std::atomic<bool>& stopFlag() {
    return stopAsked;
}
bool interrupted() {
    return stopAsked;
}

/// The shots that --when asks for.
Result<std::optional<ShotPlan>> shotPlan(const RecordOptions& options, const Bench& bench) {
    if (options.when.empty()) return std::optional<ShotPlan>();
    ShotPlan plan;
    plan.before = options.before;
    plan.after = options.after;
    plan.hysteresis = options.hysteresis;
    plan.most = options.shots;
    if (options.when == "mark") {
        plan.onMark = true;
        return std::optional(plan);
    }
    if (int h = 0, m = 0, s = 0, used = 0; std::sscanf(options.when.c_str(), "%d:%d:%d%n", &h, &m, &s, &used) == 3 &&
                                           used == static_cast<int>(options.when.size()) && h >= 0 && h < 24 &&
                                           m >= 0 && m < 60 && s >= 0 && s < 60) {
        const std::time_t now = std::time(nullptr);
        std::tm local{};
        localtime_r(&now, &local);
        int wait = (h - local.tm_hour) * 3600 + (m - local.tm_min) * 60 + s - local.tm_sec;
        if (wait < 0) wait += 86400;  // tomorrow
        plan.at = Instant{} + seconds(wait);
        plan.most = 1;
        return std::optional(plan);
    }
    const auto trimmed = [](std::string s) {
        s.erase(0, std::min(s.find_first_not_of(' '), s.size()));
        s.erase(s.find_last_not_of(' ') + 1);
        return s;
    };
    const auto at = options.when.find_first_of("<>");
    if (at == std::string::npos || !parseNumber(trimmed(options.when.substr(at + 1)), plan.level))
        return failure(
            "--when takes \"SIGNAL>NUMBER\", \"SIGNAL<NUMBER\", \"mark\" or a time of day as in 14:30:00, not \"{0}\".",
            options.when);
    plan.signal = trimmed(options.when.substr(0, at));
    plan.falling = options.when[at] == '<';
    if (!bench.signal(plan.signal)) return failure("The bench has no signal \"{0}\".", plan.signal);
    return std::optional(plan);
}

std::optional<Bench> openBench(const std::string& path) {
    auto bench = loadBench(path, checkDevices);
    if (!bench) {
        complain(bench.error().english(), badFile);
        return std::nullopt;
    }
    return std::move(bench.value());
}

int record(const RecordOptions& options) {
    const auto opened = openBench(options.bench);
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
        engineOptions.requestsAwaited = true;
    }
    const auto plan = shotPlan(options, *bench);
    if (!plan) return complain(plan.error().english(), wrongUsage);
    std::string out = options.out;
    if (std::error_code ec; std::filesystem::is_directory(out, ec)) {
        const std::int64_t unix = engineOptions.wallClock ? engineOptions.wallClock()
                                                          : std::chrono::duration_cast<std::chrono::nanoseconds>(
                                                                std::chrono::system_clock::now().time_since_epoch())
                                                                .count();
        const std::filesystem::path folder = out;
        out = folder / runName(bench->recording.name, {bench->name, bench->recording.notes.title, unix},
                               [&](const std::string& name) {
                                   std::error_code ignored;
                                   return std::filesystem::exists(folder / name, ignored);
                               });
    }
    if (auto may = makeWay(out, options.force); !may) return complain(may.error().english(), failed);
    auto started = Engine::startRecorded(*bench, out, engineOptions, plan.value());
    if (!started) return complain(started.error().english(), failed);
    const std::unique_ptr<Engine> engine = std::move(started.value());
    bool well = true;
    RuleRequests requests(*engine, *bench, out, options.asFastAsPossible);
    if (options.asFastAsPossible) {
        std::atomic<bool> done{false};
        std::thread watcher([&] {
            while (!done && !stopAsked) {
                (void)requests.obey();
                std::this_thread::sleep_for(std::chrono::milliseconds(2));
            }
            if (!done) engine->interrupt();
            engine->requestsObeyed();
        });
        engine->wait();
        done = true;
        watcher.join();
    } else {
        int marks = 0;
        pass(options.length, milliseconds(100), [&] {
            if (requests.obey()) stopAsked = true;
            while (marks < marksAsked) engine->mark(engine->now(), fmt::format("Mark {}", ++marks));
            if (engine->recording().complete || !engine->problem().empty()) stopAsked = true;
            if (!isatty(STDERR_FILENO)) return;
            const RecordingStatus r = engine->recording();
            std::fprintf(stderr, "\r%s  %s  %s ", clockText(engine->now() - Instant{}).c_str(),
                         bytesText(r.bytes).c_str(),
                         !r.problem.empty() ? r.problem.english().c_str()
                         : r.lost           ? fmt::format("{} lost", r.lost).c_str()
                                            : "all samples kept");
        });
        if (isatty(STDERR_FILENO)) std::fputc('\n', stderr);
        well = devicesWell(*engine, *bench);
    }
    engine->stop();
    const RecordingStatus status = engine->recording();
    const std::uint64_t lost = status.lost;
    const std::string more = status.parts > 1 ? fmt::format(" and {} more files", status.parts - 1) : "";
    say(fmt::format("{}{}: {} samples, {}, {}", out, more, status.samples, bytesText(status.bytes),
                    lost ? fmt::format("{} lost ({})", lost, status.lostTo) : "all samples kept"));
    if (!status.problem.empty()) complain(status.problem.english(), lostSamples);
    if (const Text problem = engine->problem(); !problem.empty()) return complain(problem.english(), failed);
    const bool waited = plan.value() && status.shots == 0;
    if (waited) complain("The trigger never came: no shot was recorded.", deviceTrouble);
    const bool whole = tellAccount(status, *bench);
    return lost || !status.problem.empty()                        ? lostSamples
           : well && whole && !(waited && plan.value()->most > 0) ? ok
                                                                  : deviceTrouble;
}

int watch(const WatchOptions& options) {
    const auto bench = openBench(options.bench);
    if (!bench) return badFile;
    auto engine = Engine::start(*bench);
    const Source& source = engine->source();
    SeenReadings seen;
    RuleRequests requests(*engine, *bench);
    pass(options.length, options.every, [&] {
        (void)requests.obey();
        if (!engine->problem().empty()) stopAsked = true;
        const Instant now = engine->now();
        std::string line = clockText(now - Instant{});
        for (const auto& s : bench->signals) {
            const Reading r = source.at(s->id, now);
            const std::string unit = unitText(s->unit());
            seen.look(*s, source, r.value);
            std::string value = readingText(r.value, seen.decimalsOf(*s));
            if (s->isState())
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
    if (const Text problem = engine->problem(); !problem.empty()) return complain(problem.english(), failed);
    return well ? ok : deviceTrouble;
}

int wire(const WireOptions& options) {
    const auto bench = openBench(options.bench);
    if (!bench) return badFile;
    std::string known;
    const DeviceSpec* device = nullptr;
    for (const auto& d : bench->devices) {
        const DeviceKind* kind = deviceKind(d->kind);
        if (!kind || !kind->hasWire) continue;
        known += (known.empty() ? "" : ", ") + d->id;
        if (d->id == options.device || (options.device.empty() && !device)) device = d.get();
    }
    const bool several = known.find(',') != std::string::npos;
    if (!device || (options.device.empty() && several))
        return complain(known.empty() ? "No device of this bench has a wire to look at."
                                      : fmt::format("Say which device, with --device: {}.", known),
                        wrongUsage);
    std::ofstream file;
    if (!options.out.empty()) {
        if (auto may = makeWay(options.out, options.force); !may) return complain(may.error().english(), failed);
        // Made new: what somebody puts there meanwhile is not written through.
        const int fd = ::open(options.out.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666);
        if (fd < 0)
            return complain(fmt::format("{} cannot be written ({}).", options.out, std::strerror(errno)), failed);
        ::close(fd);
        file.open(options.out, std::ios::binary);
        file << captureText({}, {device->kind, device->settings}) << std::flush;
        if (!file) return complain(fmt::format("{} cannot be written.", options.out), failed);
    }
    // Whoever looks is there before the device, and sees its first word.
    Bench others = *bench;
    std::erase_if(others.devices, [&](const auto& d) { return d->id == device->id; });
    auto engine = Engine::start(others);
    const auto tap = engine->wire(device->id);
    tap->open();
    engine->apply(*bench);
    std::uint64_t next = 0, missed = 0;
    const auto take = [&] {
        for (const WireMessagePtr& m : tap->since(next)) {
            missed += m->number - next;
            next = m->number + 1;
            if (file.is_open()) {
                file << captureLine(*m);
                continue;
            }
            std::string line = fmt::format("{:.6f} {} {}", m->at.seconds(),
                                           m->way == WireMessage::Way::sent ? "out" : "in ", hexBytes(m->bytes));
            line += "  |" + printableBytes(m->bytes) + "|";
            for (const WireField& f : m->fields) line += "  " + f.terminal + " " + shortNumber(f.value);
            if (!m->problem.empty()) line += "  (" + m->problem.english() + ")";
            say(line);
        }
        if (file.is_open()) file.flush();
    };
    pass(options.length, milliseconds(100), [&] {
        take();
        if (file.is_open() && !file) stopAsked = true;
    });
    const bool well = devicesWell(*engine, *bench);
    engine->stop();
    take();
    tap->close();
    if (missed > 0)
        complain(fmt::format("{} messages came faster than they were taken, and are not here.", missed), lostSamples);
    if (file.is_open()) {
        file.close();
        if (!file) return complain(fmt::format("{} could not be written to its end.", options.out), failed);
        say(fmt::format("{}: {} messages of {}.", options.out, next - missed, device->name));
    }
    return missed > 0 ? lostSamples : well ? ok : deviceTrouble;
}

int info(const std::string& path, bool json, std::optional<int> version) {
    auto opened = RunReader::open(path, version);
    if (!opened) return complain(opened.error().english(), badFile);
    RunReader& reader = *opened.value();
    const RunInfo& run = reader.info();
    struct Line {
        const RunSignal* signal;
        const RunGroup* group;
        Summary summary;
    };
    std::vector<Line> lines;
    static const RunGroup nowhere{};
    for (const RunSignal& s : run.signals) {
        const auto g = std::ranges::find(run.groups, s.group, &RunGroup::id);
        if (g != run.groups.end())
            lines.push_back({&s, &*g, summaryOf(reader, s)});
        else
            lines.push_back({&s, &nowhere, {}});
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
        j["version"] = run.version;
        j["versions"] = nlohmann::ordered_json::array();
        for (const RunVersion& v : run.versions)
            j["versions"].push_back(
                {{"id", v.id}, {"made-unix-ns", v.madeUnixNs}, {"words", v.words}, {"signals", v.signals}});
        for (const auto& [key, words] : runNoteKeys)
            if (!(run.notes.*words).empty()) j[key] = run.notes.*words;
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
            if (l.signal->samples > 0) {
                s["from-ns"] = (l.group->span.from - run.span.from).ns;
                s["to-ns"] = (l.group->span.to - run.span.from).ns;
            }
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
        j["events"] = nlohmann::ordered_json::array();
        for (const RunEvent& e : run.events)
            j["events"].push_back({{"at-ns", (e.at - run.span.from).ns}, {"kind", e.kind}, {"words", e.words}});
        say(jsonText(j, 2));
        return ok;
    }
    say(fmt::format(
        "{}\nbench      {}\nlength     {}\nsize       {}\nstate      {}\nlost       {}", path, run.bench.name,
        clockText(run.span.to - run.span.from), bytesText(run.fileBytes),
        run.closed ? "closed in order" : "not closed: still being recorded, or cut short; what is here is whole",
        lost ? fmt::format("{} samples", lost) : "nothing"));
    for (const auto& [key, words] : runNoteKeys)
        if (!(run.notes.*words).empty()) say(fmt::format("{:<10} {}", key, run.notes.*words));
    say(fmt::format("\n{:<5} {:<24} {:>9} {:>12} {:>10}  {:>12} {:>12} {:>12} {}", "tag", "signal", "rate/Hz",
                    "samples", "gaps", "min", "mean", "max", "unit"));
    const auto number = [](const Line& l, double v) { return l.summary.count ? shortNumber(v) : std::string("–"); };
    for (const Line& l : lines)
        say(fmt::format("{:<5} {:<24} {:>9} {:>12} {:>10}  {:>12} {:>12} {:>12} {}", l.signal->current().tag,
                        l.signal->current().name,
                        l.signal->samples == 0 ? "nothing"
                        : l.group->rateHz > 0  ? shortNumber(l.group->rateHz)
                                               : "own times",
                        l.signal->samples, l.group->gaps.size(), number(l, l.summary.min), number(l, l.summary.mean),
                        number(l, l.summary.max), unitText(l.signal->current().unit())));
    for (const RunGroup& g : run.groups)
        for (const Gap& gap : g.gaps)
            say(fmt::format("gap in {}/{} at {} s, {} s long, {} samples: {}", g.device, g.name,
                            secondsText((gap.from - run.span.from).ns), secondsText((gap.to - gap.from).ns),
                            gap.lostSamples, gap.cause));
    for (const RunVersion& v : run.versions)
        say(fmt::format("version {}{}: {} worked out again{}", v.id, v.id == run.version ? ", shown here" : "",
                        fmt::join(v.signals, ", "), v.words.empty() ? "" : " (" + v.words + ")"));
    for (const Text& p : run.problems) complain(p.english(), lostSamples);
    for (const RunEvent& e : run.events)
        say(fmt::format("{} at {} s: {}", e.kind, secondsText((e.at - run.span.from).ns), e.words));
    for (const RunMark& m : run.marks)
        say(fmt::format("mark at {} s: {}", secondsText((m.at - run.span.from).ns), m.words));
    return run.problems.empty() ? ok : lostSamples;
}

int exportRun(const std::string& run, const std::string& out, const ExportOptions& options) {
    ConsoleProgress progress;
    auto result = cruscotto::exportRun(run, out, options, progress);
    if (!result) return complain(result.error().english(), failed);
    say(result.value().rows ? fmt::format("{}: {} rows", out, result.value().rows) : out + ":");
    for (const auto& [signal, n] : result.value().samples) say(fmt::format("  {:<24} {:>12} samples", signal, n));
    if (result.value().damagedBlocks) {
        return complain(
            fmt::format("{} blocks of the run are damaged and were passed over.", result.value().damagedBlocks),
            lostSamples);
    }
    return ok;
}

int recompute(const RecomputeOptions& options) {
    auto opened = RunReader::open(options.run);
    if (!opened) return complain(opened.error().english(), badFile);
    const auto bench = openBench(options.bench);
    if (!bench) return badFile;
    std::vector<SignalSpec> corrected;
    if (options.signals.empty()) {
        corrected = correctedSignals(opened.value()->info(), *bench);
    } else {
        for (const std::string& id : options.signals) {
            const SignalSpec* s = bench->signal(id);
            if (!s) return complain(fmt::format("{} has no signal \"{}\".", options.bench, id), wrongUsage);
            corrected.push_back(*s);
        }
    }
    opened.value().reset();
    ConsoleProgress progress;
    const std::int64_t now =
        std::chrono::duration_cast<std::chrono::nanoseconds>(std::chrono::system_clock::now().time_since_epoch())
            .count();
    std::vector<Text> left;
    auto version = addRunVersion(options.run, corrected, options.words, now, progress, &left);
    if (!version) return complain(version.error().english(), failed);
    say(fmt::format("{}: version {}", options.run, version.value()));
    for (const Text& changed : whatChanged(options.run, version.value())) say("  " + changed.english());
    for (const Text& stays : left) say("  " + stays.english());
    return ok;
}

int describe(const DescribeOptions& options) {
    auto opened = RunReader::open(options.run);
    if (!opened) return complain(opened.error().english(), badFile);
    const RunInfo& run = opened.value()->info();
    RunNotes notes = run.notes;
    for (const auto& [words, given] :
         {std::pair{&RunNotes::title, &options.title}, std::pair{&RunNotes::person, &options.person},
          std::pair{&RunNotes::specimen, &options.specimen}, std::pair{&RunNotes::words, &options.notes},
          std::pair{&RunNotes::verdict, &options.verdict}})
        if (*given) notes.*words = **given;
    std::vector<RunMark> marks = run.marks;
    for (const std::string& asked : options.marks) {
        const auto at = asked.find('=');
        double s = 0;
        if (at == std::string::npos || !parseNumber(asked.substr(0, at), s) || !(std::abs(s) < 1e9))
            return complain("--mark takes SECONDS=WORDS, counted from the run's start, not \"" + asked + "\".",
                            wrongUsage);
        marks.push_back({run.span.from + seconds(s), asked.substr(at + 1)});
    }
    opened.value().reset();
    if (auto done = describeRun(options.run, notes, marks); !done) return complain(done.error().english(), failed);
    return ok;
}

/// The list before it counts, from some seconds of measuring. Outputs of real devices stay at rest.
static int checkLive(const Bench& bench, const CheckOptions& options) {
    EngineOptions engineOptions;
    engineOptions.outputsAtRest = drivesOutside(bench);
    auto engine = Engine::start(bench, engineOptions);
    pass(options.length, options.length, [] {});
    PreflightFacts facts{engine->deviceStatus(), today(), {}, 0, engine->lostSamples()};
    const Instant now = engine->now();
    std::error_code ec;
    if (const auto room = std::filesystem::space(std::filesystem::current_path(ec), ec); !ec)
        facts.freeBytes = room.available;
    if (now.seconds() > 0) facts.bytesPerSecond = static_cast<double>(engine->measuredBytes()) / now.seconds();
    const auto findings = preflight(bench, engine->source(), now, options.length, facts);
    engine->stop();
    const auto worst = worstOf(findings);
    if (options.json) {
        nlohmann::ordered_json j{{"grade", gradeWord(worst)}, {"findings", nlohmann::ordered_json::array()}};
        for (const PreflightFinding& f : findings) {
            nlohmann::ordered_json one{
                {"grade", gradeWord(f.grade)}, {"about", f.about}, {"topic", f.topic}, {"words", f.words.english()}};
            if (!f.remedy.empty()) one["do"] = f.remedy.english();
            j["findings"].push_back(std::move(one));
        }
        say(j.dump(2));
    } else {
        for (const PreflightFinding& f : findings)
            say(fmt::format("{:5}  {}: {}{}", gradeWord(f.grade), f.name, f.words.english(),
                            f.remedy.empty() ? std::string() : " " + f.remedy.english()));
    }
    return worst == PreflightFinding::Grade::red ? deviceTrouble : ok;
}

int check(const CheckOptions& options) {
    const std::string& path = options.bench;
    const auto bench = openBench(path);
    if (!bench) return badFile;
    if (options.write) {
        if (auto saved = saveBench(*bench, path); !saved) return complain(saved.error().english(), failed);
    }
    if (options.live) return checkLive(*bench, options);
    say(fmt::format("{}: fine. Devices: {}, signals: {}, pages: {}.", path, bench->devices.size(),
                    bench->signals.size(), bench->pages.size()));
    for (const Text& fight : fightingRules(*bench)) say(fight.english());
    return ok;
}

int writeBusDescription(const std::string& path, const std::string& device, const std::string& out, bool force) {
    const auto bench = openBench(path);
    if (!bench) return badFile;
    for (const auto& spec : bench->devices) {
        if (spec->kind != "can" || (!device.empty() && spec->id != device)) continue;
        const Dbc dbc = publishedDbc(*bench, *spec);
        if (dbc.messages.empty())
            return complain(
                fmt::format("{} publishes nothing: name the readings in its setting \"publish\".", spec->name), failed);
        auto file = NewFile::create(out, existing(force));
        if (!file) return complain(file.error().english(), failed);
        (void)file.value().write(writeDbc(dbc));  // what went wrong is said by the next
        if (auto put = file.value().put(); !put) return complain(put.error().english(), failed);
        say(fmt::format("{}: {} messages.", out, dbc.messages.size()));
        return ok;
    }
    return complain(
        device.empty() ? "The bench has no CAN bus." : fmt::format("The bench has no CAN bus \"{}\".", device), failed);
}

int replay(const ReplayCommand& command) {
    std::error_code ec;
    const std::string path = std::filesystem::absolute(command.run, ec).string();
    auto reader = RunReader::open(path, 0);
    if (!reader) return complain(reader.error().english(), badFile);
    const Bench bench = replayBench(reader.value()->info(), path, {command.speed, command.loop});
    if (auto saved = saveBench(bench, command.out, existing(command.force)); !saved)
        return complain(saved.error().english(), failed);
    say(fmt::format("{}: plays {}. Open it as any other bench.", command.out, command.run));
    return ok;
}

}  // namespace cruscotto::cli
