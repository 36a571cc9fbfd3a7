// The pages of procedures, controls and alarms, driven as a person drives them.
#include "app/rules/procedure_view.h"

#include <QGuiApplication>
#include <QPointer>
#include <QSlider>

#include "app/rules/control_view.h"
#include "app/window_fixture.h"
#include "core/bench/control_file.h"
#include "core/bench/procedure_file.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"

namespace cruscotto {
namespace {

class ProcedurePage : public test::WindowTest {
protected:
    ProcedureView& page() { return window->openProcedures(); }
};

TEST_F(ProcedurePage, StepsAreAddedMovedCopiedAndUndone) {
    ProcedureView& view = page();
    view.addProcedure();
    QApplication::processEvents();
    ASSERT_NE(view.procedure(), nullptr);
    const std::string id = view.procedure()->id;
    view.addStep(StepKind::set);
    view.addStep(StepKind::measure);
    view.addStep(StepKind::repeat);
    QApplication::processEvents();
    const auto kinds = [&] {
        std::vector<StepKind> out;
        for (const ProcedureStep& s : session().bench().procedure(id)->steps) out.push_back(s.kind);
        return out;
    };
    EXPECT_EQ(kinds(), (std::vector{StepKind::hold, StepKind::set, StepKind::measure, StepKind::repeat}));
    view.chooseStep({1});
    view.moveStep(1);
    EXPECT_EQ(kinds()[2], StepKind::set);
    view.copyStep();
    view.pasteStep();
    EXPECT_EQ(kinds().size(), 5U);
    EXPECT_EQ(kinds()[3], StepKind::set);
    session().undoStack().undo();
    EXPECT_EQ(kinds().size(), 4U);
    view.chooseStep({3, 0});
    view.removeStep();
    EXPECT_EQ(session().bench().procedure(id)->steps[3].steps.size(), 1U) << "a repetition keeps a step";
    view.chooseStep({3});
    view.removeStep();
    EXPECT_EQ(kinds().size(), 3U);
    QGuiApplication::clipboard()->setText("no step");
    QString said;
    QObject::connect(&view, &ProcedureView::said, [&](const QString& words) { said = words; });
    view.pasteStep();
    EXPECT_FALSE(said.isEmpty());
    view.removeProcedure();
    EXPECT_EQ(view.procedure(), nullptr);
}

TEST_F(ProcedurePage, ShowsStepsAtWorkAsksAndTellsTheVerdict) {
    ProcedureSpec p;
    p.id = "trial";
    p.name = "Trial";
    for (const char* json :
         {R"({"do": "set", "output": "drive", "value": 2})", R"({"do": "ask", "words": "Ready?", "answer": "yes-no"})",
          R"({"do": "measure", "seconds": 0.1, "take": [{"signal": "drive", "high": 1, "unit": "V"}]})"})
        p.steps.push_back(stepFromText(json).value());
    session().edit("p", withProcedure(session().bench(), p));
    ProcedureView& view = window->openProcedures("trial");
    view.findChild<Switch*>()->setChecked(false);
    view.start();
    ASSERT_TRUE(waitFor([&] { return view.cell(1, 3).startsWith("?"); }));
    EXPECT_EQ(view.cell(0, 3), "✓ passed");
    EXPECT_EQ(view.cell(0, 2), "2.00 V") << "what the output is now";
    view.answer("yes");
    ASSERT_TRUE(waitFor([&] { return view.cell(2, 3) == "✕ failed"; }));
    EXPECT_EQ(session().engine()->procedureReport()->verdict, StepVerdict::failed);
    EXPECT_TRUE(view.findChild<QLabel*>("verdict")->text().startsWith("✕ failed"));
    view.chooseStep({0});
    view.start(true);
    ASSERT_TRUE(waitFor([&] { return session().engine()->procedureReport()->steps.size() == 1; }));
}

TEST_F(ProcedurePage, AControlIsMadeSwitchedOnAndTuned) {
    RulesView& rules = window->openRules();
    ControlSpec spec = controlFromText(session().bench(),
                                       R"({"id": "c", "name": "Speed", "output": "drive", "by": "pid", "signal": "flow",
        "setpoint": 20, "gain": 0.01, "integral-s": 5, "enabled": false})")
                           .value();
    session().edit("c", withControl(session().bench(), spec));
    QApplication::processEvents();
    ASSERT_TRUE(waitFor([&] { return rules.controlWords("c") == "rests"; }));
    spec.enabled = true;
    session().edit("c", withControl(session().bench(), spec));
    QApplication::processEvents();
    ASSERT_TRUE(waitFor([&] { return rules.controlWords("c").contains("→"); }));
    ControlView& view = window->openControl("c");
    ASSERT_TRUE(waitFor([&] { return view.stateWords().contains("setpoint 20"); }));
    view.beginStep(1, 600);
    ASSERT_TRUE(waitFor([&] { return view.stateWords().contains("by hand now"); }));
    view.finishStep();
    EXPECT_FALSE(view.proposalWords().isEmpty()) << "a fit, or why there is none";
    ASSERT_TRUE(waitFor([&] { return !view.stateWords().contains("by hand now"); }));
}

TEST_F(ProcedurePage, AnOutputGoesUpAndDownByStepsWithKeys) {
    QSlider* slider = nullptr;
    for (QSlider* s : window->findChildren<QSlider*>())
        if (s->accessibleName() == "Drive speed") slider = s;
    ASSERT_NE(slider, nullptr);
    const auto drive = [&] { return session().engine()->outputState("drive")->value; };
    session().engine()->setOutput("drive", 4);
    frame();
    slider->setFocus();
    QTest::keyClick(slider, Qt::Key_Plus);
    EXPECT_EQ(drive(), 4.5);
    QTest::keyClick(slider, Qt::Key_Minus);
    QTest::keyClick(slider, Qt::Key_Minus);
    EXPECT_EQ(drive(), 3.5);
    QTest::keyClick(slider, Qt::Key_Delete);
    EXPECT_EQ(drive(), 0) << "its safe value";
    QTest::keyClick(slider, Qt::Key_Minus);
    EXPECT_EQ(drive(), 0) << "not below its lowest";
}

TEST_F(ProcedurePage, AlarmsAreAcknowledgedWithANameAndStandInTheJournal) {
    const auto rule = ruleFromText(session().bench(),
                                   R"({"id": "a", "name": "A", "when": {"is": "above", "signal": "drive", "level": 1},
        "then": [{"do": "alarm", "words": "Too fast", "priority": 1}]})");
    ASSERT_TRUE(rule.ok()) << rule.error().english();
    RulesView& view = window->openRules();
    session().edit("r", withRule(session().bench(), rule.value()));
    ASSERT_TRUE(waitFor([&] { return view.alarmList().rows() == 1; }));
    ASSERT_NE(session().alarmOn("drive"), nullptr);
    EXPECT_EQ(session().alarmTimes().size(), 1U);
    view.alarmList().showJournal(true);
    view.alarmList().acknowledgeAll();
    ASSERT_TRUE(waitFor([&] { return session().engine()->alarmJournal().size() == 2; }));
    EXPECT_EQ(session().engine()->alarmJournal().back().what, AlarmEvent::What::acknowledged);
    ASSERT_TRUE(waitFor([&] { return view.alarmList().journalRows() == 2; }));
    view.alarmList().search("acknowledged");
    EXPECT_EQ(view.alarmList().journalRows(), 1);
    const test::TempFolder folder;
    ASSERT_TRUE(view.alarmList().saveJournal(QString::fromStdString(folder.file("a.csv"))));
    EXPECT_NE(test::readFile(folder.file("a.csv")).find("\"Too fast\",1,\"a\""), std::string::npos);
}

TEST_F(ProcedurePage, TheJournalOfARunTellsAllThatHappenedAndGoesThere) {
    const auto rule = ruleFromText(session().bench(),
                                   R"({"id": "a", "name": "A", "when": {"is": "above", "signal": "drive", "level": 1},
        "then": [{"do": "alarm", "words": "Too fast", "priority": 1}]})");
    session().edit("r", withRule(session().bench(), rule.value()));
    const test::TempFolder folder;
    recordRun(folder.file("a.run"), 3);
    open(QString::fromStdString(folder.file("a.run")));
    ASSERT_TRUE(waitFor([&] { return session().isRun() && session().run()->state().done; }));
    const auto events = session().runEvents();
    ASSERT_FALSE(events.empty());
    AlarmList& list = window->openRules().alarmList();
    list.showJournal(true);
    EXPECT_EQ(list.journalRows(), static_cast<int>(events.size())) << "alarms and all else";
    list.search("Too fast");
    auto* table = list.findChild<QTableWidget*>();
    int row = 0;
    while (row < table->rowCount() && table->item(row, 1)->text() != "raised") ++row;
    ASSERT_LT(row, table->rowCount());
    EXPECT_EQ(table->item(row, 2)->text(), "Too fast");
    const auto raised = std::ranges::find_if(events, [](const RunEvent& e) { return e.kind == "alarm"; });
    Q_EMIT table->itemActivated(table->item(row, 0));
    EXPECT_EQ(session().shownAt(), raised->at);
    EXPECT_TRUE(window->page().isVisible()) << "which shows what it was then";
    list.search("no such words");
    EXPECT_EQ(list.journalRows(), 0);
}

TEST_F(ProcedurePage, AnAlarmIsShelvedForATimeByWhoeverSaysSo) {
    const auto rule = ruleFromText(session().bench(),
                                   R"({"id": "a", "name": "A", "when": {"is": "above", "signal": "drive", "level": 1},
        "then": [{"do": "alarm", "words": "Too fast", "priority": 1}]})");
    AlarmList& list = window->openRules().alarmList();
    session().edit("r", withRule(session().bench(), rule.value()));
    QPushButton* shelve = nullptr;
    const auto button = [&](const QString& words) {
        for (QPushButton* b : list.findChildren<QPushButton*>())
            if (b->text().startsWith(words) && b->isVisible()) shelve = b;
        return shelve && shelve->text().startsWith(words);
    };
    ASSERT_TRUE(waitFor([&] { return button("Shelve"); }));
    ASSERT_TRUE(shelve->menu());
    list.findChildren<QLineEdit*>().front()->setText("mara");
    shelve->menu()->actions().at(1)->trigger();
    ASSERT_TRUE(waitFor([&] { return session().alarms().at(0).state == AlarmState::shelved; }));
    EXPECT_EQ((*session().alarms()[0].shelvedUntil - session().engine()->now()).seconds() > 3500, true);
    EXPECT_EQ(session().engine()->alarmJournal().back().person, "mara");
    ASSERT_TRUE(waitFor([&] { return button("Unshelve"); }));
    EXPECT_FALSE(shelve->menu());
    QTest::mouseClick(shelve, Qt::LeftButton);
    EXPECT_TRUE(waitFor([&] { return session().alarms().at(0).state == AlarmState::unacknowledged; }));
}

TEST_F(ProcedurePage, TwoHundredAlarmsAreAllCountedAndTakeAFewRowsThatStay) {
    constexpr int many = 200;
    Bench bench = session().bench();
    bench.rules.clear();
    for (int i = 0; i < many; ++i) {
        RuleSpec rule;
        rule.id = rule.name = "a" + std::to_string(i);
        rule.when = {.kind = ConditionKind::every, .level = 0.2};
        rule.until = Condition{.kind = ConditionKind::every, .level = 0.3};
        rule.then = {{.kind = ActionKind::alarm, .words = rule.name, .priority = 1 + i % 3}};
        bench = withRule(bench, std::move(rule));
    }
    session().edit("many", bench);
    AlarmList list(session(), window.get());
    ASSERT_TRUE(waitFor([&] {
        list.refresh();
        return session().alarms().size() == many && list.rows() > 0;
    }));
    EXPECT_LE(list.rows(), 12);
    const QPointer<LiveWords> row = list.findChildren<LiveWords*>().last();
    const auto told = session().engine()->alarmsJournaled();
    ASSERT_TRUE(waitFor([&] {
        list.refresh();
        return session().engine()->alarmsJournaled() >= told + 2 * many;
    }));
    EXPECT_FALSE(row.isNull()) << "what is there shows the next ones";
    EXPECT_LE(list.findChildren<LiveWords*>().size(), 1 + 2 * 12);
}

}  // namespace
}  // namespace cruscotto
