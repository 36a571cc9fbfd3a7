// What an export takes, beside writing as many bytes to the same disk in the same run.
#include <fcntl.h>
#include <sys/resource.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>

#include "benchmarks/beside.h"
#include "benchmarks/wide_bench.h"
#include "core/export/run_export.h"
#include "engine/engine.h"

using namespace cruscotto;

namespace {

namespace fs = std::filesystem;

struct Unwatched : Progress {
    void advance(std::uint64_t, std::uint64_t) override {}
    [[nodiscard]] bool cancelled() const override { return false; }
};

double processorSeconds() {
    rusage used{};
    getrusage(RUSAGE_SELF, &used);
    const auto of = [](const timeval& t) {
        return static_cast<double>(t.tv_sec) + static_cast<double>(t.tv_usec) * 1e-6;
    };
    return of(used.ru_utime) + of(used.ru_stime);
}

double seconds(std::chrono::steady_clock::time_point since) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - since).count();
}

/// So many readings of 32 signals.
std::string runOf(double millions) {
    const std::string path = scratch(fmt::format("export{}.run", millions).c_str());
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = cruscotto::seconds(millions / wideChannels);
    auto engine = Engine::startRecorded(wideBench(1e6), path, options);
    if (engine) engine.value()->wait();
    return path;
}

void onDisk(const std::string& path) {
    const int fd = ::open(path.c_str(), O_RDONLY);
    fdatasync(fd);
    ::close(fd);
}

/// As many bytes as the file that was exported last, out of memory to the disk.
void plainExport(benchmark::State& state, const std::string& name, std::size_t bytes) {
    std::vector<char> data(std::size_t{2} << 20, 'x');
    const std::string path = scratch("plain");
    double took = 0;
    for (auto _ : state) {
        const auto began = std::chrono::steady_clock::now();
        const int fd = ::open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0644);
        for (std::size_t done = 0; done < bytes; done += data.size())
            if (::write(fd, data.data(), std::min(data.size(), bytes - done)) < 0) state.SkipWithError("write");
        fdatasync(fd);
        ::close(fd);
        took += seconds(began);
        fs::remove(path);
    }
    reached(name) = static_cast<double>(state.iterations()) * static_cast<double>(bytes) / took;
    state.SetBytesProcessed(static_cast<std::int64_t>(static_cast<std::size_t>(state.iterations()) * bytes));
}

/// Readings of 32 signals to HDF5 until the disk has all of it, beside writing as many bytes.
void exportHdf5(benchmark::State& state) {
    static const std::string run = runOf(64);
    const std::string path = scratch("export.h5");
    double bytes = 0, took = 0;
    for (auto _ : state) {
        state.PauseTiming();
        fs::remove(path);
        state.ResumeTiming();
        const auto began = std::chrono::steady_clock::now();
        Unwatched progress;
        if (!exportRun(run, path, {}, progress)) state.SkipWithError("export");
        onDisk(path);
        bytes = static_cast<double>(fs::file_size(path));
        took += seconds(began);
    }
    state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(bytes));
    beside(state, "plainHdf5", static_cast<double>(state.iterations()) * bytes / took);
}

/// The same to CSV: bytes of text a second of one processor's time.
void exportCsvText(benchmark::State& state) {
    static const std::string run = runOf(8);
    const std::string path = scratch("export.csv");
    double bytes = 0, took = 0, processor = 0;
    for (auto _ : state) {
        const double used = processorSeconds();
        const auto began = std::chrono::steady_clock::now();
        Unwatched progress;
        if (!exportRun(run, path, {}, progress)) state.SkipWithError("export");
        processor += processorSeconds() - used;
        onDisk(path);
        bytes = static_cast<double>(fs::file_size(path));
        took += seconds(began);
    }
    state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(bytes));
    state.counters["MB/s of a core"] = static_cast<double>(state.iterations()) * bytes / processor * 1e-6;
    beside(state, "plainCsv", static_cast<double>(state.iterations()) * bytes / took);
}

void plainHdf5(benchmark::State& state) {
    plainExport(state, "plainHdf5", std::size_t{512} << 20);
}
void plainCsv(benchmark::State& state) {
    plainExport(state, "plainCsv", std::size_t{128} << 20);
}
BENCHMARK(plainHdf5)->Unit(benchmark::kMillisecond)->UseRealTime()->Iterations(8);
BENCHMARK(exportHdf5)->Unit(benchmark::kMillisecond)->UseRealTime()->Iterations(8);
BENCHMARK(plainCsv)->Unit(benchmark::kMillisecond)->UseRealTime()->Iterations(8);
BENCHMARK(exportCsvText)->Unit(benchmark::kMillisecond)->UseRealTime()->Iterations(8);

/// 2,016 signals at 10 samples a second, recorded in real time: of one core, and what the file grows by for each byte
/// of samples (it begins with the bench's description).
void manySlowSignals(benchmark::State& state) {
    struct Size {
        double file = 0, samples = 0;
    };
    double share = 0, lost = 0;
    const auto record = [&](int forSeconds) {
        const std::string path = scratch("slow.run");
        auto engine = Engine::startRecorded(wideBench(10, 63), path, {});
        if (!engine) return Size{};
        constexpr int beginning = 5;  // the memory is touched for the first time
        std::this_thread::sleep_for(std::chrono::seconds(beginning));
        const double used = processorSeconds();
        std::this_thread::sleep_for(std::chrono::seconds(forSeconds - beginning));
        share = (processorSeconds() - used) / (forSeconds - beginning) * 100;
        engine.value()->stop();
        lost += static_cast<double>(engine.value()->lostSamples() + engine.value()->recording().lost);
        return Size{static_cast<double>(fs::file_size(path)), static_cast<double>(engine.value()->measuredBytes())};
    };
    for (auto _ : state) {
        const Size less = record(20), more = record(80);
        state.counters["% of a core"] = share;
        state.counters["file/samples"] = (more.file - less.file) / (more.samples - less.samples);
        state.counters["lost"] = lost;
    }
}
BENCHMARK(manySlowSignals)->Unit(benchmark::kSecond)->UseRealTime()->Iterations(1);

}  // namespace
