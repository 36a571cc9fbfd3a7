#include "core/bench/bench.h"
#include "core/chain/stage_kind.h"

#include <nlohmann/json.hpp>
#include <random>

#include "core/base/json_text.h"
#include "devices/device_kind.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using Json = nlohmann::ordered_json;
using test::TempFolder;

Json minimal() {
    return parseOrderedJson(R"({"format":"cruscotto-bench","version":1,"name":"Test",
      "devices":[{"id":"box","name":"Box","kind":"sim-io-box"}],
      "signals":[{"id":"p","name":"Pressure","tag":"P1","colour":2,"device":"box","terminal":"AI0","kind":"analog-input",
                  "chain":[{"stage":"counts-to-volts","bits":16,"low":-5,"high":5},{"stage":"slope-offset","slope":2,"offset":1,"unit":"bar"}]}],
      "pages":[{"id":"one","name":"One","tiles":[{"id":"t","kind":"dial","x":0,"y":0,"w":3,"h":3,"signals":["p"]}]}]})");
}

std::string firstProblem(const Json& json) {
    const BenchReading reading = readBench(jsonText(json, 2));
    return reading.problems.empty() ? "" : reading.problems.front().english();
}

TEST(BenchFile, ReadsWhatItNeedsAndDefaultsTheRest) {
    const BenchReading reading = readBench(jsonText(minimal()));
    ASSERT_TRUE(reading.bench) << reading.problems.front().english();
    const SignalSpec* s = reading.bench->signal("p");
    ASSERT_TRUE(s);
    EXPECT_EQ(s->unit(), "bar");
    EXPECT_EQ(s->chain[0].text("coding"), "twos-complement");
    EXPECT_EQ(reading.bench->page("one")->tiles.front().kind, TileKind::dial);
    EXPECT_EQ(reading.bench->windowSeconds, 30);
}

TEST(BenchFile, SignalsThatNameNoColourAreToldApart) {
    Json j = minimal();
    Json other = j["signals"][0];
    other.erase("colour");
    for (const char* id : {"a", "b"}) {
        other["id"] = id;
        j["signals"].push_back(other);
    }
    const BenchReading reading = readBench(jsonText(j));
    ASSERT_TRUE(reading.bench);
    EXPECT_EQ(reading.bench->signal("p")->colour, 2);
    EXPECT_EQ(reading.bench->signal("a")->colour, 1);
    EXPECT_EQ(reading.bench->signal("b")->colour, 2);
}

TEST(BenchFile, ExamplesReadWriteAndReadAgainTheSame) {
    for (const char* name : {"pump-bench", "beehive"}) {
        const Bench bench = test::exampleBench(name);
        EXPECT_TRUE(checkDevices(bench).empty()) << name;
        const std::string written = writeBench(bench);
        EXPECT_EQ(written, test::readFile(test::example(name)))
            << "the shipped file is laid out as the program writes it";
        const BenchReading again = readBench(written);
        ASSERT_TRUE(again.bench);
        EXPECT_TRUE(sameBench(bench, *again.bench));
    }
}

TEST(BenchFile, EveryKindOfStageSurvivesTheTripWithEachOfItsFieldsChanged) {
    for (const StageKind* kind : stageKinds()) {
        SignalSpec s;
        s.id = s.name = "a";
        s.device = "box";
        s.terminal = "AI0";
        s.chain = {slopeOffset(1, 0, kind->takes ? kind->takes : kind->key == "current-loop" ? "mA" : "1")};
        Stage stage(*kind);
        for (std::size_t i = 0; i < kind->fields.size(); ++i) {
            const StageField& field = kind->fields[i];
            Stage next = stage;
            if (field.type == StageField::Type::choice) next = stage.with(i, field.choices.back().key);
            if (field.type == StageField::Type::source) next = stage.with(i, StageSource{"another"});
            if (field.type == StageField::Type::note) next = stage.with(i, "looked at on 2026-01-15");
            if (const auto* number = std::get_if<double>(&stage.value(i)))
                next = stage.with(i, *number * 1.0009765625 + 1);
            if (checkStage(next, readingUnit(s.chain, s.kind))) stage = next;
        }
        s.chain.push_back(stage);
        const auto again = signalFromJson(signalToJson(s));
        ASSERT_TRUE(again.ok()) << kind->key << ": " << again.error().english();
        EXPECT_EQ(again.value(), s) << kind->key << signalToJson(again.value());
    }
}

TEST(BenchFile, ASourceIsAConstantWithItsUnitOrASignalThatMustBeThere) {
    const auto fileWith = [](const std::string& junction) {
        return R"({"format":"cruscotto-bench","version":1,"name":"T","devices":[{"id":"box","name":"Box","kind":"sim-io-box"}],
            "signals":[{"id":"hot","name":"Hot","device":"box","terminal":"AI0","kind":"analog-input","chain":[
                {"stage":"counts-to-volts","low":-1,"high":1},{"stage":"thermocouple","type":"K","cold-junction":)" +
               junction + R"(}]},
            {"id":"cold","name":"Cold","device":"box","terminal":"AI1","kind":"analog-input","chain":[
                {"stage":"slope-offset","slope":1,"unit":"[degF]"}]},
            {"id":"bar","name":"Bar","device":"box","terminal":"AI2","kind":"analog-input","chain":[
                {"stage":"slope-offset","slope":1,"unit":"bar"}]},
            {"id":"circle","name":"Circle","device":"box","terminal":"AI3","kind":"analog-input","chain":[
                {"stage":"counts-to-volts","low":-1,"high":1},
                {"stage":"thermocouple","type":"K","cold-junction":{"signal":"hot"}}]}]})";
    };
    const auto problem = [&](const std::string& junction) {
        const auto reading = readBench(fileWith(junction));
        return reading.bench ? std::string() : reading.problems.front().english();
    };
    EXPECT_EQ(problem(R"({"constant":23,"unit":"Cel"})"), "");
    EXPECT_EQ(problem(R"({"constant":73.4,"unit":"[degF]"})"), "");
    EXPECT_EQ(problem(R"({"signal":"cold"})"), "");
    EXPECT_NE(problem(R"({"signal":"nobody"})").find("\"nobody\", which is not there"), std::string::npos);
    EXPECT_NE(problem(R"({"signal":"bar"})").find("needs Bar in °C, and it reads in bar"), std::string::npos);
    EXPECT_NE(problem(R"({"signal":"circle"})").find("needs itself"), std::string::npos);
    EXPECT_NE(problem(R"({"constant":23,"unit":"bar"})").find("in a unit like °C, not bar"), std::string::npos);
    EXPECT_NE(problem(R"({"constant":"warm"})").find("A number is expected"), std::string::npos);
    EXPECT_NE(problem("5").find("An object in braces"), std::string::npos);
    // What needs a signal that is taken away has its kind's first value again.
    const Bench bench = *readBench(fileWith(R"({"signal":"cold"})")).bench;
    EXPECT_EQ(dependentsOf(bench, "cold").size(), 1U);
    const Bench less = withoutSignal(bench, "cold");
    EXPECT_EQ(less.signal("hot")->chain[1].source("cold-junction"), (StageSource{"", 23, "Cel"}));
    EXPECT_TRUE(readBench(writeBench(less)).bench);
}

TEST(BenchFile, EveryStageSurvivesTheTrip) {
    SignalSpec s;
    s.id = s.name = "a";
    s.device = "box";
    s.terminal = "CTR0";
    s.kind = ChannelKind::analogInput;
    s.chain = {countsToVolts(12, 0, 3.3, "unipolar"),
               movingMean(7),
               twoPoints(0.5, 0, 4.5, 10, "bar", "2026-01-15, deadweight"),
               convertUnit("kPa"),
               formula("x*1.000000001", "kPa"),
               validRange(-1, 999.5),
               slopeOffset(0.1, -0.2, "kPa")};
    s.limits = {-0.25, 99};
    s.scale = Scale{-1, 1};
    s.range = Scale{-10, 10};
    s.onWord = "open \"wide\"";
    const auto again = signalFromJson(signalToJson(s));
    ASSERT_TRUE(again.ok()) << again.error().english();
    EXPECT_EQ(again.value(), s);
    for (const KeepSpec::What what : {KeepSpec::What::oneInN, KeepSpec::What::summary, KeepSpec::What::changes}) {
        s.keep = {};
        s.keep.what = what;
        if (what == KeepSpec::What::oneInN) s.keep.every = 33;
        if (what == KeepSpec::What::summary) s.keep.intervalSeconds = 60;
        if (what == KeepSpec::What::changes) s.keep.deadBand = 0.02;
        s.keep.asReadings = what != KeepSpec::What::changes;
        EXPECT_EQ(signalFromJson(signalToJson(s)).value(), s);
    }
    s.kind = ChannelKind::counterInput;
    s.chain = {pulseCounter("rpm", 4, 1.5, 0.3)};
    EXPECT_EQ(signalFromJson(signalToJson(s)).value(), s);
    s.kind = ChannelKind::digitalOutput;
    s.chain.clear();
    s.output = OutputSpec{0, 1, 1, 0};
    s.output->onReturn = OutputSpec::OnReturn::before;
    s.output->unit = "{rpm}";
    EXPECT_EQ(signalFromJson(signalToJson(s)).value(), s);
}

TEST(BenchFile, UnknownKeysAreKeptWhereTheyStand) {
    Json j = minimal();
    j["x-note"] = {{"by", "somebody"}};
    j["signals"][0]["x-wire"] = "yellow";
    j["devices"][0]["x-serial"] = 17;
    j["pages"][0]["tiles"][0]["x-style"] = Json::array({1, 2});
    const BenchReading reading = readBench(jsonText(j));
    ASSERT_TRUE(reading.bench);
    const Json out = parseOrderedJson(writeBench(withSignal(*reading.bench, *reading.bench->signal("p"))));
    EXPECT_EQ(out["x-note"], j["x-note"]);
    EXPECT_EQ(out["signals"][0]["x-wire"], "yellow");
    EXPECT_EQ(out["devices"][0]["x-serial"], 17);
    EXPECT_EQ(out["pages"][0]["tiles"][0]["x-style"], (Json::array({1, 2})));
}

TEST(BenchFile, MistakesAreSaidWithTheirPlace) {
    struct Case {
        const char* pointer;
        Json value;
        const char* says;
    };
    for (const Case& c : {
             Case{"/signals/0/chain/0/bits", 40, "/signals/0/chain/0/bits: A whole number from 1 to 32"},
             Case{"/signals/0/chain/0/low", 9, "/signals/0/chain/0: The range must begin below"},
             Case{"/signals/0/chain/1/stage", "magic", "There is no stage \"magic\""},
             Case{"/signals/0/chain/1/slope", "two", "/signals/0/chain/1/slope: A number is expected here, not string"},
             Case{"/signals/0/device", "bax", "There is no device \"bax\""},
             Case{"/signals/0/kind", "analogue", "Use one of: analog-input"},
             Case{"/signals/0/name", Json(), "\"name\" is missing"},
             Case{"/signals", 5, "/signals: A list in brackets"},
             Case{"/pages/0/tiles/0/signals/0", "q", "There is no signal \"q\""},
             Case{"/pages/0/tiles/0/w", 13, "/pages/0/tiles/0/w: A whole number from 1 to 12"},
             Case{"/pages/0/tiles/0/kind", "gauge-cluster", "is not known here"},
             Case{"/signals/0/keep/every", 0, "/signals/0/keep/every: A whole number from 1"},
             Case{"/signals/0/keep/interval-s", 0, "/signals/0/keep/interval-s: A number from 0.001 to 86400"},
             Case{"/signals/0/keep/dead-band", -1, "/signals/0/keep/dead-band: A number that is not negative"},
             Case{"/signals/0/keep/what", "some", "Use one of: everything, one-in-n, summary, changes"},
             Case{"/name", "", "/name: This must not be empty"},
             Case{"/version", 2, "newer version"},
             Case{"/format", "something", "This is not a bench"},
             Case{"/window-s", -1, "The window must be"},
         }) {
        Json j = minimal();
        if (c.value.is_null())
            j["signals"][0].erase("name");
        else
            j[Json::json_pointer(c.pointer)] = c.value;
        const std::string said = firstProblem(j);
        EXPECT_NE(said.find(c.says), std::string::npos) << c.pointer << " said: " << said;
        EXPECT_EQ(said.rfind("line ", 0), 0U) << said;
    }
}

TEST(BenchFile, TheLineIsTheOneInTheFile) {
    Json j = minimal();
    j["signals"][0]["chain"][1]["slope"] = true;
    const std::string text = jsonText(j, 2);
    const BenchReading reading = readBench(text);
    ASSERT_EQ(reading.problems.size(), 1U);
    std::istringstream lines(text);
    std::string line;
    for (int i = 0; i < reading.problems.front().line; ++i) std::getline(lines, line);
    EXPECT_NE(line.find("\"slope\": true"), std::string::npos) << line;
}

TEST(BenchFile, AllProblemsAreSaidAtOnce) {
    Json j = minimal();
    j["signals"][0]["colour"] = 99;
    j["signals"][0].erase("terminal");
    j["pages"][0]["tiles"][0]["h"] = 0;
    EXPECT_EQ(readBench(jsonText(j)).problems.size(), 3U);
}

TEST(BenchFile, BrokenJsonIsPlaced) {
    const BenchReading reading = readBench("{\n\"format\": \"cruscotto-bench\",\n\"version\": 1\n\"name\": 5}");
    ASSERT_EQ(reading.problems.size(), 1U);
    EXPECT_EQ(reading.problems.front().line, 4);
    EXPECT_NE(reading.problems.front().english().find("missing comma"), std::string::npos);
}

TEST(BenchFile, HostileTextIsRefusedNotFollowed) {
    for (const std::string& text :
         {std::string(), std::string("\0\0\0", 3), std::string(200'000, '['), std::string(100'000, '{') + "\"a\":1",
          std::string("{\"format\":\"cruscotto-bench\",\"version\":1e400}"), std::string("\xff\xfe{}"),
          std::string("{\"format\":\"cruscotto-bench\",\"version\":1,\"name\":\"\xc3\x28\"}")}) {
        const BenchReading reading = readBench(text);
        EXPECT_FALSE(reading.bench);
        EXPECT_FALSE(reading.problems.empty());
    }
}

TEST(BenchFile, DamagedBytesNeverCrashIt) {
    const std::string good = test::readFile(test::example("pump-bench"));
    std::mt19937 random(5);
    for (int i = 0; i < (SANITIZED ? 100 : 400); ++i) {
        std::string bad = good;
        for (int k = 0; k <= i % 4; ++k) bad[random() % bad.size()] = static_cast<char>(random());
        if (i % 5 == 0) bad.resize(random() % bad.size());
        const BenchReading reading = readBench(bad);
        EXPECT_NE(reading.bench.has_value(), !reading.problems.empty());
    }
}

TEST(BenchFile, SavingKeepsTheOldOneWhenItCannotBeWritten) {
    const Bench bench = test::exampleBench("beehive");
    EXPECT_FALSE(saveBench(bench, "/nonexistent/folder/a.bench").ok());
    TempFolder folder;
    ASSERT_TRUE(saveBench(bench, folder.file("a.bench")).ok());
    const auto loaded = loadBench(folder.file("a.bench"));
    ASSERT_TRUE(loaded.ok());
    EXPECT_TRUE(sameBench(bench, loaded.value()));
    EXPECT_TRUE(test::leftBehind(folder).empty()) << test::leftBehind(folder);
    // A folder in the way: the rename fails, nothing is left beside.
    std::filesystem::create_directory(folder.file("b.bench"));
    test::writeFile(folder.file("b.bench/x"), "y");
    EXPECT_FALSE(saveBench(bench, folder.file("b.bench")).ok());
    EXPECT_TRUE(test::leftBehind(folder).empty()) << test::leftBehind(folder);
    EXPECT_FALSE(loadBench(folder.file("none.bench")).ok());
}

TEST(CheckDevices, SaysWhatTheBoxHasNot) {
    Json j = minimal();
    j["signals"][0]["terminal"] = "AI99";
    EXPECT_NE(checkDevices(*readBench(jsonText(j)).bench).front().english().find("no terminal AI99"),
              std::string::npos);
    j = minimal();
    j["signals"][0]["range"] = {{"low", 0}, {"high", 3}};
    EXPECT_NE(checkDevices(*readBench(jsonText(j)).bench).front().english().find("no range from 0 to 3 V"),
              std::string::npos);
    j = minimal();
    j["signals"][0]["kind"] = "counter-input";
    j["signals"][0]["chain"] = Json::array();
    EXPECT_NE(checkDevices(*readBench(jsonText(j)).bench).front().english().find("kind analog-input"),
              std::string::npos);
    j = minimal();
    j["devices"][0]["kind"] = "teapot";
    EXPECT_NE(checkDevices(*readBench(jsonText(j)).bench).front().english().find("Use one of: sim-io-box, "),
              std::string::npos);
    j = minimal();
    j["devices"][0]["settings"] = {{"faults", {"gremlins"}}};
    EXPECT_NE(checkDevices(*readBench(jsonText(j)).bench).front().english().find("gremlins"), std::string::npos);
}

TEST(BenchEdit, PartsAreSharedAndTheOldVersionStaysAsItWas) {
    const Bench before = test::exampleBench("pump-bench");
    SignalSpec changed = *before.signal("flow");
    changed.name = "Flow rate";
    const Bench after = withSignal(before, changed);
    EXPECT_EQ(before.signal("flow")->name, "Flow");
    EXPECT_EQ(after.signal("flow")->name, "Flow rate");
    EXPECT_EQ(before.signal("spare"), after.signal("spare")) << "the same object, not a copy";
    EXPECT_FALSE(sameBench(before, after));
    EXPECT_TRUE(sameBench(before, withSignal(after, *before.signal("flow"))));
}

TEST(BenchEdit, RemovingASignalTakesItOffThePages) {
    const Bench before = test::exampleBench("pump-bench");
    const Bench after = withoutSignal(before, "outlet-pressure");
    EXPECT_EQ(after.signal("outlet-pressure"), nullptr);
    EXPECT_TRUE(after.ribbonSignal.empty());
    bool dial = false, inTrace = false;
    for (const TileSpec& t : after.page("overview")->tiles) {
        dial = dial || t.id == "outlet";
        inTrace = inTrace || (t.id == "hydraulics" && t.signals.size() == 2);
    }
    EXPECT_FALSE(dial) << "a tile without a signal goes";
    EXPECT_TRUE(inTrace) << "a trace keeps its others";
    EXPECT_TRUE(readBench(writeBench(after)).bench) << "what is left is a valid bench";
    EXPECT_TRUE(withoutDevice(before, "box").signals.empty());
}

TEST(FreshId, IsNeverTaken) {
    EXPECT_EQ(freshId("Motor Current (A)", {}), "motor-current-a");
    EXPECT_EQ(freshId("x", {"x", "x-2"}), "x-3");
    EXPECT_EQ(freshId("水", {}), "item");
}

TEST(Limits, AReadingAtALimitIsWithin) {
    EXPECT_EQ(verdictOf({}, 5), Verdict::none);
    EXPECT_EQ(verdictOf({1, 5}, 5), Verdict::within);
    EXPECT_EQ(verdictOf({1, 5}, 5.01), Verdict::high);
    EXPECT_EQ(verdictOf({1, {}}, 0.9), Verdict::low);
    EXPECT_EQ(verdictOf({1, 5}, std::nan("")), Verdict::none);
}

}  // namespace
}  // namespace cruscotto
