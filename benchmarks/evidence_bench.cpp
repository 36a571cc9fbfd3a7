// True and false calls of the evidence, as the table of docs/trust.md: evidence_bench [HOURS [SHAPES]]
#include <fmt/format.h>

#include <cstdlib>
#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "core/evidence/evidence_watch.h"
#include "core/run/run_reader.h"
#include "devices/device_kind.h"
#include "engine/engine.h"
#include "tests/core/evidence/healthy_shapes.h"

using namespace cruscotto;

namespace {

Bench example(const std::string& name, const std::string& faults) {
    auto bench = loadBench(std::string(CRUSCOTTO_SOURCE) + "/examples/" + name + ".bench", checkDevices);
    if (!bench) {
        fmt::print(stderr, "{}\n", bench.error().english());
        std::exit(1);
    }
    DeviceSpec box = *bench.value().devices.front();
    auto settings = parseOrderedJson(box.settings);
    settings["faults"] = parseOrderedJson(faults);
    box.settings = jsonText(settings);
    return withDevice(bench.value(), box);
}

/// What is said of a bench while it runs for so long, as fast as it can.
std::vector<RunEvent> said(Bench bench, double time) {
    const std::string path = std::filesystem::temp_directory_path() / "cruscotto-evidence.run";
    std::filesystem::remove(path);
    // only what is said of it counts
    for (auto& signal : bench.signals) {
        SignalSpec little = *signal;
        little.keep.what = KeepSpec::What::summary;
        little.keep.intervalSeconds = 60;
        if (!signal->output) signal = std::make_shared<const SignalSpec>(little);
    }
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = seconds(time);
    auto engine = Engine::startRecorded(bench, path, options);
    if (!engine) {
        fmt::print(stderr, "{}\n", engine.error().english());
        std::exit(1);
    }
    engine.value()->wait();
    engine.value()->stop();
    std::vector<RunEvent> out;
    auto reader = RunReader::open(path);
    for (const RunEvent& e : reader.value()->info().events)
        if (e.kind == evidenceBegins || e.kind == evidenceEnds) out.push_back(e);
    std::filesystem::remove(path);
    return out;
}

void faults() {
    fmt::print(
        "| bench | fault, on from 20 s to 40 s | signal: what is said | said after | gone after "
        "|\n|---|---|---|---|---|\n");
    const std::vector<std::pair<std::string, std::vector<std::string>>> all{
        {"pump-bench", {"broken-outlet-wire", "clipped-vibration", "hum", "stalled-shaft", "dry-running"}},
        {"seed-sorter", {"broken-thermistor", "jammed-belt", "hum"}}};
    for (const auto& [bench, list] : all) {
        std::map<std::string, int> always;
        for (const RunEvent& e : said(example(bench, "[]"), 60))
            if (const auto noted = evidenceFromEvent(e.at, e.words); noted && e.kind == evidenceBegins)
                ++always[noted->signal + ": " + doubtKind(noted->evidence.doubt).key];
        for (const auto& [key, n] : always) fmt::print("| {} | none | {} | | |\n", bench, key);
        for (const std::string& fault : list) {
            const auto events = said(example(bench, R"([{"fault":")" + fault + R"(","from-s":20,"to-s":40}])"), 60);
            for (const RunEvent& e : events) {
                const auto noted = evidenceFromEvent(e.at, e.words);
                if (!noted || e.kind != evidenceBegins) continue;
                const std::string key = noted->signal + ": " + doubtKind(noted->evidence.doubt).key;
                if (always.contains(key)) continue;
                double over = -1;
                for (const RunEvent& end : events)
                    if (end.kind == evidenceEnds && end.words == key && end.at > e.at && over < 0)
                        over = (end.at - Instant{}).seconds();
                fmt::print("| {} | {} | {} ({}) | {:.1f} s | {:.1f} s |\n", bench, fault, key,
                           noted->evidence.grounds.english(), (e.at - Instant{}).seconds() - 20, over - 40);
            }
        }
    }
}

void healthy(double hours) {
    for (const char* name : {"pump-bench", "seed-sorter"}) {
        std::map<std::string, int> count;
        for (const RunEvent& e : said(example(name, "[]"), hours * 3600))
            if (const auto noted = evidenceFromEvent(e.at, e.words); noted && e.kind == evidenceBegins)
                ++count[noted->signal + ": " + doubtKind(noted->evidence.doubt).key];
        fmt::print("{} h of a healthy {}:\n", hours, name);
        for (const auto& [key, n] : count) fmt::print("  {} x {}\n", n, key);
    }
}

void shapes(unsigned each) {
    using test::HealthyShape;
    fmt::print("| shape | signals, 20 s each | suspicions | other doubts |\n|---|---|---|---|\n");
    for (int kind = 0; kind < HealthyShape::kinds; ++kind) {
        int suspicions = 0;
        std::map<std::string, int> others;
        for (unsigned seed = 0; seed < each; ++seed) {
            constexpr double rates[] = {100, 1000, 10'000};
            const double rate = rates[seed % 3];
            HealthyShape shape(static_cast<HealthyShape::Kind>(kind), seed * 7919 + static_cast<unsigned>(kind), rate);
            EvidenceWatch watch({10 / 32768.0, 0, "V", 1, 32768});
            std::map<std::string, bool> said;
            std::vector<double> second, thinned;
            std::uint64_t n = 0;
            for (int look = 1; look <= 20; ++look) {
                second.clear();
                for (int i = 0; i < static_cast<int>(rate); ++i) second.push_back(shape.next());
                n += second.size();
                thinned.clear();
                const std::size_t stride = rate > 1024 ? 10 : 1;
                for (std::size_t i = stride - 1; i < second.size(); i += stride) thinned.push_back(second[i]);
                const std::size_t most = std::min(second.size(), EvidenceWatch::mostSamples);
                watch.beginLook(Instant{} + seconds(look));
                EvidenceWatch::Stretch stretch{rate, n, std::span(second).last(most), thinned,
                                               rate / static_cast<double>(stride)};
                stretch.dense = [&](double, std::vector<double>& all) {
                    all = second;
                    return rate;
                };
                watch.analog(stretch, [] { return std::vector<std::pair<std::string, std::vector<double>>>(); });
                watch.endLook();
                for (const Evidence& e : watch.evidence()) said[doubtKind(e.doubt).key] = doubtKind(e.doubt).suspicion;
            }
            for (const auto& [key, suspicion] : said) {
                suspicions += suspicion;
                ++others[key];
                if (suspicion) fmt::print(stderr, "{} seed {}: {}\n", HealthyShape::names[kind], seed, key);
            }
        }
        std::string words;
        for (const auto& [key, count] : others)
            words += fmt::format("{}{} x {}", words.empty() ? "" : ", ", count, key);
        fmt::print("| {} | {} | {} | {} |\n", HealthyShape::names[kind], each, suspicions, words);
    }
}

}  // namespace

int main(int argc, char** argv) {
    const double hours = argc > 1 ? std::atof(argv[1]) : 24;
    shapes(argc > 2 ? static_cast<unsigned>(std::atoi(argv[2])) : 3000);
    faults();
    if (hours > 0) healthy(hours);
    return 0;
}
