#include <fcntl.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cmath>
#include <csignal>
#include <nlohmann/json.hpp>
#include <regex>
#include <thread>

#include "cli/commands.h"
#include "core/base/json_text.h"
#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "devices/wire.h"
#include "program.h"
#include "standins/beehive/beehive.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using test::Output;
using test::Program;
using test::run;
using test::TempFolder;

TEST(Cli, RecordInfoExportHangTogetherToTheSample) {
    TempFolder f;
    Output o = run(
        f, {"record", test::example("pump-bench"), "--for", "5s", "--as-fast-as-possible", "--out", f.file("a.run")});
    ASSERT_EQ(o.code, cli::ok) << o.err;
    EXPECT_NE(o.out.find("all samples kept"), std::string::npos) << o.out;
    o = run(f, {"info", f.file("a.run"), "--json"});
    ASSERT_EQ(o.code, cli::ok);
    const auto info = parseJson(o.out);
    EXPECT_EQ(info["lost-samples"], 0);
    EXPECT_EQ(info["closed"], true);
    EXPECT_EQ(info["duration-ns"], 5'000'000'001) << "the outputs' safe values at the end are the last sample";
    std::map<std::string, std::uint64_t> samples;
    for (const auto& s : info["signals"]) samples[s["id"]] = s["samples"];
    EXPECT_EQ(samples["vibration"], 5000U);
    EXPECT_EQ(samples["flow"], 500U);
    o = run(f, {"export", f.file("a.run"), "--out", f.file("a.csv"), "--signals", "vibration,flow"});
    ASSERT_EQ(o.code, cli::ok) << o.err;
    std::istringstream csv(test::readFile(f.file("a.csv")));
    std::string line;
    std::getline(csv, line);
    EXPECT_EQ(line, "time [s],Vibration [g],Flow [L/min]\r");
    int vibration = 0, rows = 0;
    while (std::getline(csv, line)) {
        ++rows;
        vibration += line.find(",,") == std::string::npos;
    }
    EXPECT_EQ(rows, 5000);
    EXPECT_EQ(vibration, 5000);
    o = run(f, {"info", f.file("a.run")});
    EXPECT_NE(o.out.find("closed in order"), std::string::npos);
    EXPECT_NE(o.out.find("lost       nothing"), std::string::npos);
}

TEST(Cli, AFileThatMayNotGrowIsToldLikeAFullDiskAndTheAccountIsExact) {
    const TempFolder f;
    // As under a quota: the system refuses, though there is room.
    rlimit before{};
    getrlimit(RLIMIT_FSIZE, &before);
    rlimit few = before;
    few.rlim_cur = 500'000;
    setrlimit(RLIMIT_FSIZE, &few);
    Program program(
        f, {"record", test::example("pump-bench"), "--for", "100s", "--as-fast-as-possible", "--out", f.file("a.run")});
    setrlimit(RLIMIT_FSIZE, &before);
    const Output o = program.wait();
    EXPECT_EQ(o.code, cli::lostSamples) << o.out << o.err;
    EXPECT_NE(o.err.find("nothing can be written (disk I/O error: File too large)"), std::string::npos) << o.err;
    const auto reader = RunReader::open(f.file("a.run"));
    ASSERT_TRUE(reader.ok()) << reader.error().english();
    std::uint64_t samples = 0;
    for (const RunSignal& s : reader.value()->info().signals) samples += s.samples;
    unsigned long long told = 0, lost = 0;
    ASSERT_EQ(std::sscanf(o.out.c_str() + o.out.find(": ") + 2, "%llu samples", &told), 1) << o.out;
    const std::size_t at = o.out.find(" lost");
    ASSERT_NE(at, std::string::npos) << o.out;
    ASSERT_EQ(std::sscanf(o.out.c_str() + o.out.rfind(' ', at - 1), "%llu", &lost), 1) << o.out;
    EXPECT_EQ(told, samples);
    EXPECT_EQ(told + lost, 100U * (12 * 1000 + (2 + 7) * 100) + 8)
        << "the terminals at their rates, what three outputs were set to, and the drive when the guard door opened "
           "and closed";
}

TEST(Cli, TheSameSeedMakesTheSameRecording) {
    TempFolder f;
    for (const char* name : {"a", "b"}) {
        ASSERT_EQ(run(f, {"record", test::example("pump-bench"), "--for", "2s", "--as-fast-as-possible", "--out",
                          f.file(std::string(name) + ".run")})
                      .code,
                  cli::ok);
        ASSERT_EQ(
            run(f, {"export", f.file(std::string(name) + ".run"), "--out", f.file(std::string(name) + ".csv")}).code,
            cli::ok);
    }
    EXPECT_EQ(test::readFile(f.file("a.csv")), test::readFile(f.file("b.csv")));
}

TEST(Cli, ExportTakesTimesAndRefusesNonsense) {
    TempFolder f;
    ASSERT_EQ(run(f, {"record", test::example("pump-bench"), "--for", "2s", "--as-fast-as-possible", "--out",
                      f.file("a.run")})
                  .code,
              cli::ok);
    Output o = run(
        f, {"export", f.file("a.run"), "--out", f.file("a.csv"), "--signals", "G1", "--from", "500ms", "--to", "1s"});
    EXPECT_EQ(o.code, cli::ok) << o.err;
    EXPECT_NE(o.out.find("500 rows"), std::string::npos) << o.out;
    EXPECT_EQ(run(f, {"export", f.file("a.run"), "--out", f.file("b.csv"), "--from", "soon"}).code, cli::wrongUsage);
    o = run(f, {"export", f.file("a.run"), "--out", f.file("b.csv"), "--signals", "nope"});
    EXPECT_EQ(o.code, cli::failed);
    EXPECT_NE(o.err.find("no signal \"nope\""), std::string::npos);
    o = run(f, {"export", f.file("none.run"), "--out", f.file("b.csv")});
    EXPECT_EQ(o.code, cli::failed);
}

TEST(Cli, ChainPrintsWhatEachStageMakesOfRawSamplesWithoutADevice) {
    TempFolder folder;
    const std::string bench = std::string(CRUSCOTTO_SOURCE) + "/examples/pump-bench.bench";
    const Output json =
        run(folder, {"chain", bench, "T1", "--raw", "3000,40000", "--given", "cold-junction=24", "--json"});
    ASSERT_EQ(json.code, 0) << json.err;
    const auto all = nlohmann::json::parse(json.out);
    EXPECT_EQ(all["signal"], "bearing-temperature");
    ASSERT_EQ(all["samples"].size(), 2U);
    const auto& first = all["samples"][0];
    EXPECT_EQ(first["raw"], 3000);
    ASSERT_EQ(first["stages"].size(), 4U);
    EXPECT_EQ(first["stages"][0]["stage"], "counts-to-volts");
    EXPECT_EQ(first["stages"][0]["unit"], "V");
    EXPECT_NEAR(first["stages"][0]["value"].get<double>(), 3000 * 0.04 / 65536, 1e-12);
    EXPECT_EQ(first["stages"][2]["stage"], "thermocouple");
    EXPECT_NEAR(first["reading"]["value"].get<double>(), 67.149, 0.01);
    EXPECT_EQ(first["reading"]["unit"], "Cel");
    EXPECT_EQ(first["reading"]["quality"], "good");
    EXPECT_EQ(all["samples"][1]["stages"][0]["quality"], "clipped") << "no code of 16 bits is that high";

    const Output words = run(folder, {"chain", bench, "outlet-pressure", "--raw", "0"});
    EXPECT_EQ(words.code, 0);
    EXPECT_NE(words.out.find("Current loop"), std::string::npos) << words.out;
    EXPECT_NE(words.out.find("open sensor"), std::string::npos) << words.out;
    const Output without = run(folder, {"chain", bench, "T1", "--raw", "3000"});
    EXPECT_EQ(without.code, 2);
    EXPECT_NE(without.err.find("--given cold-junction=… (°C)"), std::string::npos) << without.err;
    EXPECT_EQ(run(folder, {"chain", bench, "T1", "--raw", "1", "--given", "warm=3"}).code, 2);
    EXPECT_EQ(run(folder, {"chain", bench, "T1", "--raw", "1", "--given", "cold-junction"}).code, 2);
    EXPECT_EQ(run(folder, {"chain", bench, "nobody", "--raw", "1"}).code, 2);
    EXPECT_EQ(run(folder, {"chain", bench, "drive", "--raw", "1"}).code, 2) << "an output";
}

TEST(Cli, CheckTellsWhereABenchIsWrong) {
    TempFolder f;
    EXPECT_EQ(run(f, {"check", test::example("pump-bench")}).code, cli::ok);
    test::writeFile(f.file("bad.bench"), "{\n \"format\": \"cruscotto-bench\",\n \"version\": 1,\n \"name\": 5\n}\n");
    const Output o = run(f, {"check", f.file("bad.bench")});
    EXPECT_EQ(o.code, cli::badFile);
    EXPECT_NE(o.err.find("line 4, /name: Text in quotes is expected"), std::string::npos) << o.err;
    test::writeFile(f.file("box.bench"), R"({
 "format": "cruscotto-bench", "version": 1, "name": "Box",
 "devices": [{"id": "box", "name": "Box", "kind": "sim-io-box"}],
 "signals": [{"id": "a", "name": "A", "device": "box", "kind": "counter-input",
   "terminal": "CTR7"}]
})");
    const Output box = run(f, {"check", f.file("box.bench")});
    EXPECT_EQ(box.code, cli::badFile);
    EXPECT_NE(box.err.find("line 5, /signals/0/terminal: Box has no terminal CTR7. Of the kind counter-input it has: "
                           "CTR0, CTR1."),
              std::string::npos)
        << box.err;
    EXPECT_EQ(run(f, {"record", f.file("bad.bench"), "--for", "1s", "--out", f.file("x.run")}).code, cli::badFile);
    EXPECT_FALSE(std::filesystem::exists(f.file("x.run")));
}

TEST(Cli, WatchPrintsReadingsWithUnits) {
    TempFolder f;
    // As long as a machine with other things to do needs for a first reading.
    Output o;
    for (const char* length : {"700ms", "3s", "15s"}) {
        o = run(f, {"watch", test::example("pump-bench"), "--for", length, "--every", "200ms"});
        EXPECT_EQ(o.code, cli::ok) << o.err;
        if (o.out.find("D1 closed") != std::string::npos) break;
    }
    EXPECT_NE(o.out.find(" bar"), std::string::npos);
    EXPECT_NE(o.out.find("D1 closed"), std::string::npos) << o.out;
    EXPECT_GE(std::count(o.out.begin(), o.out.end(), '\n'), 2);
}

TEST(Cli, WhatPassesOnAWireIsPrintedWithItsMeaningOrSavedToBeReplayed) {
    TempFolder f;
    BeehiveOptions options;
    options.link = f.file("hive");
    options.linesPerSecond = 50;
    const auto hive = std::move(Beehive::open(options).value());
    std::atomic<bool> stop{false};
    std::thread board([&] { hive->run(stop); });
    std::string bench = test::readFile(test::example("beehive"));
    const std::string port = "/tmp/cruscotto-beehive";
    bench.replace(bench.rfind(port), port.size(), f.file("hive"));
    test::writeFile(f.file("a.bench"), bench);
    {
        Program p(f, {"wire", f.file("a.bench")});
        EXPECT_TRUE(test::eventually([&] { return p.outSoFar().find("  4 ") != std::string::npos; })) << p.outSoFar();
        p.signal(SIGINT);
        const Output o = p.wait();
        EXPECT_EQ(o.code, cli::ok) << o.err;
        // Hours, bytes, the same as text, and the terminals of the fields.
        EXPECT_TRUE(std::regex_search(
            o.out,
            std::regex(R"(\n\d+\.\d{6} in  3\d 3\d 2e [0-9a-f ]+0d 0a  \|3\d\.\d\d [\d. ]+··\|  1 3\d\.?\d*  2 3\d)")))
            << o.out;
    }
    {
        Program p(f, {"wire", f.file("a.bench"), "--device", "hive", "--out", f.file("a.wire")});
        EXPECT_TRUE(test::eventually([&] {
            const std::string so = test::readFile(f.file("a.wire"));
            return std::count(so.begin(), so.end(), '\n') > 20;
        }));
        p.signal(SIGTERM);
        const Output o = p.wait();
        EXPECT_EQ(o.code, cli::ok) << o.err;
        EXPECT_NE(o.out.find("messages of Beehive board"), std::string::npos) << o.out;
        const auto replayed = captureReplay(f.file("a.wire"));
        ASSERT_TRUE(replayed.ok());
        EXPECT_EQ(replayed.value().kind, "serial-line-board");
        EXPECT_GT(readCapture(test::readFile(f.file("a.wire"))).value().size(), 15U);
    }
    stop = true;
    board.join();
    const Output other = run(f, {"wire", f.file("a.bench"), "--device", "queen"});
    EXPECT_EQ(other.code, cli::wrongUsage);
    EXPECT_NE(other.err.find("hive"), std::string::npos) << other.err;
    EXPECT_EQ(run(f, {"wire", test::example("pump-bench")}).code, cli::wrongUsage) << "a simulated box has no wire";
    EXPECT_EQ(run(f, {"wire", f.file("a.bench"), "--out", f.file("none/a.wire")}).code, cli::failed);
}

TEST(Cli, ASignalStopsARecordingInOrder) {
    for (const int number : {SIGINT, SIGTERM}) {
        TempFolder f;
        Program p(f, {"record", test::example("pump-bench"), "--out", f.file("a.run")});
        ASSERT_TRUE(test::eventually([&] {
            if (!std::filesystem::exists(f.file("a.run"))) return false;
            const auto r = RunReader::open(f.file("a.run"));
            return r.ok() && r.value()->info().span.to.ns > 500'000'000;
        })) << p.outSoFar()
            << test::readFile(f.file("err"))
            << (std::filesystem::exists(f.file("a.run")) ? " a.run is there" : " no a.run")
            << (RunReader::open(f.file("a.run")).ok() ? "" : RunReader::open(f.file("a.run")).error().english());
        p.signal(number);
        const Output o = p.wait();
        EXPECT_EQ(o.code, cli::ok) << o.err;
        const auto reader = RunReader::open(f.file("a.run"));
        ASSERT_TRUE(reader.ok());
        EXPECT_TRUE(reader.value()->info().closed);
        RunReplay replay(*reader.value(), reader.value()->info().signal("drive")->group);
        RunReplay::Step step;
        double last = -1;
        while (replay.next(step)) last = step.readings[0].values.back();
        EXPECT_EQ(last, 0) << "the output ended at its safe value, and the run says so";
    }
}

TEST(Cli, ASignalSetsAMark) {
    TempFolder f;
    Program p(f, {"record", test::example("pump-bench"), "--out", f.file("a.run")});
    const auto recorded = [&] {
        const auto r = RunReader::open(f.file("a.run"));
        return r.ok() && r.value()->info().span.to.ns > 300'000'000;
    };
    ASSERT_TRUE(test::eventually(recorded));
    p.signal(SIGUSR1);
    ASSERT_TRUE(test::eventually([&] {
        const auto r = RunReader::open(f.file("a.run"));
        return r.ok() && r.value()->info().marks.size() == 1;
    }));
    p.signal(SIGINT);
    EXPECT_EQ(p.wait().code, cli::ok);
}

TEST(Cli, OutputsStartWhereTheyAreSet) {
    TempFolder f;
    Output o = run(f, {"record", test::example("pump-bench"), "--for", "10s", "--as-fast-as-possible", "--set",
                       "drive=3.5", "--out", f.file("a.run")});
    ASSERT_EQ(o.code, cli::ok) << o.err;
    ASSERT_EQ(run(f, {"export", f.file("a.run"), "--out", f.file("a.csv"), "--signals", "drive,shaft-speed"}).code,
              cli::ok);
    const std::string csv = test::readFile(f.file("a.csv"));
    EXPECT_NE(csv.find("\r\n0,3.5,"), std::string::npos) << csv.substr(0, 100);
    for (const auto& [wrong, says] : {std::pair("drive=12", "goes from 0 to 10"),
                                      std::pair("flow=1", "no output \"flow\""), std::pair("drive", "does not read")}) {
        o = run(f, {"record", test::example("pump-bench"), "--for", "1s", "--as-fast-as-possible", "--set", wrong,
                    "--out", f.file("b.run")});
        EXPECT_EQ(o.code, cli::wrongUsage);
        EXPECT_NE(o.err.find(says), std::string::npos) << o.err;
    }
}

TEST(Cli, AsFastAsPossibleIsForWhatMakesItsOwnTime) {
    TempFolder f;
    const Output o =
        run(f, {"record", test::example("beehive"), "--for", "1s", "--as-fast-as-possible", "--out", f.file("a.run")});
    EXPECT_EQ(o.code, cli::wrongUsage);
    EXPECT_NE(o.err.find("keeps its own time"), std::string::npos) << o.err;
}

TEST(Cli, NeverOverwritesARun) {
    TempFolder f;
    test::writeFile(f.file("a.run"), "precious");
    const Output o = run(
        f, {"record", test::example("pump-bench"), "--for", "1s", "--as-fast-as-possible", "--out", f.file("a.run")});
    EXPECT_EQ(o.code, cli::failed);
    EXPECT_EQ(test::readFile(f.file("a.run")), "precious");
}

TEST(Cli, StandInBeehiveIsReadByItsExample) {
    TempFolder f;
    TempFolder g;
    Program hive(f, {"stand-in", "beehive", "--link", f.file("port"), "--rate", "50"});
    ASSERT_TRUE(test::eventually([&] { return std::filesystem::exists(f.file("port")); }));
    std::string bench = test::readFile(test::example("beehive"));
    const std::string shipped = "/tmp/cruscotto-beehive\"";
    const auto at = bench.find("\"port\": \"" + shipped);
    ASSERT_NE(at, std::string::npos);
    bench.replace(at, 9 + shipped.size(), "\"port\": \"" + f.file("port") + "\"");
    test::writeFile(g.file("hive.bench"), bench);
    const Output o = run(g, {"record", g.file("hive.bench"), "--for", "1500ms", "--out", g.file("a.run")});
    EXPECT_EQ(o.code, cli::ok) << o.err;
    const auto reader = RunReader::open(g.file("a.run"));
    ASSERT_TRUE(reader.ok());
    ASSERT_TRUE(reader.value()->info().signal("weight"));
    EXPECT_GT(reader.value()->info().signal("weight")->samples, 10U);
    EXPECT_EQ(reader.value()->info().signal("weight")->samples, reader.value()->info().signal("bees")->samples);
    hive.type("unplugged\n");
    ASSERT_TRUE(test::eventually([&] { return !std::filesystem::exists(f.file("port")); }));
    hive.type("unplugged\n");
    ASSERT_TRUE(test::eventually([&] { return std::filesystem::exists(f.file("port")); }));
    EXPECT_EQ(run(g, {"record", g.file("hive.bench"), "--for", "1s", "--out", g.file("b.run")}).code, cli::ok);
    hive.signal(SIGTERM);
    EXPECT_EQ(hive.wait().code, cli::ok);
    EXPECT_FALSE(std::filesystem::exists(f.file("port"))) << "the link goes with the board";
}

TEST(Cli, TheCabinetsComputerIsReadAndWhatGoesWrongThereIsSaid) {
    TempFolder f;
    TempFolder g;
    EXPECT_EQ(run(f, {"stand-in", "computer", g.file("c"), "--fault", "sideways"}).code, cli::wrongUsage);
    EXPECT_EQ(run(f, {"stand-in", "rack", "--fault", "sideways"}).code, cli::wrongUsage);
    EXPECT_EQ(run(f, {"stand-in", "computer", f.file("")}).code, cli::failed) << "the folder is in use";
    Program computer(f, {"stand-in", "computer", g.file("c"), "--fault", "asleep"});
    ASSERT_TRUE(test::eventually([&] { return std::filesystem::exists(g.file("c/dev/gpiochip0")); }));
    test::writeFile(g.file("a.bench"), R"({"format":"cruscotto-bench","version":1,"name":"Cabinet","devices":[
        {"id":"l","name":"Lines","kind":"gpio-lines","settings":{"chip":")" +
                                           g.file("c/dev/gpiochip0") + R"(","lines":{"mark":"1"}}},
        {"id":"s","name":"Sensors","kind":"computer","settings":{"root":")" +
                                           g.file("c") + R"("}}],"signals":[
        {"id":"mark","name":"mark","device":"l","terminal":"mark","kind":"digital-input"},
        {"id":"cpu","name":"cpu","device":"s","terminal":"cabinet.temp1","kind":"analog-input"}]})");
    const Output o = run(g, {"record", g.file("a.bench"), "--for", "1500ms", "--out", g.file("a.run")});
    EXPECT_EQ(o.code, cli::deviceTrouble) << o.err;
    EXPECT_NE(o.err.find("cabinet.temp1 is there, but cannot be read now"), std::string::npos) << o.err;
    const auto reader = RunReader::open(g.file("a.run"));
    ASSERT_TRUE(reader.ok());
    EXPECT_GT(reader.value()->info().signal("mark")->samples, 40U) << "two edges a turn";
    computer.signal(SIGINT);
    EXPECT_EQ(computer.wait().code, cli::ok);
    EXPECT_FALSE(std::filesystem::exists(g.file("c"))) << "what it made goes with it";
}

TEST(Cli, TheColdStoresRackIsReadByItsExampleAndPlayedAgain) {
    TempFolder f;
    TempFolder g;
    Program rack(f, {"stand-in", "rack", "--link", f.file("port")});
    ASSERT_TRUE(test::eventually([&] { return std::filesystem::exists(f.file("port")); }));
    std::string bench = test::readFile(test::example("cold-store"));
    const std::string shipped = "\"127.0.0.1:15020\"";
    const auto at = bench.find(shipped);
    ASSERT_NE(at, std::string::npos);
    // With patience: on a busy machine a reply that came too late would count as one that did not fit.
    bench.replace(at, shipped.size(), "\"" + f.file("port") + "\", \"timeout-s\": 10");
    test::writeFile(g.file("store.bench"), bench);
    const Output o = run(g, {"record", g.file("store.bench"), "--for", "4s", "--out", g.file("a.run")});
    EXPECT_EQ(o.code, cli::ok) << o.err;
    {
        const auto reader = RunReader::open(g.file("a.run"));
        ASSERT_TRUE(reader.ok());
        EXPECT_GT(reader.value()->info().signal("room-1")->samples, 2U);
    }
    EXPECT_EQ(run(g, {"replay", g.file("a.run"), "--out", g.file("again.bench"), "--speed", "10"}).code, cli::ok);
    const Output again =
        run(g, {"record", g.file("again.bench"), "--for", "5s", "--as-fast-as-possible", "--out", g.file("b.run")});
    EXPECT_EQ(again.code, cli::ok) << again.err;
    const auto first = RunReader::open(g.file("a.run")), second = RunReader::open(g.file("b.run"));
    ASSERT_TRUE(second.ok());
    EXPECT_EQ(second.value()->info().signal("room-1")->samples, first.value()->info().signal("room-1")->samples);
    EXPECT_NE(run(g, {"replay", g.file("none.run"), "--out", g.file("x.bench")}).code, cli::ok);
    rack.signal(SIGTERM);
    EXPECT_EQ(rack.wait().code, cli::ok);
}

TEST(Cli, WhatABenchPublishesIsDescribed) {
    TempFolder f;
    std::string bench = test::readFile(test::example("beehive"));
    const std::string devices = "\"devices\": [";
    bench.insert(bench.find(devices) + devices.size(),
                 R"({"id":"bus","name":"Bus","kind":"can","settings":{"address":"can0","publish":"weight, brood"}},)");
    test::writeFile(f.file("b.bench"), bench);
    const Output o = run(f, {"dbc", f.file("b.bench"), "--out", f.file("b.dbc")});
    EXPECT_EQ(o.code, cli::ok) << o.err;
    const std::string dbc = test::readFile(f.file("b.dbc"));
    EXPECT_NE(dbc.find("SG_ weight : 0|32@1- (1,0) [0|0] \"kg\""), std::string::npos) << dbc;
    EXPECT_NE(dbc.find("CM_ SG_ 1696 brood \"Brood temperature\""), std::string::npos) << dbc;
    EXPECT_NE(run(f, {"dbc", test::example("beehive"), "--out", f.file("c.dbc")}).code, cli::ok) << "it has no bus";
}

TEST(Cli, APictureOfABenchThatMeasuresNothingComesToAnEnd) {
    TempFolder f;
    test::writeFile(f.file("empty.bench"),
                    R"({"format":"cruscotto-bench","version":1,"name":"Empty","devices":[],"signals":[],"pages":[]})");
    const Output o = run(f, {"picture", f.file("empty.bench"), "--after", "20s", "--out", f.file("a.png")});
    EXPECT_EQ(o.code, cli::ok) << o.err;
    EXPECT_TRUE(test::readFile(f.file("a.png")).starts_with("\x89PNG"));
}

TEST(Cli, OnlyShotsAreRecordedWhenAskedFor) {
    TempFolder f;
    const auto recorded = [&](std::vector<std::string> more) {
        std::vector<std::string> all{
            "record", test::example("pump-bench"), "--for", "20s", "--as-fast-as-possible", "--out", f.file("a.run")};
        all.insert(all.end(), more.begin(), more.end());
        std::filesystem::remove(f.file("a.run"));
        return run(f, all);
    };
    ASSERT_EQ(recorded({"--when", "shaft-speed>1000", "--before", "250ms", "--after", "1s"}).code, cli::ok);
    auto reader = RunReader::open(f.file("a.run"));
    ASSERT_TRUE(reader.ok());
    EXPECT_EQ(reader.value()->info().signal("vibration")->samples, 1250U);
    ASSERT_EQ(recorded({"--when", "guard-door>0.5", "--shots", "0"}).code, cli::ok);
    const std::time_t soon = std::time(nullptr) + 4;
    std::tm local{};
    localtime_r(&soon, &local);
    const std::string then = fmt::format("{:02}:{:02}:{:02}", local.tm_hour, local.tm_min, local.tm_sec);
    ASSERT_EQ(recorded({"--when", then, "--before", "0s", "--after", "2s"}).code, cli::ok);
    reader = RunReader::open(f.file("a.run"));
    ASSERT_TRUE(reader.ok());
    EXPECT_EQ(reader.value()->info().signal("vibration")->samples, 2000U);
    EXPECT_EQ(recorded({"--when", "25:00:00"}).code, cli::wrongUsage);
    EXPECT_EQ(recorded({"--when", "shaft-speed"}).code, cli::wrongUsage);
    EXPECT_EQ(recorded({"--when", "shaft-speed>fast"}).code, cli::wrongUsage);
    EXPECT_EQ(recorded({"--when", "nobody>3"}).code, cli::wrongUsage);
    EXPECT_EQ(recorded({"--when", "shaft-speed>1", "--shots", "-2"}).code, cli::wrongUsage);
}

TEST(Cli, ADeviceThatIsNotThereIsSaidInTheExitCode) {
    TempFolder f;
    std::string bench = test::readFile(test::example("beehive"));
    const auto at = bench.find("/tmp/cruscotto-beehive\",");
    ASSERT_NE(at, std::string::npos);
    bench.replace(at, 22, "/dev/cruscotto-none");
    test::writeFile(f.file("a.bench"), bench);
    const Output o = run(f, {"watch", f.file("a.bench"), "--for", "600ms"});
    EXPECT_EQ(o.code, cli::deviceTrouble);
    EXPECT_NE(o.err.find("There is no port"), std::string::npos) << o.err;
}

TEST(Cli, UsageAndDisplay) {
    TempFolder f;
    EXPECT_EQ(run(f, {"--help"}).code, cli::ok);
    EXPECT_EQ(run(f, {"--version"}).code, cli::ok);
    EXPECT_EQ(run(f, {"record"}).code, cli::wrongUsage);
    EXPECT_EQ(run(f, {"record", test::example("pump-bench"), "--as-fast-as-possible", "--out", f.file("x.run")}).code,
              cli::wrongUsage);
    const Output o = run(f, {});
    EXPECT_EQ(o.code, cli::failed);
    EXPECT_NE(o.err.find("no display"), std::string::npos);
    EXPECT_TRUE(std::filesystem::exists(f.file("state/cruscotto/cruscotto.log")));
}

TEST(Cli, APictureIsTheSameOnEveryRun) {
    TempFolder f;
    for (const char* name : {"a.png", "b.png"})
        ASSERT_EQ(run(f, {"picture", test::example("pump-bench"), "--after", "20s", "--out", f.file(name)}).code,
                  cli::ok);
    EXPECT_GT(test::readFile(f.file("a.png")).size(), 20'000U);
    EXPECT_EQ(test::readFile(f.file("a.png")), test::readFile(f.file("b.png")));
}

TEST(Cli, ARunIsNamedByItsBenchAndDescribedLater) {
    TempFolder folder;
    Bench bench = test::exampleBench("pump-bench");
    bench.recording.name = "{bench} {number}";
    bench.recording.keepFreeMegabytes = 0;
    bench.recording.notes.title = "First";
    ASSERT_TRUE(saveBench(bench, folder.file("mine.bench")).ok());
    for (const char* number : {"001", "002"}) {
        const Output o = run(folder, {"record", folder.file("mine.bench"), "--for", "2s", "--as-fast-as-possible",
                                      "--out", folder.file("")});
        EXPECT_EQ(o.code, 0) << o.out;
        EXPECT_TRUE(std::filesystem::exists(folder.file(std::string("pump-bench ") + number + ".run"))) << o.out;
    }
    const std::string path = folder.file("pump-bench 001.run");
    EXPECT_EQ(run(folder, {"describe", path, "--specimen", "Pump 7", "--mark", "1.5=valve opened"}).code, 0);
    const auto info = parseJson(run(folder, {"info", "--json", path}).out);
    EXPECT_EQ(info["title"], "First") << "what was not asked for stays";
    EXPECT_EQ(info["specimen"], "Pump 7");
    EXPECT_EQ(info["marks"][0]["at-ns"], 1'500'000'000);
    EXPECT_NE(run(folder, {"describe", path, "--mark", "soon"}).code, 0);

    bench.recording.keepFreeMegabytes = 1e8;  // more than any disk has
    ASSERT_TRUE(saveBench(bench, folder.file("mine.bench")).ok());
    const Output ended =
        run(folder, {"record", folder.file("mine.bench"), "--for", "60s", "--out", folder.file("full.run")});
    EXPECT_EQ(ended.code, cli::lostSamples);
    const auto closed = parseJson(run(folder, {"info", "--json", folder.file("full.run")}).out);
    EXPECT_EQ(closed["closed"], true) << "ended in order, long before its time";
    EXPECT_LT(closed["duration-ns"], 30'000'000'000);
}

TEST(Cli, ReadingsAreWorkedOutAgainAsANewVersion) {
    TempFolder folder;
    const std::string path = folder.file("a.run");
    ASSERT_EQ(
        run(folder, {"record", test::example("pump-bench"), "--for", "3s", "--out", path, "--as-fast-as-possible"})
            .code,
        0);
    Bench bench = test::exampleBench("pump-bench");
    SignalSpec spare = *bench.signal("spare");
    spare.chain.emplace_back(slopeOffset(1000, 0, "mV"));
    ASSERT_TRUE(saveBench(withSignal(bench, spare), folder.file("corrected.bench")).ok());
    const auto mean = [&](std::vector<std::string> more) {
        std::vector<std::string> asked{"info", "--json", path};
        asked.insert(asked.end(), more.begin(), more.end());
        const auto info = parseJson(run(folder, asked).out);
        for (const auto& s : info["signals"])
            if (s["id"] == "spare") return std::pair(s["summary"]["mean"].get<double>(), s["unit"].get<std::string>());
        return std::pair(0.0, std::string());
    };
    const auto before = mean({});
    const Output done = run(folder, {"recompute", path, "--bench", folder.file("corrected.bench"), "--words", "in mV"});
    EXPECT_EQ(done.code, 0) << done.out;
    EXPECT_NE(done.out.find("version 1"), std::string::npos);
    EXPECT_EQ(mean({}).second, "mV");
    EXPECT_NEAR(mean({}).first, before.first * 1000, 1e-6);
    EXPECT_EQ(mean({"--version", "0"}), before);
    EXPECT_NE(run(folder, {"info", path}).out.find("version 1, shown here: spare worked out again (in mV)"),
              std::string::npos);
    EXPECT_EQ(run(folder, {"recompute", path, "--bench", folder.file("corrected.bench")}).code, cli::failed)
        << "there is nothing left to correct";
    EXPECT_EQ(run(folder, {"recompute", path, "--bench", folder.file("corrected.bench"), "--signals", "x"}).code,
              cli::wrongUsage);
    EXPECT_EQ(run(folder, {"export", path, "--version", "9", "--out", folder.file("a.csv")}).code, cli::failed);
}

}  // namespace
}  // namespace cruscotto
