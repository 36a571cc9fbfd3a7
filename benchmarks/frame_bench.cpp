// What a frame costs, beside what merely filling the window costs in the same run. Also the program's main().
#include <benchmark/benchmark.h>

#include <QApplication>
#include <QImage>

#include "app/main_window.h"
#include "app/theme.h"

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
