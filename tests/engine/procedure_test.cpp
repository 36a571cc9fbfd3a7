// Procedures at work in the engine: what they do to outputs and runs, and what becomes of outputs however they end.
#include "at_work.h"
#include "core/bench/procedure_file.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"
#include "core/run/run_reader.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::TempFolder;

class ProcedureAtWork : public test::AtWork {
protected:
    static ProcedureSpec procedure(const std::vector<std::string>& steps) {
        ProcedureSpec out;
        out.id = "p";
        out.name = "Trial";
        for (const std::string& json : steps) {
            auto step = stepFromText(json);
            if (!step) throw std::runtime_error(step.error().english());
            out.steps.push_back(step.value());
        }
        if (auto fine = checkProcedure(test::oneOutput(), out); !fine) throw std::runtime_error(fine.error().english());
        return out;
    }
    bool ended() {
        return eventually([&] {
            const auto r = engine->procedureReport();
            return r && r->state == RunState::ended;
        });
    }
    bool standsAt(std::size_t step) {
        return eventually([&] { return engine->procedureReport()->at == step; });
    }
};
const char* const setTo6 = R"({"do": "set", "output": "drive", "value": 6})";
const char* const waitFor5 = R"({"do": "wait", "until": {"is": "above", "signal": "in", "level": 5}, "at-most-s": 60})";

TEST_F(ProcedureAtWork, SetsWaitsMeasuresAndEndsSafeAndAllOfItIsInTheRun) {
    const TempFolder folder;
    AtWork::begin(test::oneOutput(), folder.file("a.run"));
    ASSERT_TRUE(engine->setOutput("drive", 9));
    ASSERT_TRUE(engine
                    ->startProcedure(procedure({setTo6, waitFor5, R"({"do": "hold", "seconds": 0.02})",
                                                R"({"do": "measure", "take": [{"signal": "in", "measure": "maximum",
                                                    "high": 7}]})",
                                                R"({"do": "mark", "words": "there"})"}))
                    .ok());
    EXPECT_FALSE(engine->startProcedure(procedure({setTo6})).ok()) << "one at a time";
    ASSERT_TRUE(driven(6)) << "the hand lets go when a person starts one";
    EXPECT_EQ(engine->outputState("drive")->holder, OutputHolder::procedure);
    EXPECT_EQ(engine->outputState("drive")->why.english(), "Trial");
    ASSERT_TRUE(standsAt(1));
    read(6);
    ASSERT_TRUE(standsAt(2) || engine->procedureReport()->at > 2);
    for (int i = 0; i < 200 && engine->procedureReport()->state != RunState::ended; ++i) {
        read(6.5);
        ASSERT_TRUE(eventually([&] { return engine->source().at("in", engine->now()).value == 6.5; }));
    }
    ASSERT_TRUE(ended());
    const auto report = engine->procedureReport();
    EXPECT_EQ(report->verdict, StepVerdict::passed) << report->steps.at(3).why.english();
    EXPECT_NEAR(report->steps.at(3).values.at(0).value, 6.5, 0.5);
    ASSERT_TRUE(driven(0.5)) << "its safe value, not its start";
    engine->stop();
    const RunInfo info = RunReader::open(folder.file("a.run")).value()->info();
    std::vector<std::string> events;
    for (const RunEvent& e : info.events)
        if (e.kind == "procedure") events.push_back(e.words);
    ASSERT_EQ(events.size(), 7U);
    EXPECT_EQ(events.front(), "Trial begins");
    EXPECT_EQ(events[1], "1  Set Drive to 6 V: passed");
    EXPECT_EQ(events.back(), "Trial: passed");
    EXPECT_EQ(info.marks.at(0).words, "there");
}

TEST_F(ProcedureAtWork, EndsSafeHoweverItEnds) {
    AtWork::begin(test::oneOutput());
    const auto start = [&] {
        ASSERT_TRUE(engine->startProcedure(procedure({setTo6, waitFor5})).ok());
        ASSERT_TRUE(driven(6));
        ASSERT_TRUE(standsAt(1));
    };
    start();
    engine->endProcedure(Text("By hand."));
    ASSERT_TRUE(driven(0.5));
    EXPECT_EQ(engine->procedureReport()->verdict, StepVerdict::undone);
    start();
    ASSERT_TRUE(engine->setOutput("drive", 4));
    ASSERT_TRUE(ended()) << "somebody took the output";
    EXPECT_EQ(engine->procedureReport()->verdict, StepVerdict::failed);
    ASSERT_TRUE(driven(4)) << "who set it has the word";
    engine->releaseOutput("drive");
    ASSERT_TRUE(driven(0.5));
    start();
    link(LinkState::lost);
    ASSERT_TRUE(ended());
    ASSERT_TRUE(driven(0.5));
    link(LinkState::live);
    start();
    engine->endOutputs();
    read(0);
    ASSERT_TRUE(ended());
    EXPECT_EQ(drive(), 0.5);
}

TEST_F(ProcedureAtWork, AnInterlockEndsItAndSaysSo) {
    Bench bench = test::oneOutput();
    bench =
        withRule(bench, ruleFromText(bench, R"({"id": "guard", "name": "Guard", "when": {"is": "above", "signal": "in",
        "level": 50}, "then": [{"do": "hold", "output": "drive", "value": 0}]})")
                            .value());
    AtWork::begin(bench);
    ASSERT_TRUE(engine->startProcedure(procedure({setTo6, R"({"do": "hold", "seconds": 60})"})).ok());
    ASSERT_TRUE(driven(6));
    read(99);
    ASSERT_TRUE(ended());
    EXPECT_EQ(engine->procedureReport()->steps.at(1).why.english(), "Drive is held at 0: Guard");
    EXPECT_EQ(drive(), 0);
    ASSERT_TRUE(engine->startProcedure(procedure({setTo6})).ok());
    ASSERT_TRUE(ended());
    EXPECT_EQ(engine->procedureReport()->steps.at(0).verdict, StepVerdict::failed) << "it cannot be set now";
}

TEST_F(ProcedureAtWork, IsPausedAndAsks) {
    AtWork::begin(test::oneOutput());
    ASSERT_TRUE(engine
                    ->startProcedure(procedure({setTo6, R"({"do": "ask", "words": "Ready?", "answer": "yes-no"})",
                                                R"({"do": "hold", "seconds": 60})"}))
                    .ok());
    ASSERT_TRUE(eventually([&] { return engine->procedureReport()->state == RunState::asking; }));
    EXPECT_EQ(drive(), 6) << "it keeps its outputs meanwhile";
    EXPECT_FALSE(engine->answerProcedure("maybe").ok());
    ASSERT_TRUE(engine->answerProcedure("yes").ok());
    ASSERT_TRUE(standsAt(2));
    engine->pauseProcedure(true);
    ASSERT_TRUE(eventually([&] { return engine->procedureReport()->state == RunState::paused; }));
    engine->pauseProcedure(false);
    ASSERT_TRUE(eventually([&] { return engine->procedureReport()->state == RunState::running; }));
    engine->endProcedure(Text("Enough."));
    ASSERT_TRUE(driven(0.5));
    EXPECT_FALSE(engine->answerProcedure("yes").ok());
}

}  // namespace
}  // namespace cruscotto
