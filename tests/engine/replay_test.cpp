#include <cmath>
#include <set>

#include "core/run/run_reader.h"
#include "core/run/run_writer.h"
#include "devices/device_kind.h"
#include "devices/replay/replay_device.h"
#include "engine/engine.h"
#include "support.h"

namespace cruscotto {
namespace {

using test::eventually;

/// Four seconds of the pump bench.
std::string recordPump(const test::TempFolder& folder) {
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = seconds(4);
    const std::string path = folder.file("pump.run");
    const auto engine = std::move(Engine::startRecorded(test::exampleBench("pump-bench"), path, options).value());
    engine->wait();
    engine->stopRecording();
    engine->stop();
    return path;
}

std::vector<double> samplesOf(const std::string& path, const std::string& key) {
    const auto reader = std::move(RunReader::open(path).value());
    const RunSignal* signal = reader->info().signal(key);
    std::vector<double> out;
    if (!signal) return out;
    RunReader::Part part;
    part.signals = {signal->id};
    auto blocks = reader->blocks(signal->group, part);
    while (const BlockPtr b = blocks.next()) appendAsDouble(b->columns[0], out);
    return out;
}

TEST(Replay, PlaysARunSampleBySample) {
    test::TempFolder folder;
    const std::string path = recordPump(folder);
    const RunInfo recorded = RunReader::open(path).value()->info();
    const Bench bench = replayBench(recorded, path, {});
    EXPECT_TRUE(checkDevices(bench).empty());
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    const std::string again = folder.file("again.run");
    const auto engine = std::move(Engine::startRecorded(bench, again, options).value());
    engine->wait();
    engine->stopRecording();
    engine->stop();
    std::size_t compared = 0;
    for (const auto& signal : recorded.bench.signals) {
        const auto was = samplesOf(path, signal->id), is = samplesOf(again, signal->id);
        ASSERT_EQ(is.size(), was.size()) << signal->id;
        for (std::size_t i = 0; i < was.size(); ++i)
            ASSERT_TRUE(is[i] == was[i] || (std::isnan(is[i]) && std::isnan(was[i]))) << signal->id << " at " << i;
        compared += was.size();
    }
    EXPECT_GT(compared, 10'000U);
}

TEST(Replay, ASlowRunShowsItsSamplesAtTheirTimesAndNotABlockAtOnce) {
    test::TempFolder folder;
    const std::string path = folder.file("slow.run");
    {
        // Forty seconds of one sample a second, in one block.
        auto group = test::oneChannelGroup(1);
        std::vector<double> samples;
        for (int i = 0; i < 40; ++i) samples.push_back(i);
        auto writer = std::move(RunWriter::create(path, test::oneSignal(), {Instant{}, 0}).value());
        writer->add(test::clockedBlock(group, 0, Instant{1'000'000'000}, samples), {{0, "in"}});
        ASSERT_TRUE(writer->close().ok());
    }
    const Bench bench = replayBench(RunReader::open(path).value()->info(), path, {20, false});
    const std::string again = folder.file("again.run");
    const auto engine = std::move(Engine::startRecorded(bench, again).value());
    // Half a second in, about ten have come and the others have not.
    std::set<double> seen;
    ASSERT_TRUE(eventually([&] {
        const double v = engine->source().at("in", engine->now()).value;
        if (!std::isnan(v)) seen.insert(v);
        return v == 39;
    }));
    EXPECT_GT(seen.size(), 20U) << "they came one after the other";
    engine->stop();
    EXPECT_EQ(samplesOf(again, "in").size(), 40U) << "what is recorded from it is all of it";
}

TEST(Replay, FasterAndAgainAndAgain) {
    test::TempFolder folder;
    const std::string path = recordPump(folder);
    const RunInfo recorded = RunReader::open(path).value()->info();
    const Bench bench = replayBench(recorded, path, {20, true});
    auto engine = Engine::start(bench);
    const std::string device = bench.devices[0]->id;
    EXPECT_TRUE(eventually([&] {
        const auto s = engine->deviceStatus()[device];
        return s.state == LinkState::live && s.sentence.english().find("round 3") != std::string::npos;
    })) << engine->deviceStatus()[device].sentence.english();
    EXPECT_GE(engine->now(), Instant{milliseconds(400).ns}) << "two rounds of four seconds at twenty times the speed";
    engine->stop();
}

TEST(Replay, WhatCannotBePlayedIsSaid) {
    test::TempFolder folder;
    const std::string path = recordPump(folder);
    Bench bench = replayBench(RunReader::open(path).value()->info(), folder.file("none.run"), {});
    auto engine = Engine::start(bench);
    const std::string device = bench.devices[0]->id;
    EXPECT_TRUE(eventually([&] { return engine->deviceStatus()[device].state == LinkState::absent; }));
    engine->stop();
    EXPECT_FALSE(deviceKind("recorded-run")->check(R"({"run":"x.run","speed":0})").ok());
    EXPECT_FALSE(deviceKind("recorded-run")->check("{}").ok());
}

}  // namespace
}  // namespace cruscotto
