// The page of rules: written and read as sentences.
#include "app/rules/rules_view.h"

#include <QWidgetAction>
#include <future>

#include "app/rules/rule_menu.h"
#include "app/window_fixture.h"
#include "core/bench/rule_edits.h"

namespace cruscotto {
namespace {

class RulesPage : public test::WindowTest {
protected:
    void SetUp() override {
        WindowTest::SetUp();
        Bench bench = session().bench();
        bench.rules.clear();
        session().edit("test", bench);
    }
    RulesView& page() { return window->openRules(); }
    /// Chooses these words from the menu at a place of the only rule's sentence.
    void choose(const std::string& place, const QString& words) {
        QMenu menu;
        page().fillMenu(menu, session().bench().rules.at(0)->id, place);
        for (QAction* a : menu.actions())
            if (a->text() == words) return a->trigger();
        ADD_FAILURE() << "no \"" << words.toStdString() << "\" at " << place;
    }
    /// Types into the field of the menu there.
    void type(const std::string& place, const QString& text) {
        QMenu menu;
        page().fillMenu(menu, session().bench().rules.at(0)->id, place);
        QLineEdit* field = nullptr;
        for (QAction* a : menu.actions())
            if (auto* holder = qobject_cast<QWidgetAction*>(a))
                field = holder->defaultWidget()->findChild<QLineEdit*>();
        ASSERT_TRUE(field) << place;
        field->setText(text);
        QTest::keyClick(field, Qt::Key_Return);
    }
    QString sentence() { return page().sentence(session().bench().rules.at(0)->id); }
};

TEST_F(RulesPage, ARuleIsMadeAndChangedWordByWord) {
    window->signalList().select("outlet-pressure");
    page();
    QTest::mouseClick(window->findChild<QPushButton*>("newRule"), Qt::LeftButton);
    ASSERT_EQ(session().bench().rules.size(), 1U);
    EXPECT_TRUE(sentence().startsWith("When Outlet pressure is above ")) << sentence().toStdString();
    choose("/when/kind", "is below");
    type("/when/level", "0.5");
    choose("/when/kind", "… for a time");
    type("/when/for", "2");
    choose("/then/0/kind", "set an output");
    choose("/then/0/on", "Beacon");
    choose("/then/0/value", "on");
    EXPECT_EQ(sentence().toStdString(), "When Outlet pressure is below 0.5 bar for 2 s, set Beacon to on.");
    choose("/when/kind", "and another condition");
    choose("/when/parts/1/of", "Guard door");
    EXPECT_TRUE(sentence().contains(" and Guard door is ")) << sentence().toStdString();
    choose("/when/parts/1/kind", "Take it out");
    EXPECT_EQ(sentence().toStdString(), "When Outlet pressure is below 0.5 bar for 2 s, set Beacon to on.");
    session().undoStack().undo();
    EXPECT_TRUE(sentence().contains(" and "));
    // A word that is no number changes nothing.
    session().undoStack().redo();
    type("/when/level", "much");
    EXPECT_TRUE(sentence().contains("0.5 bar"));
    page().removeRule(session().bench().rules[0]->id);
    EXPECT_TRUE(session().bench().rules.empty());
}

TEST_F(RulesPage, ASignalChangesToAValueGiveOrTakeOrToAState) {
    window->signalList().select("outlet-pressure");
    page().addRule();
    choose("/then/0/kind", "sound a tone");
    choose("/when/kind", "changes to (a moment)");
    type("/when/level", "3");
    EXPECT_TRUE(sentence().startsWith("When Outlet pressure changes to 3 bar ± 0.")) << sentence().toStdString();
    type("/when/hysteresis", "0.2");
    EXPECT_TRUE(sentence().startsWith("When Outlet pressure changes to 3 bar ± 0.2 bar, ")) << sentence().toStdString();
    type("/when/hysteresis", "0");
    choose("/when/kind", "… give or take");
    EXPECT_TRUE(sentence().startsWith("When Outlet pressure changes to 3 bar ± 0.06 bar, "))
        << sentence().toStdString();
    choose("/when/of", "Guard door");
    choose("/when/kind", "changes to (a moment)");
    EXPECT_TRUE(sentence().startsWith("When Guard door changes to open, ")) << sentence().toStdString();
    choose("/when/level", "closed");
    EXPECT_TRUE(sentence().startsWith("When Guard door changes to closed, ")) << sentence().toStdString();
}

TEST_F(RulesPage, AnAlarmIsSuppressedWhileSomethingHolds) {
    window->signalList().select("flow");
    page().addRule();
    choose("/then/0/kind", "raise an alarm");
    const auto more = [&](const QString& words) {
        QMenu menu;
        page().fillMore(menu, session().bench().rules.back()->id);
        for (QAction* a : menu.actions())
            if (a->text() == words) return a->trigger();
        ADD_FAILURE() << "no " << words.toStdString();
    };
    more("no alarm while something holds");
    choose("/suppress/of", "Valve");
    choose("/suppress/kind", "is off");
    EXPECT_TRUE(sentence().endsWith("; no alarm while Valve is closed.")) << sentence().toStdString();
    QMenu kinds;
    page().fillMenu(kinds, session().bench().rules[0]->id, "/suppress/kind");
    for (const QAction* a : kinds.actions()) EXPECT_FALSE(a->text().contains("moment")) << "that suppresses nothing";
    choose("/suppress/kind", "Take it out");
    EXPECT_FALSE(sentence().contains("no alarm while"));

    more("Copy");
    ASSERT_EQ(session().bench().rules.size(), 2U);
    EXPECT_FALSE(session().bench().rules[1]->enabled) << "until it says something else";
    EXPECT_EQ(session().bench().rules[1]->when, session().bench().rules[0]->when);
    const std::string copy = session().bench().rules[1]->id;
    more("Move up");
    EXPECT_EQ(session().bench().rules[0]->id, copy) << "now it prevails";
    session().undoStack().undo();
    EXPECT_EQ(session().bench().rules[1]->id, copy);
}

/// Everything goes by keys: words are reached, their menus open below them, and the keyboard stays where it was.
TEST_F(RulesPage, TheKeyboardGoesOnWhereItWas) {
    window->signalList().select("outlet-pressure");
    RulesView& view = page();
    QTest::mouseClick(window->findChild<QPushButton*>("newRule"), Qt::LeftButton);
    const auto focused = [&] { return qobject_cast<QLabel*>(QApplication::focusWidget()); };
    ASSERT_TRUE(waitFor([&] { return focused() && focused()->text().contains("Outlet pressure"); }))
        << "in the new one";
    for (int i = 0; i < 3 && focused()->selectedText() != "is above"; ++i) QTest::keyClick(focused(), Qt::Key_Tab);
    ASSERT_EQ(focused()->selectedText(), "is above");
    bool opened = false;
    QTimer timer;
    QObject::connect(&timer, &QTimer::timeout, &timer, [&] {
        auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
        if (!menu) return;
        timer.stop();
        opened = true;
        for (QAction* a : menu->actions())
            if (a->text() == "is below") menu->setActiveAction(a);
        QTest::keyClick(menu, Qt::Key_Return);
        menu->close();
    });
    constexpr int everyMs = 5;
    timer.start(everyMs);
    QTest::keyClick(focused(), Qt::Key_Return);
    ASSERT_TRUE(opened);
    EXPECT_TRUE(view.sentence(session().bench().rules.at(0)->id).startsWith("When Outlet pressure is below "));
    window->activateWindow();  // without a window manager nobody does
    EXPECT_TRUE(waitFor([&] { return focused() && focused()->selectedText() == "is below"; }))
        << "in the row that was made anew, at the same words";
}

TEST_F(RulesPage, OfManySignalsOneIsFound) {
    window->signalList().select("outlet-pressure");
    page().addRule();
    QMenu menu;
    page().fillMenu(menu, session().bench().rules[0]->id, "/when/of");
    auto* holder = qobject_cast<QWidgetAction*>(menu.actions().front());
    ASSERT_TRUE(holder);
    auto* find = holder->defaultWidget()->findChild<QLineEdit*>();
    find->setText("TEMPER");
    int seen = 0;
    for (const QAction* a : menu.actions()) seen += a != holder && a->isVisible();
    EXPECT_EQ(seen, 3) << "three temperatures";
    QTest::keyClick(find, Qt::Key_Return);
    EXPECT_TRUE(sentence().startsWith("When Bearing temperature is above ")) << sentence().toStdString();
}

TEST_F(RulesPage, AConditionLooksAtAMeasureAndATotalIsSetToZero) {
    window->signalList().select("outlet-pressure");
    page().addRule();
    const auto chooseMeasure = [&](const QString& words) {
        QMenu menu;
        page().fillMenu(menu, session().bench().rules.at(0)->id, "/when/kind");
        for (QAction* a : menu.actions())
            if (a->menu())
                for (QAction* measure : a->menu()->actions())
                    if (measure->text() == words) return measure->trigger();
        ADD_FAILURE() << "no measure " << words.toStdString();
    };
    chooseMeasure("Standard deviation");
    type("/when/level", "0.2");
    type("/when/over", "30");
    choose("/then/0/kind", "begin a total anew");
    choose("/then/0/on", "Water pumped");
    EXPECT_EQ(sentence().toStdString(),
              "When standard deviation of Outlet pressure over 30 s is above 0.2 bar, begin anew with Water pumped.");
    choose("/when/measure", "Slope");
    EXPECT_TRUE(sentence().startsWith("When slope of Outlet pressure over 30 s is above 0.2 "))
        << sentence().toStdString();
    EXPECT_FALSE(sentence().contains("0.2 bar,")) << "a slope is not in bar";
    choose("/when/measure", "the reading itself");
    EXPECT_TRUE(sentence().startsWith("When Outlet pressure is above")) << sentence().toStdString();
}

TEST_F(RulesPage, ATotalIsSetToZeroByARule) {
    RuleSpec rule;
    rule.id = rule.name = "r";
    rule.when = {.kind = ConditionKind::every, .level = 0.2};
    rule.then = {{.kind = ActionKind::reset, .on = "volume"}};
    const double before = session().bench().signal("volume")->chain.back().number("resets");
    session().edit("test", withRule(session().bench(), rule));
    EXPECT_TRUE(
        waitFor([&] { return session().bench().signal("volume")->chain.back().number("resets") >= before + 2; }));
}

TEST_F(RulesPage, TellsWhatARuleIsDoingAndItsAlarm) {
    RuleSpec rule;
    rule.id = rule.name = "r";
    rule.when = {.kind = ConditionKind::above, .of = "outlet-pressure", .level = -1};
    rule.then = {{.kind = ActionKind::alarm, .words = "it reads", .priority = 1}};
    session().edit("test", withRule(session().bench(), rule));
    RulesView& rules = page();
    ASSERT_TRUE(waitFor([&] { return rules.stateWords("r").contains("holds since"); }));
    ASSERT_TRUE(waitFor([&] { return session().engine()->alarms().size() == 1; }));
    EXPECT_TRUE(waitFor([&] { return window->status().alarmText() == "it reads"; })) << "on the line on top too";
    QPushButton* seen = nullptr;
    ASSERT_TRUE(waitFor([&] {
        for (QPushButton* b : window->findChildren<QPushButton*>())
            if (b->text() == "Acknowledge" && b->isVisible()) seen = b;
        return seen != nullptr;
    }));
    QTest::mouseClick(seen, Qt::LeftButton);
    ASSERT_TRUE(waitFor([&] { return session().engine()->alarms().at(0).state == AlarmState::acknowledged; }));
    RuleSpec resting = rule;
    resting.enabled = false;
    session().edit("test", withRule(session().bench(), resting));
    EXPECT_TRUE(waitFor([&] { return rules.stateWords("r") == "rests"; }));
}

/// An alarm is heard until somebody silences it, which is not to acknowledge it; a bell plays what it is told.
TEST_F(RulesPage, AnAlarmIsHeardUntilItIsSilenced) {
    Bench bench = session().bench();
    RuleSpec rule = newRule(bench, "outlet-pressure");
    rule.when = {.kind = ConditionKind::above, .of = "outlet-pressure", .level = -1e9};
    rule.then = {{.kind = ActionKind::alarm, .words = "it reads", .priority = 1}};
    session().edit("test", withRule(bench, rule));
    RulesView& rules = page();
    ASSERT_TRUE(waitFor([&] { return window->bell().sounds(); }));
    const auto buttons = rules.alarmList().findChildren<QPushButton*>();
    const auto silence = std::ranges::find_if(buttons, [](auto* b) { return b->text().contains("Silence"); });
    ASSERT_NE(silence, buttons.end());
    EXPECT_TRUE((*silence)->isVisible());
    QTest::mouseClick(*silence, Qt::LeftButton);
    EXPECT_FALSE(window->bell().sounds());
    EXPECT_TRUE((*silence)->isHidden());
    EXPECT_EQ(session().alarms().at(0).state, AlarmState::unacknowledged) << "it still waits";
    window->frame(true);
    EXPECT_FALSE(window->bell().sounds()) << "and stays silent";

    std::promise<std::size_t> played;
    AlarmBell bell(session(), nullptr, [&](const std::vector<std::int16_t>& samples, unsigned rate) {
        played.set_value(samples.size() * 10 / rate);
        return true;
    });
    bell.play({{500, 0.7}});
    EXPECT_EQ(played.get_future().get(), 7U);
}

/// More rules than a window shows have their rows one after the other; what is edited stays in its place.
TEST_F(RulesPage, ManyRulesHaveTheirRowsWhileThePageIsSeen) {
    Bench bench = session().bench();
    for (int i = 0; i < 30; ++i) {
        RuleSpec rule = newRule(bench, "outlet-pressure");
        rule.id = rule.name = "r" + std::to_string(i);
        bench = withRule(bench, rule);
    }
    session().edit("test", bench);
    RulesView& rules = page();
    const auto switchOf = [&](const char* id) {
        const auto all = rules.findChildren<Switch*>();
        const auto it = std::ranges::find_if(all, [&](Switch* s) {
            const bool gone =
                s->parentWidget()->isHidden() && s->parentWidget()->testAttribute(Qt::WA_WState_ExplicitShowHide);
            return !gone && s->accessibleName() == QString(id) + " is in force";
        });
        return it == all.end() ? nullptr : *it;
    };
    EXPECT_TRUE(switchOf("r0"));
    EXPECT_FALSE(switchOf("r29")) << "not yet";
    ASSERT_TRUE(waitFor([&] { return switchOf("r29") && !rules.stateWords("r29").isEmpty(); }));
    Switch* const first = switchOf("r0");
    Switch* const changed = switchOf("r24");
    ASSERT_TRUE(first && changed);
    changed->click();
    EXPECT_FALSE(session().bench().rule("r24")->enabled);
    EXPECT_EQ(switchOf("r0"), first) << "what did not change is the same";
    ASSERT_TRUE(waitFor([&] { return switchOf("r24") && switchOf("r24") != changed; }));
    EXPECT_FALSE(switchOf("r24")->isChecked());
    session().edit("test", withoutRule(session().bench(), "r20"));
    ASSERT_TRUE(waitFor([&] { return !rules.stateWords("r29").isEmpty(); }));
    EXPECT_FALSE(switchOf("r20"));
    EXPECT_EQ(switchOf("r0"), first);
}

}  // namespace
}  // namespace cruscotto
