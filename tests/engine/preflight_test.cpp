#include "engine/preflight.h"

#include <nlohmann/json.hpp>

#include "core/base/json_text.h"

#include "core/chain/calibration_sheet.h"
#include "scripted_device.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using Grade = PreflightFinding::Grade;

/// What is said of a topic of a signal; null: nothing.
const PreflightFinding* found(const std::vector<PreflightFinding>& all, const std::string& about,
                              const std::string& topic) {
    const auto it =
        std::ranges::find_if(all, [&](const PreflightFinding& f) { return f.about == about && f.topic == topic; });
    return it == all.end() ? nullptr : &*it;
}

class Preflight : public testing::Test {
protected:
    /// Of the pump bench, measured for five seconds as fast as it goes, with these faults.
    std::vector<PreflightFinding> look(const std::string& faults, const std::function<Bench(Bench)>& change = {},
                                       PreflightFacts facts = {}) {
        auto loaded = loadBench(test::example("pump-bench"));
        EXPECT_TRUE(loaded.ok());
        Bench bench = loaded.value();
        DeviceSpec box = *bench.device("box");
        box.settings =
            jsonText(nlohmann::json{{"seed", 1}, {"rate-hz", 1000}, {"faults", nlohmann::json::parse(faults)}});
        bench = withDevice(bench, box);
        if (change) bench = change(std::move(bench));
        EngineOptions options;
        options.pace = Pace::asFastAsPossible;
        options.until = seconds(8);
        auto engine = Engine::start(bench, options);
        engine->wait();
        if (facts.today.empty()) facts.today = "2026-01-15";
        facts.devices = engine->deviceStatus();
        return preflight(bench, engine->source(), engine->now(), seconds(2), facts);
    }
};

TEST_F(Preflight, AHealthyBenchIsGoodAndSaysWhatItUses) {
    PreflightFacts facts;
    facts.freeBytes = 7'200'000'000;
    facts.bytesPerSecond = 1e5;
    const auto all = look("[]", {}, facts);
    for (const PreflightFinding& f : all)
        if (f.about != "spare") EXPECT_NE(f.grade, Grade::red) << f.name << " " << f.words.english();
    EXPECT_EQ(found(all, "outlet-pressure", "rate")->words.english(), "comes 1000 times a second.");
    EXPECT_EQ(found(all, "outlet-pressure", "calibration")->words.english(), "has no calibration sheet.");
    EXPECT_NE(found(all, "outlet-pressure", "range")->words.english().find("% of its range"), std::string::npos);
    EXPECT_EQ(found(all, "", "disk")->words.english(), "the disk holds 20.0 hours of this.");
    facts.bytesPerSecond = 1e8;
    EXPECT_EQ(found(look("[]", {}, facts), "", "disk")->grade, Grade::red);
}

TEST_F(Preflight, ABrokenWireIsRedWithWhatToDoAndComesFirst) {
    const auto all = look(R"(["broken-outlet-wire"])");
    const PreflightFinding* broken = found(all, "outlet-pressure", "connected");
    ASSERT_TRUE(broken);
    EXPECT_EQ(broken->grade, Grade::red);
    EXPECT_FALSE(broken->remedy.empty());
    EXPECT_EQ(all.front().grade, Grade::red);
    EXPECT_EQ(worstOf(all), Grade::red);
    EXPECT_FALSE(found(all, "outlet-pressure", "noise")) << "of what is not there nothing more is said";
}

TEST_F(Preflight, LimitsAndSheetsAreJudged) {
    const auto all = look("[]", [](Bench bench) {
        SignalSpec s = *bench.signal("outlet-pressure");
        CalibrationSheet sheet{{{0, 0}, {1, 1}}, "line", "bar", "2025-01-01", "2026-01-01"};
        s.chain.push_back(withSheet(Stage::of("calibration"), sheet));
        s.limits.high = 0.01;
        bench = withSignal(bench, s);
        SignalSpec other = *bench.signal("inlet-pressure");
        sheet.due = "2026-01-20";
        other.chain.push_back(withSheet(Stage::of("calibration"), sheet));
        return withSignal(bench, other);
    });
    EXPECT_EQ(found(all, "outlet-pressure", "plausible")->words.english(), "stands above its high limit.");
    EXPECT_EQ(found(all, "outlet-pressure", "calibration")->grade, Grade::amber);
    EXPECT_NE(found(all, "outlet-pressure", "calibration")->words.english().find("overdue"), std::string::npos);
    EXPECT_NE(found(all, "inlet-pressure", "calibration")->words.english().find("in 5 days"), std::string::npos);
}

}  // namespace
}  // namespace cruscotto
