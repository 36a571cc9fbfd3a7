// What the demo benches' outputs do when something makes them follow: the sorter's belt and its gate.
#include <cmath>

#include "core/bench/control_file.h"
#include "core/bench/rule_edits.h"
#include "core/run/run_reader.h"
#include "engine/run_source.h"
#include "scripted_device.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::TempFolder;

Bench sorter() {
    auto bench = loadBench(std::string(CRUSCOTTO_SOURCE) + "/examples/seed-sorter.bench");
    if (!bench) throw std::runtime_error(bench.error().english());
    return bench.value();
}
Bench with(Bench bench, const std::string& json) {
    auto control = controlFromText(bench, json);
    if (!control) throw std::runtime_error(control.error().english());
    bench.controls.clear();
    return withControl(bench, control.value());
}
std::unique_ptr<Engine> measured(const Bench& bench, double s, const std::string& run = {}) {
    EngineOptions o;
    o.pace = Pace::asFastAsPossible;
    o.until = seconds(s);
    std::unique_ptr<Engine> engine =
        run.empty() ? Engine::start(bench, o) : std::move(Engine::startRecorded(bench, run, o).value());
    engine->wait();
    return engine;
}

TEST(FollowDemo, TheBeltIsHeldAtItsSpeedThroughALoadStep) {
    Bench bench = with(sorter(), R"({"id": "belt", "output": "drive", "by": "pid", "signal": "belt-speed",
        "setpoint": 0.2, "unit": "m/s", "gain": 15, "integral-s": 0.8})");
    DeviceSpec box = *bench.devices.front();
    box.settings = R"({"scene": "seed-sorter", "seed": 1, "rate-hz": 1000,
                       "faults": [{"fault": "loaded-belt", "from-s": 15, "to-s": 60}]})";
    bench = withDevice(bench, box);
    const auto engine = measured(bench, 30);
    const auto mean = [&](double from, double to) {
        return engine->source().summaryOver("belt-speed", {Instant{} + seconds(from), Instant{} + seconds(to)}).mean;
    };
    EXPECT_NEAR(mean(12, 15), 0.2, 0.002) << "before the load";
    EXPECT_NEAR(mean(25, 30), 0.2, 0.002) << "with it";
    double least = 1;
    for (double t = 15; t < 20; t += 0.25) least = std::min(least, mean(t, t + 0.25));
    EXPECT_LT(least, 0.196) << "it was felt";
    EXPECT_GT(least, 0.15) << "and was on its way to 0.15, which nobody would have stopped";
    EXPECT_NEAR(engine->source().at("drive", engine->now()).value, 0.2 / 0.03, 0.1);
}

TEST(FollowDemo, TheGatesPatternIsRecordedFromTwoButtonsAndPlayedBack) {
    const TempFolder folder;
    const std::string run = folder.file("buttons.run");
    {
        // One button opens the gate, the other one closes it.
        Bench bench = sorter();
        for (const auto& [button, value] : {std::pair{"start-button", 1}, std::pair{"count-button", 0}}) {
            RuleSpec rule;
            rule.id = rule.name = button;
            rule.when = {.kind = ConditionKind::becomes, .of = button, .level = 1};
            rule.then = {{.kind = ActionKind::set, .on = "gate", .value = static_cast<double>(value)}};
            bench = withRule(bench, rule);
        }
        const auto engine = measured(bench, 30, run);
        engine->stop();
    }
    RunSource recorded(run);
    ASSERT_TRUE(eventually([&] { return recorded.state().done; }));
    std::vector<Point> pressed;
    ASSERT_TRUE(recorded.points("gate", recorded.extent(), 1000, pressed));
    const auto edges = [](const std::vector<Point>& points) {
        std::vector<double> out;
        for (std::size_t i = 1; i < points.size(); ++i)
            if (points[i].value != points[i - 1].value) out.push_back((points[i].t - points[0].t).seconds());
        return out;
    };
    const auto taught = edges(pressed);
    ASSERT_GE(taught.size(), 3U) << "somebody presses the buttons now and then";
    const double from = (pressed[0].t - recorded.extent().from).seconds();
    const Bench bench = with(sorter(), R"({"id": "g", "output": "gate", "by": "play", "shape": "run", "run": ")" + run +
                                           R"(", "run-signal": "gate", "from-s": )" + std::to_string(from) +
                                           R"(, "to-s": 30, "speed": 2})");
    const auto engine = measured(bench, 16);
    std::vector<Point> played;
    ASSERT_TRUE(engine->source().points("gate", {{0}, engine->now()}, 1000, played));
    const auto again = edges(played);
    ASSERT_GE(again.size() + 1, taught.size());
    // The distances between edges, at half their length; as fast as possible a block of samples is the step of time.
    const std::size_t n = std::min(again.size(), taught.size());
    for (std::size_t i = 1; i < n; ++i)
        EXPECT_NEAR(again[i] - again[i - 1], (taught[i] - taught[i - 1]) / 2, 0.06) << i;
}

}  // namespace
}  // namespace cruscotto
