// Procedures worked through in a world that is made here.
#include "core/procedure/procedure_run.h"

#include <gtest/gtest.h>

#include <cmath>

#include "core/procedure/procedure_report.h"

namespace cruscotto {
namespace {

struct TestWorld : ProcedureWorld {
    std::vector<std::string> did;
    Text refusal, takenBy;
    double measured_ = 5;
    std::optional<Instant> read;
    std::map<std::string, std::string> answers;
    std::optional<Span> over;

    Text set(const std::string& output, double value, double within) override {
        did.push_back(output + "=" + std::to_string(static_cast<int>(value)) + (within > 0 ? " slowly" : ""));
        return refusal;
    }
    void command(const std::string& device, const std::string& key, const std::string& value) override {
        did.push_back(device + "." + key + "=" + value);
    }
    void mark(const std::string& words, Instant) override { did.push_back("mark " + words); }
    Text taken() override { return takenBy; }
    void seed(RuleEvaluator& evaluator, Instant now) override {
        const double v = 1;
        evaluator.feed("in", std::span(&v, 1), [&](std::size_t) { return now; });
    }
    std::optional<Instant> readTo(const std::string&) override { return read; }
    std::optional<std::vector<Measure>> measured(const std::vector<ProcedureMeasure>& what, Span span) override {
        over = span;
        return std::vector<Measure>(what.size(), Measure{measured_, "bar", 0.1, {}, {}});
    }
    std::string words(const ProcedureStep& step, const std::map<std::string, double>&) override {
        return stepName(step.kind);
    }
    std::string measureWords(const ProcedureMeasure& m) override { return m.measure; }
    std::optional<std::string> answer(const ProcedureStep&, const std::string& number) override {
        const auto it = answers.find(number);
        return it == answers.end() ? std::nullopt : std::optional(it->second);
    }
    void note(const StepResult& r, Instant) override { did.push_back(r.number + " " + stepVerdictName(r.verdict)); }
};

Instant secondsIn(double s) {
    return Instant{} + seconds(s);
}
ProcedureStep step(StepKind kind, double lasts = 0) {
    ProcedureStep s;
    s.kind = kind;
    s.seconds = lasts;
    return s;
}
ProcedureStep setTo(Amount v) {
    ProcedureStep s = step(StepKind::set);
    s.on = "out";
    s.amount = std::move(v);
    return s;
}
ProcedureStep measureStep(double lasts, std::optional<Amount> low, std::optional<Amount> high) {
    ProcedureStep s = step(StepKind::measure, lasts);
    s.take = {{.signal = "in", .name = "head", .low = std::move(low), .high = std::move(high)}};
    s.endsIfFailed = false;
    return s;
}
ProcedureSpec of(std::vector<ProcedureStep> steps) {
    ProcedureSpec out;
    out.id = out.name = "p";
    out.steps = std::move(steps);
    return out;
}

TEST(ProcedureRun, GoesThroughEachRowOfARepetition) {
    ProcedureStep repeat = step(StepKind::repeat);
    repeat.columns = {{"v", {4, 7}}, {"most", {6, 3}}};
    repeat.steps = {setTo({0, "v"}), measureStep(2, std::nullopt, Amount{0, "most"})};
    TestWorld world;
    ProcedureRun run(of({repeat, step(StepKind::mark)}), world, secondsIn(0));
    run.advance(secondsIn(0));
    EXPECT_EQ(world.did, (std::vector<std::string>{"out=4", "1.1 passed"}));
    run.advance(secondsIn(1.9));
    EXPECT_EQ(run.report(secondsIn(1.9)).remains, std::optional(milliseconds(100)));
    run.advance(secondsIn(2));
    EXPECT_EQ(run.report(secondsIn(2)).at, 1U) << "readings of its end have not come";
    world.read = secondsIn(2);
    run.advance(secondsIn(2.1));
    ASSERT_TRUE(world.over);
    EXPECT_EQ(world.over->from, secondsIn(0));
    EXPECT_EQ(world.over->to, secondsIn(2));
    world.read = secondsIn(9);
    run.advance(secondsIn(4.2));
    const ProcedureReport report = run.report(secondsIn(4.2));
    EXPECT_EQ(report.state, RunState::ended);
    EXPECT_EQ(report.verdict, StepVerdict::failed);
    ASSERT_EQ(report.steps.size(), 5U);
    EXPECT_EQ(report.steps[1].verdict, StepVerdict::passed);
    EXPECT_EQ(report.steps[3].verdict, StepVerdict::failed) << "5 is above 3";
    EXPECT_EQ(report.steps[3].values.at(0).high, std::optional(3.0));
    EXPECT_EQ(report.steps[3].number, "1.2");
    EXPECT_EQ(rowWords(report.steps[3]), "v = 7, most = 3");
    EXPECT_EQ(report.steps[4].verdict, StepVerdict::passed) << "it goes on behind a measure that failed";
}

TEST(ProcedureRun, WaitsUntilItHoldsOrForItsTime) {
    ProcedureStep wait = step(StepKind::wait, 10);
    wait.until = {.kind = ConditionKind::above, .of = "in", .level = 5, .forSeconds = 1};
    TestWorld world;
    {
        ProcedureRun run(of({wait}), world, secondsIn(0));
        run.advance(secondsIn(0));
        const double v = 6;
        run.feed("in", std::span(&v, 1), [](std::size_t) { return secondsIn(3); });
        run.advance(secondsIn(3.5));
        EXPECT_FALSE(run.over());
        EXPECT_EQ(run.nextDeadline(), std::optional(secondsIn(4)));
        run.advance(secondsIn(4));
        EXPECT_EQ(run.report(secondsIn(4)).verdict, StepVerdict::passed);
    }
    ProcedureRun run(of({wait, setTo({1, {}})}), world, secondsIn(0));
    run.advance(secondsIn(0));
    run.advance(secondsIn(9.9));
    EXPECT_FALSE(run.over());
    run.advance(secondsIn(10));
    const ProcedureReport report = run.report(secondsIn(10));
    EXPECT_EQ(report.verdict, StepVerdict::failed);
    EXPECT_EQ(report.steps[0].why.english(), "It did not come to that within 10 s.");
    EXPECT_EQ(report.steps[1].verdict, StepVerdict::undone) << "it ends with a step that failed";
}

TEST(ProcedureRun, AsksAndTakesAnswers) {
    ProcedureStep yes = step(StepKind::ask), number = step(StepKind::ask);
    yes.answer = ProcedureStep::Answer::yesNo;
    number.answer = ProcedureStep::Answer::number;
    number.name = "ambient";
    number.low = Amount{10, {}};
    TestWorld world;
    ProcedureRun run(of({yes, number, setTo({0, "ambient"})}), world, secondsIn(0));
    run.advance(secondsIn(0));
    EXPECT_EQ(run.report(secondsIn(0)).state, RunState::asking);
    EXPECT_FALSE(run.answer("perhaps", secondsIn(1)).ok());
    ASSERT_TRUE(run.answer("yes", secondsIn(1)).ok());
    run.advance(secondsIn(1));
    EXPECT_FALSE(run.answer("warm", secondsIn(2)).ok());
    ASSERT_TRUE(run.answer("21", secondsIn(2)).ok());
    run.advance(secondsIn(2));
    EXPECT_EQ(world.did.at(2), "out=21");
    EXPECT_EQ(run.report(secondsIn(2)).verdict, StepVerdict::passed);
    world.answers = {{"1", "no"}, {"2", "3"}};
    ProcedureRun known(of({yes, number, step(StepKind::mark)}), world, secondsIn(0));
    known.advance(secondsIn(0));
    const ProcedureReport report = known.report(secondsIn(0));
    EXPECT_EQ(report.steps[0].verdict, StepVerdict::failed);
    EXPECT_TRUE(known.over()) << "an answer of no ends it, where nothing else is said";
}

TEST(ProcedureRun, PausedAWaitOrATimeBeginsAnew) {
    TestWorld world;
    ProcedureRun run(of({step(StepKind::hold, 5)}), world, secondsIn(0));
    run.advance(secondsIn(0));
    run.pause(true, secondsIn(4));
    run.advance(secondsIn(100));
    EXPECT_EQ(run.report(secondsIn(100)).state, RunState::paused);
    EXPECT_FALSE(run.nextDeadline());
    run.pause(false, secondsIn(100));
    run.advance(secondsIn(104.9));
    EXPECT_FALSE(run.over());
    run.advance(secondsIn(105));
    EXPECT_TRUE(run.over());
}

TEST(ProcedureRun, WhoeverTakesAnOutputEndsIt) {
    TestWorld world;
    ProcedureRun run(of({setTo({1, {}}), step(StepKind::hold, 5), step(StepKind::mark)}), world, secondsIn(0));
    run.advance(secondsIn(0));
    world.takenBy = Text("The guard door is open.");
    run.advance(secondsIn(1));
    const ProcedureReport report = run.report(secondsIn(1));
    EXPECT_EQ(report.verdict, StepVerdict::failed);
    EXPECT_EQ(report.steps[1].why.english(), "The guard door is open.");
    EXPECT_EQ(report.steps[2].verdict, StepVerdict::undone);
}

TEST(ProcedureRun, EndedByHandItIsNotFinished) {
    TestWorld world;
    ProcedureRun run(of({step(StepKind::hold, 5), step(StepKind::mark)}), world, secondsIn(0));
    run.advance(secondsIn(0));
    run.end(Text("It was ended by hand."), secondsIn(1));
    EXPECT_EQ(run.report(secondsIn(1)).verdict, StepVerdict::undone);
    const std::string xml = procedureJunit(run.report(secondsIn(1)), "bench", {});
    EXPECT_NE(xml.find("<testsuite name=\"p\" tests=\"2\" failures=\"0\" errors=\"0\" skipped=\"2\""),
              std::string::npos)
        << xml;
    EXPECT_NE(xml.find("message=\"It was ended by hand.\""), std::string::npos);
}

TEST(Procedure, OneStepAloneInItsFirstRow) {
    ProcedureStep repeat = step(StepKind::repeat);
    repeat.columns = {{"v", {4, 7}}};
    repeat.steps = {setTo({0, "v"}), step(StepKind::mark)};
    const ProcedureSpec whole = of({step(StepKind::hold, 1), repeat});
    const ProcedureSpec alone = onlyStep(whole, {1, 0});
    const auto planned = plannedSteps(alone);
    ASSERT_EQ(planned.size(), 1U);
    EXPECT_EQ(planned[0].step->kind, StepKind::set);
    EXPECT_EQ(planned[0].row, (std::vector<std::pair<std::string, double>>{{"v", 4}}));
    EXPECT_EQ(plannedSteps(whole).size(), 5U);
    EXPECT_EQ(stepNumber({1, 0}), "2.1");
    EXPECT_EQ(stepAt(whole, {1, 5}), nullptr);
}

}  // namespace
}  // namespace cruscotto
