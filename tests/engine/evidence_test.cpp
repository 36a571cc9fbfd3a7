// What is said of the demo benches while their faults are on, live and in the run.
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "core/run/run_reader.h"
#include "engine/engine.h"
#include "engine/preflight.h"
#include "engine/run_source.h"
#include "support.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::TempFolder;

Bench withFault(const std::string& example, const std::string& fault) {
    const Bench bench = test::exampleBench(example);
    DeviceSpec box = *bench.devices.front();
    auto settings = parseOrderedJson(box.settings);
    settings["faults"] = nlohmann::ordered_json::array();
    if (!fault.empty()) settings["faults"].push_back({{"fault", fault}, {"from-s", 12}, {"to-s", 22}});
    box.settings = jsonText(settings);
    return withDevice(bench, box);
}

struct Recorded {
    TempFolder folder;
    std::string path = folder.file("a.run");
    explicit Recorded(const Bench& bench, double time = 30) {
        EngineOptions options;
        options.pace = Pace::asFastAsPossible;
        options.until = seconds(time);
        auto engine = Engine::startRecorded(bench, path, options);
        if (!engine) throw std::runtime_error(engine.error().english());
        engine.value()->wait();
        engine.value()->stop();
    }
};

struct Case {
    const char *bench, *fault, *signal;
    Doubt doubt;
};
const Case cases[] = {{"pump-bench", "broken-outlet-wire", "outlet-pressure", Doubt::openSensor},
                      {"pump-bench", "clipped-vibration", "vibration", Doubt::flatTops},
                      {"pump-bench", "hum", "inlet-pressure", Doubt::hums},
                      {"pump-bench", "stalled-shaft", "shaft-speed", Doubt::disagrees},
                      {"pump-bench", "dry-running", "pressure-rise", Doubt::disagrees},
                      {"seed-sorter", "broken-thermistor", "drum", Doubt::openSensor},
                      {"seed-sorter", "jammed-belt", "belt-speed", Doubt::disagrees},
                      {"seed-sorter", "hum", "hopper", Doubt::hums}};

TEST(EvidenceOfFaults, EachIsNamedWithinFiveSecondsAndClearedWithinFive) {
    for (const Case& c : cases) {
        SCOPED_TRACE(c.fault);
        const Recorded run(withFault(c.bench, c.fault));
        RunSource source(run.path);
        ASSERT_TRUE(eventually([&] { return source.state().done; }));
        const auto says = [&](double at) {
            for (const Evidence& e : source.evidenceAt(c.signal, Instant{} + seconds(at)))
                if (e.doubt == c.doubt) return true;
            return false;
        };
        EXPECT_FALSE(says(11.9));
        EXPECT_TRUE(says(17));
        EXPECT_FALSE(says(27));
    }
}

TEST(EvidenceOfFaults, WhatIsUnderSuspicionIsSuspectInTheRunAndItsNumbersAreTheSame) {
    const Recorded run(withFault("pump-bench", "clipped-vibration"));
    RunSource source(run.path);
    ASSERT_TRUE(eventually([&] { return source.state().done; }));
    EXPECT_EQ(source.at("vibration", Instant{} + seconds(11)).quality, Quality::good);
    EXPECT_EQ(source.at("vibration", Instant{} + seconds(18)).quality, Quality::suspect);
    EXPECT_EQ(source.at("vibration", Instant{} + seconds(28)).quality, Quality::good);
    EXPECT_EQ(source.at("spare", Instant{} + seconds(18)).quality, Quality::suspect) << "nothing is connected there";
    EXPECT_EQ(source.at("inlet-pressure", Instant{} + seconds(18)).quality, Quality::good);
    const double raw = source.stagesAt("vibration", Instant{} + seconds(18))[0];
    EXPECT_NEAR(source.at("vibration", Instant{} + seconds(18)).value, raw * 0.4 / 65536 * 10, 1e-9);
}

/// Its amplifier's rail at the highest gain, slow and sampled fast.
TEST(EvidenceOfFaults, TheSorterSieveIsSaidToStandAtItsRail) {
    const Recorded run(test::exampleBench("seed-sorter"), 12);
    RunSource source(run.path);
    ASSERT_TRUE(eventually([&] { return source.state().done; }));
    for (const double at : {4.0, 6.0, 8.0, 10.0}) {
        const auto evidence = source.evidenceAt("sieve", Instant{} + seconds(at));
        EXPECT_NE(std::ranges::find(evidence, Doubt::flatTops, &Evidence::doubt), evidence.end()) << at;
    }
}

TEST(EvidenceOfFaults, PreflightSaysItWithTheRemedy) {
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = seconds(15);
    const Bench bench = withFault("pump-bench", "clipped-vibration");
    const auto engine = Engine::start(bench, options);
    engine->wait();
    const auto found = preflight(bench, engine->source(), engine->now(), seconds(2), {});
    const auto spare = std::ranges::find_if(
        found, [](const PreflightFinding& f) { return f.about == "spare" && f.grade == PreflightFinding::Grade::red; });
    ASSERT_NE(spare, found.end());
    EXPECT_EQ(spare->topic, "connected");
    EXPECT_NE(spare->words.english().find("not connected"), std::string::npos) << spare->words.english();
    EXPECT_FALSE(spare->remedy.empty());
    EXPECT_TRUE(std::ranges::any_of(found, [](const PreflightFinding& f) {
        return f.about == "vibration" && f.words.english().find("flat tops") != std::string::npos;
    }));
}

/// What pulling the load told of the signal, if it has.
bool pulled(const Engine& engine, const char* signal, Doubt doubt) {
    return std::ranges::any_of(engine.source().evidenceAt(signal, engine.now()),
                               [&](const Evidence& e) { return e.doubt == doubt && e.sure == 1; });
}

TEST(EvidenceLive, CheckingAConnectionPullsTheInputAndLetsGoOfIt) {
    const Bench bench = withFault("pump-bench", "");
    const auto engine = Engine::start(bench);
    const auto says = [&](const char* signal, Doubt doubt) { return pulled(*engine, signal, doubt); };
    ASSERT_TRUE(eventually([&] { return engine->now() > Instant{} + milliseconds(500); }));
    const double before = engine->source().at("inlet-pressure", engine->now()).value;
    engine->checkConnection("inlet-pressure");
    EXPECT_TRUE(eventually([&] { return says("inlet-pressure", Doubt::connected); }));
    EXPECT_TRUE(eventually([&] {
        const Reading r = engine->source().at("inlet-pressure", engine->now());
        return r.quality == Quality::good && std::fabs(r.value - before) < 0.15;
    })) << "the load is off again";
    engine->checkConnection("spare");
    EXPECT_TRUE(eventually([&] { return says("spare", Doubt::notConnected); }));
    engine->checkConnection("drive");  // an output is never pulled
    engine->tell("box-temperature", 90, 1);
    EXPECT_TRUE(eventually([&] {
        const auto all = engine->source().evidenceAt("box-temperature", engine->now());
        return std::ranges::find(all, Doubt::notAsTold, &Evidence::doubt) != all.end();
    }));
    engine->tell("box-temperature", {});
    EXPECT_TRUE(eventually([&] { return engine->source().evidenceAt("box-temperature", engine->now()).empty(); }));
}

TEST(EvidenceLive, AnEditWhileAnInputIsPulledLetsGoOfItAndTellsNothing) {
    Bench bench = withFault("pump-bench", "");
    const auto engine = Engine::start(bench);
    const auto past = [&](Instant t) { return eventually([&] { return engine->now() > t; }); };
    ASSERT_TRUE(past(Instant{} + milliseconds(500)));
    engine->checkConnection("spare");
    bench.name = "Edited meanwhile";
    engine->apply(bench);
    ASSERT_TRUE(past(engine->now() + milliseconds(2500))) << "longer than a check takes";
    EXPECT_FALSE(pulled(*engine, "spare", Doubt::notConnected));
    EXPECT_LT(std::fabs(engine->source().at("spare", engine->now()).value), 1) << "it floats";
    engine->checkConnection("spare");
    EXPECT_TRUE(eventually([&] { return pulled(*engine, "spare", Doubt::notConnected); })) << "the next one begins";
}

TEST(EvidenceBench, APairMustBeThereAndOfOneKindAndGoesWithItsSignal) {
    const Bench bench = test::exampleBench("pump-bench");
    SignalSpec speed = *bench.signal("shaft-speed");
    ASSERT_TRUE(speed.agrees);
    EXPECT_TRUE(checkAgrees(bench, speed).ok());
    speed.agrees->with = "water-temperature";
    EXPECT_NE(checkAgrees(bench, speed).error().english().find("cannot be told"), std::string::npos);
    speed.agrees->with = "nothing";
    EXPECT_FALSE(checkAgrees(bench, speed).ok());
    speed.agrees->with = "shaft-speed";
    EXPECT_FALSE(checkAgrees(bench, speed).ok());
    EXPECT_FALSE(withoutSignal(bench, "speed-by-drive").signal("shaft-speed")->agrees);
    SignalSpec other = *bench.signal("speed-by-drive");
    other.chain = {other.chain.front()};  // in volts
    EXPECT_FALSE(withSignal(bench, other).signal("shaft-speed")->agrees) << "else the bench would not open again";
    const auto back = signalFromJson(signalToJson(*bench.signal("shaft-speed")));
    ASSERT_TRUE(back.ok());
    EXPECT_EQ(back.value().agrees, bench.signal("shaft-speed")->agrees);
}

}  // namespace
}  // namespace cruscotto
