// What a frame costs, beside what merely filling the window costs in the same run. Also the program's main().
#include <benchmark/benchmark.h>

#include <fmt/format.h>

#include <QApplication>
#include <QImage>
#include <QTimer>
#include <algorithm>
#include <chrono>
#include <filesystem>
#include <functional>

#include "app/shell/main_window.h"
#include "app/widgets/theme.h"
#include "core/chain/common_stages.h"

using namespace cruscotto;

namespace {

/// Filling 1280 x 800 pixels once: the least that a picture of that size costs in software.
void fillWindow(benchmark::State& state) {
    QImage image(1280, 800, QImage::Format_RGB32);
    std::uint32_t colour = 0;
    for (auto _ : state) {
        image.fill(++colour);
        benchmark::DoNotOptimize(image.constBits());
    }
}
BENCHMARK(fillWindow)->Unit(benchmark::kMicrosecond);

/// The demo's page at 1280 x 800, everything on it moving at every frame, sixty frames to a second of bench time; the
/// argument is the traces' window in seconds.
void pageFrame(benchmark::State& state) {
    MainWindow window;
    window.forgetSettings();
    window.stopClock();
    window.resize(1280, 800);
    auto bench = loadBench(std::string(CRUSCOTTO_SOURCE) + "/examples/pump-bench.bench");
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = seconds(120);
    window.session().openBenchDocument(bench.value(), options);
    window.session().engine()->wait();
    window.show();
    window.session().cursor().setWindow(seconds(static_cast<double>(state.range(0))));
    std::int64_t frame = 0;
    for (auto _ : state) {
        window.session().cursor().goTo({60'000'000'000 + frame * 16'666'667 % 50'000'000'000});
        window.frame(frame % 12 == 0);
        QApplication::processEvents();
        ++frame;
    }
    window.closeWithoutAsking();
}
BENCHMARK(pageFrame)->Arg(5)->Arg(30)->Arg(60)->Unit(benchmark::kMicrosecond);

/// Frames at the window's rhythm for twelve seconds. A block that arrives, one every millisecond, counts from its
/// arrival until the frame that asks for the readings after it has been painted.
void watchFrames(benchmark::State& state, const std::function<void(int)>& frame) {
    using Clock = std::chrono::steady_clock;
    struct Frame {
        Clock::time_point asked, painted;
    };
    std::vector<Frame> frames;
    QTimer timer;
    timer.setTimerType(Qt::PreciseTimer);
    int n = 0;
    QObject::connect(&timer, &QTimer::timeout, [&] {
        const auto asked = Clock::now();
        frame(n++);
        frames.push_back({asked, Clock::now()});
    });
    timer.start(16);
    const auto began = Clock::now();
    while (Clock::now() - began < std::chrono::seconds(12))
        QCoreApplication::processEvents(QEventLoop::WaitForMoreEvents);
    timer.stop();
    std::vector<double> latencies;
    for (std::size_t i = 1; i < frames.size(); ++i) {
        if (frames[i].asked - began < std::chrono::seconds(2)) continue;  // memory is touched for the first time
        for (auto at = frames[i - 1].asked; at < frames[i].asked; at += std::chrono::milliseconds(1))
            latencies.push_back(std::chrono::duration<double, std::milli>(frames[i].painted - at).count());
    }
    std::sort(latencies.begin(), latencies.end());
    const auto at = [&](double p) {
        return latencies[static_cast<std::size_t>(p * static_cast<double>(latencies.size() - 1))];
    };
    state.counters["p50 ms"] = at(0.5);
    state.counters["p99 ms"] = at(0.99);
    state.counters["worst ms"] = at(1);
}

/// The reference: the same rhythm, and every frame merely fills as many pixels.
void plainRhythm(benchmark::State& state) {
    QImage image(1280, 800, QImage::Format_RGB32);
    for (auto _ : state)
        watchFrames(state, [&](int n) {
            image.fill(static_cast<std::uint32_t>(n));
            benchmark::DoNotOptimize(image.constBits());
        });
}
BENCHMARK(plainRhythm)->Unit(benchmark::kSecond)->UseRealTime()->Iterations(1);

/// From a block's arrival to the painted pixel: the demo's page live at 1280 x 800, while so many million samples a
/// second are measured and recorded beside it.
void paintedLatency(benchmark::State& state) {
    for (auto _ : state) {
        auto bench = loadBench(std::string(CRUSCOTTO_SOURCE) + "/examples/pump-bench.bench").value();
        constexpr int channels = 32;
        if (state.range(0) > 0) {
            bench = withDevice(bench, {"fast", "Fast box", "sim-fast-box",
                                       fmt::format(R"({{"channels":{},"rate-hz":{}}})", channels,
                                                   static_cast<double>(state.range(0)) * 1e6 / channels),
                                       ""});
            for (int c = 0; c < channels; ++c) {
                SignalSpec s;
                s.id = s.name = fmt::format("fast-{}", c);
                s.device = "fast";
                s.terminal = fmt::format("AI{}", c);
                s.chain = {countsToVolts(), slopeOffset(2, 1, "bar")};
                bench = withSignal(bench, s);
            }
        }
        MainWindow window;
        window.forgetSettings();
        window.stopClock();
        window.resize(1280, 800);
        window.session().openBenchDocument(bench);
        window.show();
        const std::string path = (std::filesystem::temp_directory_path() / "cruscotto-painted.run").string();
        std::filesystem::remove(path);
        if (!window.session().engine()->startRecording(path).ok()) return state.SkipWithError("recording");
        watchFrames(state, [&](int n) {
            window.frame(n % 12 == 0);
            QCoreApplication::sendPostedEvents();
            QCoreApplication::processEvents(QEventLoop::ExcludeUserInputEvents);
        });
        window.closeWithoutAsking();
        std::filesystem::remove(path);
    }
}
BENCHMARK(paintedLatency)
    ->ArgName("M")
    ->Arg(0)
    ->Arg(10)
    ->Arg(50)
    ->Unit(benchmark::kSecond)
    ->UseRealTime()
    ->Iterations(1);

}  // namespace

int main(int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    QApplication app(argc, argv);
    QApplication::setStyle("Fusion");
    applyTheme(false);
    benchmark::Initialize(&argc, argv);
    benchmark::RunSpecifiedBenchmarks();
    return 0;
}
