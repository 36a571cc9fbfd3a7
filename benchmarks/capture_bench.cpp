// The whole way from a device to the disk, beside what the machine itself can do in the same run.
#include <fcntl.h>
#include <unistd.h>

#include <chrono>
#include <cstring>
#include <deque>
#include <filesystem>
#include <mutex>

#include "benchmarks/beside.h"
#include "benchmarks/wide_bench.h"
#include "core/bench/control_file.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"
#include "core/chain/common_stages.h"
#include "core/history/signal_history.h"
#include "core/history/timeline.h"
#include "core/run/sample_codec.h"
#include "devices/device_kind.h"
#include "engine/engine.h"
#include "engine/run_source.h"

using namespace cruscotto;

namespace {

constexpr int channels = wideChannels;

double since(std::chrono::steady_clock::time_point then) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - then).count();
}

/// Writing as many plain bytes with write() and fdatasync every half second: the reference for the two below.
void plainFile(benchmark::State& state) {
    const auto total = static_cast<std::size_t>(state.range(0)) << 20;
    std::vector<char> data(std::size_t{2} << 20);
    for (std::size_t i = 0; i < data.size(); ++i) data[i] = static_cast<char>(i * 2654435761U >> 13);
    for (auto _ : state) {
        const auto began = std::chrono::steady_clock::now();
        const std::string path = scratch("plain");
        const int fd = ::open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0644);
        auto synced = std::chrono::steady_clock::now();
        for (std::size_t done = 0; done < total; done += data.size()) {
            if (::write(fd, data.data(), data.size()) < 0) state.SkipWithError("write");
            if (std::chrono::steady_clock::now() - synced > std::chrono::milliseconds(500)) {
                fdatasync(fd);
                synced = std::chrono::steady_clock::now();
            }
        }
        fdatasync(fd);
        ::close(fd);
        reached("plainFile") = std::max(reached("plainFile"), static_cast<double>(total) / since(began));
    }
    state.SetBytesProcessed(static_cast<std::int64_t>(state.iterations() * total));
}
BENCHMARK(plainFile)->Arg(1024)->Unit(benchmark::kMillisecond)->UseRealTime()->Iterations(2);

/// Copying in memory: what the memory does.
void copyMemory(benchmark::State& state) {
    std::vector<char> from(std::size_t{256} << 20, 1), to(from.size());
    for (auto _ : state) {
        const auto began = std::chrono::steady_clock::now();
        std::memcpy(to.data(), from.data(), from.size());
        benchmark::DoNotOptimize(to.data());
        benchmark::ClobberMemory();
        reached("copyMemory") = std::max(reached("copyMemory"), static_cast<double>(from.size()) / since(began));
    }
    state.SetBytesProcessed(static_cast<std::int64_t>(state.iterations() * from.size()));
}
BENCHMARK(copyMemory)->Unit(benchmark::kMillisecond);

BlockPtr noisyBlock(const std::shared_ptr<const ScanGroup>& group, std::size_t n, std::uint64_t first) {
    auto b = std::make_shared<Block>();
    b->group = group;
    b->firstIndex = first;
    b->t0 = {static_cast<std::int64_t>(first) * 1000};
    b->dtNs = 1000;
    for (std::size_t c = 0; c < group->channels.size(); ++c) {
        std::vector<std::int16_t> v(n);
        std::uint64_t state = first * 31 + c + 1;
        for (std::size_t i = 0; i < n; ++i) {
            state = state * 6364136223846793005ULL + 1442695040888963407ULL;
            const auto noise = static_cast<double>((state >> 33 & 63) + (state >> 40 & 63)) - 63;
            v[i] = static_cast<std::int16_t>(8000 * std::sin(static_cast<double>(i + c * 100) * 0.003) + noise);
        }
        b->columns.emplace_back(std::move(v));
    }
    return b;
}

/// The run store alone: bytes of samples a second, to compare with plainFile.
void runStore(benchmark::State& state) {
    const auto total = static_cast<std::size_t>(state.range(0)) << 20;
    auto group = std::make_shared<ScanGroup>();
    group->device = "box";
    group->name = "analog";
    group->rateHz = 1e6;
    std::vector<RecordedColumn> columns;
    for (std::size_t c = 0; c < channels; ++c) {
        group->channels.push_back({"AI" + std::to_string(c), SampleType::int16, ChannelKind::analogInput});
        columns.push_back({c, "in" + std::to_string(c)});
    }
    constexpr std::size_t n = 4096;
    std::vector<std::shared_ptr<Block>> blocks;
    for (std::uint64_t i = 0; i < 16; ++i) blocks.push_back(std::make_shared<Block>(*noisyBlock(group, n, i * n)));
    const Bench bench = wideBench(1e6);
    double stored = 0;
    double best = 0;
    for (auto _ : state) {
        const auto began = std::chrono::steady_clock::now();
        const std::string path = scratch("store.run");
        auto writer = RunWriter::create(path, bench, {});
        if (!writer) return state.SkipWithError("create");
        auto committed = std::chrono::steady_clock::now();
        std::uint64_t first = 0;
        for (std::size_t done = 0, i = 0; done < total; done += n * channels * 2, ++i) {
            auto& b = blocks[i % blocks.size()];
            b->firstIndex = first;
            b->t0 = {static_cast<std::int64_t>(first) * 1000};
            first += n;
            writer.value()->add(b, columns);
            if (writer.value()->pendingBytes() > (std::size_t{32} << 20) ||
                std::chrono::steady_clock::now() - committed > std::chrono::milliseconds(300)) {
                if (!writer.value()->commit()) state.SkipWithError("commit");
                committed = std::chrono::steady_clock::now();
            }
        }
        if (!writer.value()->close()) state.SkipWithError("close");
        stored = static_cast<double>(writer.value()->bytesOnDisk());
        best = std::max(best, static_cast<double>(total) / since(began));
    }
    beside(state, "plainFile", best);
    state.SetBytesProcessed(static_cast<std::int64_t>(state.iterations() * total));
    state.counters["stored/raw"] = stored / static_cast<double>(total);
}
BENCHMARK(runStore)->Arg(1024)->Unit(benchmark::kMillisecond)->UseRealTime()->Iterations(2);

/// What looking for evidence costs: the same bench captured with it and without it, by turns.
void evidenceShare(benchmark::State& state) {
    double with = 0, without = 0;
    for (auto _ : state)
        for (const bool looks : {true, false}) {
            EngineOptions options;
            options.pace = Pace::asFastAsPossible;
            options.until = seconds(static_cast<double>(state.range(1)));
            options.evidence = looks;
            const auto began = std::chrono::steady_clock::now();
            auto engine = Engine::start(wideBench(static_cast<double>(state.range(0))), options);
            engine->wait();
            (looks ? with : without) += since(began);
        }
    state.counters["share %"] = 100 * (with - without) / with;
}
BENCHMARK(evidenceShare)
    ->Args({1000, 300})
    ->Args({60'000, 20})
    ->Args({4'000'000, 2})
    ->Unit(benchmark::kMillisecond)
    ->UseRealTime()
    ->Iterations(5);

void packSamples(benchmark::State& state) {
    auto group = std::make_shared<ScanGroup>();
    group->channels = {{"AI0", SampleType::int16, ChannelKind::analogInput}};
    const auto block = noisyBlock(group, 65'536, 0);
    std::vector<std::byte> data;
    for (auto _ : state) {
        data.clear();
        benchmark::DoNotOptimize(codec::encode(block->columns[0], data));
    }
    state.SetItemsProcessed(static_cast<std::int64_t>(state.iterations()) * 65'536);
}
BENCHMARK(packSamples);

void unpackSamples(benchmark::State& state) {
    auto group = std::make_shared<ScanGroup>();
    group->channels = {{"AI0", SampleType::int16, ChannelKind::analogInput}};
    const auto block = noisyBlock(group, 65'536, 0);
    std::vector<std::byte> data;
    const auto packing = codec::encode(block->columns[0], data);
    Samples out;
    for (auto _ : state) benchmark::DoNotOptimize(codec::decode(packing, data, SampleType::int16, 65'536, out));
    state.SetItemsProcessed(static_cast<std::int64_t>(state.iterations()) * 65'536);
}
BENCHMARK(unpackSamples);

/// Device, chains, history and run store together, as fast as they go; samples a second over all channels.
void capture(benchmark::State& state) {
    const bool recorded = state.range(0) != 0;
    constexpr double rate = 1e6;
    std::uint64_t samples = 0, lost = 0;
    const auto began = std::chrono::steady_clock::now();
    for (auto _ : state) {
        EngineOptions options;
        options.pace = Pace::asFastAsPossible;
        options.until = seconds(static_cast<double>(state.range(1)));
        std::unique_ptr<Engine> engine;
        if (recorded) {
            auto started = Engine::startRecorded(wideBench(rate), scratch("capture.run"), options);
            if (!started) return state.SkipWithError("start");
            engine = std::move(started.value());
        } else {
            engine = Engine::start(wideBench(rate), options);
        }
        engine->wait();
        engine->stop();
        samples += engine->measuredBytes() / 2;
        lost += engine->lostSamples() + engine->recording().lost;
    }
    const double speed = static_cast<double>(samples) / since(began);
    if (recorded) reached("capture") = std::max(reached("capture"), speed);
    beside(state, "copyMemory", 2 * speed);
    state.SetItemsProcessed(static_cast<std::int64_t>(samples));
    state.counters["lost"] = static_cast<double>(lost);
}
BENCHMARK(capture)
    ->ArgNames({"recorded", "seconds"})
    ->Args({0, 10})
    ->Args({1, 10})
    ->Args({1, 60})
    ->Unit(benchmark::kMillisecond)
    ->UseRealTime()
    ->Iterations(1);

/// Hands over one reading every few milliseconds and measures how long it takes until the output that depends on it is
/// set: it goes through the queue, the chain, the history and the rule.
class Probe : public Device {
public:
    explicit Probe(std::vector<double>& latencies) : latencies_(latencies) {}
    void run(DeviceSink& sink, std::stop_token stop) override {
        auto group = std::make_shared<ScanGroup>();
        group->device = "probe";
        group->name = "probe";
        group->channels = {{"in", SampleType::float64, ChannelKind::analogInput}};
        sink.report({});
        for (std::uint64_t i = 0; !stop.stop_requested(); ++i) {
            std::this_thread::sleep_for(std::chrono::microseconds(2500));
            auto block = std::make_shared<Block>();
            block->group = group;
            block->firstIndex = i;
            block->times = {sink.now()};
            block->columns.emplace_back(std::vector<double>{i % 2 ? 1.0 : 0.0});
            {
                const std::lock_guard lock(mutex_);
                sent_.push_back({std::chrono::steady_clock::now(), i % 2 == 1});
            }
            sink.deliver(std::move(block));
        }
    }
    void setOutput(const std::string&, double value) override {
        const auto now = std::chrono::steady_clock::now();
        const std::lock_guard lock(mutex_);
        // Each reading turns the output over, and none is forgotten: those that waited behind others count too.
        while (!sent_.empty()) {
            const auto [at, on] = sent_.front();
            sent_.pop_front();
            latencies_.push_back(std::chrono::duration<double, std::milli>(now - at).count());
            if (on == (value > 0.5)) break;
        }
    }
    bool reconfigure(const JsonText&, const std::vector<TerminalRequest>&) override { return true; }

private:
    std::vector<double>& latencies_;
    std::mutex mutex_;
    std::deque<std::pair<std::chrono::steady_clock::time_point, bool>> sent_;
};

/// So many million samples a second, and the probe.
Bench probedBench(double million) {
    Bench bench = wideBench(std::max(1.0, million * 1e6 / channels));
    bench = withDevice(bench, {"probe", "Probe", "probe", "", ""});
    SignalSpec in, out;
    in.id = in.name = "probe-in";
    in.device = out.device = "probe";
    in.terminal = "in";
    out.id = out.name = "probe-out";
    out.terminal = "out";
    out.kind = ChannelKind::analogOutput;
    out.output = OutputSpec{};
    return withSignal(withSignal(bench, in), out);
}

/// Ten seconds of the bench, recorded in real time; what the probe found in the last eight of them, in milliseconds.
void probe(benchmark::State& state, const Bench& bench, std::vector<double>& found,
           const std::function<std::unique_ptr<Device>()>& make) {
    EngineOptions options;
    DeviceKind probe;
    probe.key = "probe";
    probe.check = [](const JsonText&) -> Result<void> { return {}; };
    probe.make = [&](const auto&, const auto&, const auto&) { return make(); };
    std::vector<DeviceKind> kinds = deviceKinds();
    kinds.push_back(probe);
    options.kinds = std::make_shared<const DeviceKinds>(std::move(kinds));
    auto engine = Engine::startRecorded(bench, scratch("latency.run"), options);
    if (!engine) return state.SkipWithError("start");
    std::this_thread::sleep_for(std::chrono::seconds(2));  // the memory is touched for the first time
    const std::uint64_t before = engine.value()->measuredBytes();
    const std::size_t skipped = found.size();
    std::this_thread::sleep_for(std::chrono::seconds(8));
    const double rate = static_cast<double>(engine.value()->measuredBytes() - before) / 2 / 8e6;
    engine.value()->stop();
    found.erase(found.begin(), found.begin() + static_cast<std::ptrdiff_t>(skipped));
    state.counters["M samples/s"] = rate;
    state.counters["lost"] = static_cast<double>(engine.value()->lostSamples() + engine.value()->recording().lost);
}

void tellTimes(benchmark::State& state, std::vector<double> ms) {
    std::sort(ms.begin(), ms.end());
    const auto at = [&](double p) {
        return ms.empty() ? 0 : ms[static_cast<std::size_t>(p * static_cast<double>(ms.size() - 1))];
    };
    state.counters["p50 ms"] = at(0.5);
    state.counters["p99 ms"] = at(0.99);
    state.counters["worst ms"] = at(1);
    state.counters["n"] = static_cast<double>(ms.size());
}

/// From a block's arrival to the output it causes, in milliseconds, while so many million samples a second are recorded
/// in real time; -1: half of the most that was captured in this run.
void ruleLatency(benchmark::State& state) {
    const double million = state.range(0) >= 0 ? static_cast<double>(state.range(0)) : reached("capture") * 0.5e-6;
    if (million == 0 && state.range(0) < 0) return state.SkipWithError("run capture too");
    std::vector<double> latencies;
    // As a guard door's contact holds a drive.
    Bench bench = probedBench(million);
    bench = withRule(bench, ruleFromText(bench, R"({"id": "guard", "when": {"is": "above", "signal": "probe-in",
        "level": 0.5}, "then": [{"do": "hold", "output": "probe-out", "value": 1}]})")
                                .value());
    for (auto _ : state) probe(state, bench, latencies, [&] { return std::make_unique<Probe>(latencies); });
    tellTimes(state, latencies);
}
BENCHMARK(ruleLatency)
    ->ArgName("M")
    ->Arg(0)
    ->Arg(10)
    ->Arg(50)
    ->Arg(-1)
    ->Unit(benchmark::kSecond)
    ->UseRealTime()
    ->Iterations(1);

/// Is set every ten milliseconds, and keeps when that was.
class PlayedProbe : public Device {
public:
    explicit PlayedProbe(std::vector<double>& times) : times_(times) {}
    void run(DeviceSink& sink, std::stop_token stop) override {
        sink.report({});
        while (!stop.stop_requested()) std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    void setOutput(const std::string&, double) override {
        times_.push_back(static_cast<double>(std::chrono::steady_clock::now().time_since_epoch().count()) * 1e-6);
    }
    bool reconfigure(const JsonText&, const std::vector<TerminalRequest>&) override { return true; }

private:
    std::vector<double>& times_;
};

/// How far from their time values that are played every ten milliseconds reach their device, either way; their time is
/// that of the median.
void playedTiming(benchmark::State& state) {
    constexpr double everyMs = 10;  // later than half of it cannot be told from earlier
    std::vector<double> times;
    Bench bench = probedBench(static_cast<double>(state.range(0)));
    ControlSpec play;
    play.id = play.name = "play";
    play.output = "probe-out";
    play.kind = ControlKind::play;
    play.played.points = {{0, 0}, {everyMs * 1e-3, 1}};
    play.played.lasts = 2 * everyMs * 1e-3;
    play.played.times = 0;
    bench = withControl(bench, play);
    for (auto _ : state) probe(state, bench, times, [&] { return std::make_unique<PlayedProbe>(times); });
    std::vector<double> late;
    for (const double t : times) late.push_back(t - everyMs * std::round((t - times.front()) / everyMs));
    if (late.empty()) return state.SkipWithError("nothing was played");
    std::vector<double> sorted = late;
    std::nth_element(sorted.begin(), sorted.begin() + static_cast<std::ptrdiff_t>(sorted.size() / 2), sorted.end());
    for (double& l : late) l = std::fabs(std::remainder(l - sorted[sorted.size() / 2], everyMs));
    state.counters["missed"] =
        std::round((times.back() - times.front()) / everyMs) + 1 - static_cast<double>(times.size());
    tellTimes(state, late);
}
BENCHMARK(playedTiming)->ArgName("M")->Arg(0)->Arg(10)->Unit(benchmark::kSecond)->UseRealTime()->Iterations(1);

/// Ten to the nine samples over 32 channels, recorded once for all that follow.
const std::string& longRun() {
    static const std::string path = [] {
        std::string p = scratch("long.run");
        EngineOptions options;
        options.pace = Pace::asFastAsPossible;
        options.until = seconds(31.25);
        auto engine = Engine::startRecorded(wideBench(1e6), p, options);
        if (engine) engine.value()->wait();
        return p;
    }();
    return path;
}

/// Reading the same file once from end to end: the reference for opening it.
void readLongFile(benchmark::State& state) {
    std::vector<char> data(std::size_t{2} << 20);
    (void)longRun();  // made before the time is taken
    for (auto _ : state) {
        const auto began = std::chrono::steady_clock::now();
        const int fd = ::open(longRun().c_str(), O_RDONLY);
        while (::read(fd, data.data(), data.size()) > 0) benchmark::DoNotOptimize(data.data());
        ::close(fd);
        reached("readLongFile") = std::max(reached("readLongFile"), 1 / since(began));
    }
}
BENCHMARK(readLongFile)->Unit(benchmark::kMillisecond)->UseRealTime()->Iterations(3);

/// From nothing to columns for 1200 pixels over the whole length.
void openLongRun(benchmark::State& state) {
    std::vector<Column> columns;
    (void)longRun();
    double best = 0;
    for (auto _ : state) {
        const auto began = std::chrono::steady_clock::now();
        RunSource run(longRun());
        while (!run.state().opened) std::this_thread::yield();
        const Span all = run.extent();
        run.columns("in0", {all.from, {(all.to - all.from).ns / 1200 + 1}, 1200}, columns);
        if (columns[600].summary.count == 0) state.SkipWithError("empty");
        best = std::max(best, 1 / since(began));
    }
    beside(state, "readLongFile", best);
}
BENCHMARK(openLongRun)->Unit(benchmark::kMillisecond)->UseRealTime()->Iterations(10);

/// A step of a pan or zoom of eight signals at 1200 pixels; the argument is the window as 1 part in so many.
void panLongRun(benchmark::State& state) {
    RunSource run(longRun());
    while (!run.state().opened) std::this_thread::yield();
    const Span all = run.extent();
    const std::int64_t length = (all.to - all.from).ns;
    const std::int64_t width = std::max<std::int64_t>(1, length / state.range(0) / 1200);
    std::vector<Column> columns;
    std::int64_t at = 0;
    double slowest = 0;
    for (auto _ : state) {
        at = (at + length / 97) % (length - 1200 * width);
        const auto began = std::chrono::steady_clock::now();
        for (int s = 0; s < 8; ++s)
            run.columns("in" + std::to_string(s), {{at / width * width}, {width}, 1200}, columns);
        slowest = std::max(slowest,
                           std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - began).count());
    }
    state.counters["slowest ms"] = slowest;
}
BENCHMARK(panLongRun)->Arg(2)->Arg(100)->Arg(10'000)->Unit(benchmark::kMicrosecond)->Iterations(300)->UseRealTime();

/// The means of all signals over all of it, from the pyramids: of 10^9 samples together.
void meanOfLongRun(benchmark::State& state) {
    RunSource run(longRun());
    while (!run.state().done) std::this_thread::yield();
    const Span all{run.extent().from, run.extent().to + nanoseconds(1)};
    double best = 0, samples = 0;
    bool exact = true;
    for (auto _ : state) {
        const auto began = std::chrono::steady_clock::now();
        samples = 0;
        for (int s = 0; s < 32; ++s) {
            const StretchSummary over = run.summaryOver("in" + std::to_string(s), all);
            samples += static_cast<double>(over.count);
            exact = exact && over.exact && std::isfinite(over.mean);
        }
        best = std::max(best, 1 / since(began));
    }
    state.counters["samples"] = samples;
    state.counters["exact"] = exact;
    beside(state, "readLongFile", best);
}
BENCHMARK(meanOfLongRun)->Unit(benchmark::kMillisecond)->UseRealTime()->Iterations(10);

/// From a jump to a place nobody has looked at until its single samples are there: one signal, ten milliseconds wide.
void refineLongRun(benchmark::State& state) {
    RunSource run(longRun());
    while (!run.state().opened) std::this_thread::yield();
    std::int64_t at = 1'000'000'000;
    for (auto _ : state) {
        at = (at + 1'234'567'890) % 30'000'000'000;
        while (run.at("in3", {at}).summary) std::this_thread::yield();
    }
}
BENCHMARK(refineLongRun)->Unit(benchmark::kMillisecond)->Iterations(20)->UseRealTime();

/// The overview of a live history of so many samples.
void liveOverview(benchmark::State& state) {
    auto group = std::make_shared<ScanGroup>();
    group->rateHz = 1e6;
    group->channels = {{"AI0", SampleType::int16, ChannelKind::analogInput}};
    auto timeline = std::make_shared<Timeline>(4096);
    SignalHistory history(timeline, SampleType::int16, {});
    const BlockPtr noise = noisyBlock(group, 1'000'000, 0);
    auto evaluator = ChainEvaluator::make({countsToVolts()}, ChannelKind::analogInput);
    Readings readings;
    evaluator.value().process(*noise, 0, readings);
    for (std::int64_t done = 0; done < state.range(0); done += 1'000'000) {
        Block b = *noise;
        b.t0 = {done * 1000};
        timeline->append(b);
        history.append(b.columns[0], readings);
    }
    std::vector<Column> columns;
    const std::int64_t width = state.range(0) * 1000 / 1200 + 1;
    for (auto _ : state) history.columns({{0}, {width}, 1200}, columns);
}
BENCHMARK(liveOverview)->Arg(1'000'000)->Arg(10'000'000)->Arg(100'000'000)->Unit(benchmark::kMicrosecond);

}  // namespace
