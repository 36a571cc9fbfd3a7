#include <sys/resource.h>

#include <QCheckBox>
#include <QComboBox>
#include <QInputDialog>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QSlider>
#include <QTest>
#include <QWheelEvent>
#include <cmath>
#include <csignal>

#include "app/device/device_panel.h"
#include "app/document/background_job.h"
#include "app/page/tiles/control_tile.h"
#include "app/run/run_dialogs.h"
#include "app/shell/main_window.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "app/window_fixture.h"
#include "core/base/number_text.h"
#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "devices/device_kind.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using test::drag;
using test::TempFolder;
using Window = test::WindowTest;

TEST_F(Window, ItFitsALargeScreenAtTwiceTheSize) {
    window->resize(640, 400);
    frame();
    EXPECT_EQ(window->size(), QSize(640, 400));
    auto* list = window->findChild<QWidget*>("signals");
    EXPECT_TRUE(list->isVisible());
    window->openChain("outlet-pressure");
    frame();
    EXPECT_EQ(window->size(), QSize(640, 400)) << "a panel needs no more room than there is";
    EXPECT_FALSE(list->isVisible()) << "and takes the list's";
    QTest::keyClick(window.get(), Qt::Key_Escape);
    EXPECT_TRUE(list->isVisible());
    window->openChain("outlet-pressure");
    window->resize(1280, 800);
    frame();
    EXPECT_TRUE(list->isVisible());
}

TEST_F(Window, AnExampleOpensAsACopyAndIsLive) {
    EXPECT_TRUE(session().path().isEmpty()) << "saving asks for a name; the original stays as it is";
    EXPECT_FALSE(session().unsaved());
    EXPECT_EQ(window->page().tiles().size(), 11U);
    const Instant before = session().shownAt();
    ASSERT_TRUE(waitFor([&] { return session().shownAt() > before; }));
    EXPECT_TRUE(window->status().stateText().contains("Live"));
    EXPECT_TRUE(window->status().keptText().contains("all samples kept"));
}

TEST_F(Window, RowsAreAlive) {
    auto& rows = window->signalList().rows();
    ASSERT_EQ(rows.rowCount(), 26) << "a box and its seventeen signals, and seven that are computed";
    const auto text = [&](int i) { return rows.data(rows.index(i), Qt::AccessibleTextRole).toString(); };
    EXPECT_TRUE(text(0).contains("I/O box"));
    const QString before = text(6);
    EXPECT_TRUE(before.contains("Vibration")) << before.toStdString();
    EXPECT_TRUE(before.contains(" g"));
    ASSERT_TRUE(waitFor([&] { return text(6) != before; }));
    // An output that was set once stands there since.
    ASSERT_TRUE(waitFor([&] { return session().end() > Instant{1'500'000'000}; }));
    const auto& drive = rows.row(15);
    ASSERT_EQ(drive.signal->id, "drive");
    EXPECT_EQ(drive.columns.back().summary.mean, 7);
}

TEST_F(Window, ASignalIsDraggedToAFreePlaceOfThePage) {
    press("page-new");
    ASSERT_TRUE(window->page().tiles().empty());
    drop("vibration", {500, 400});
    ASSERT_EQ(window->page().tiles().size(), 1U);
    const TileSpec t = window->page().tiles().front()->spec();
    EXPECT_EQ(t.kind, TileKind::number);
    EXPECT_EQ(t.signals, (std::vector<std::string>{"vibration"}));
    EXPECT_TRUE(window->page().tiles().front()->geometry().contains(500, 400)) << "it lands where it was dropped";
    drop("guard-door", {100, 100});
    drop("drive", {100, 500});
    EXPECT_EQ(window->page().tiles()[1]->spec().kind, TileKind::state) << "a switch is shown as a state";
    EXPECT_EQ(window->page().tiles()[2]->spec().kind, TileKind::control) << "an output as a control";
    press("undo");
    press("undo");
    EXPECT_EQ(window->page().tiles().size(), 1U);
}

TEST_F(Window, ASignalDroppedOnATraceBecomesALineOfIt) {
    const QPoint on = tile("hydraulics")->geometry().center();
    drop("vibration", on);
    EXPECT_EQ(spec("hydraulics").signals.back(), "vibration");
    frame();
    press("undo");
    EXPECT_EQ(spec("hydraulics").signals.size(), 3U);
}

TEST_F(Window, AScalesEndIsClickedAndTypedOverWhileLive) {
    QLineEdit* high = field(*tile("outlet"), "upper end of the scale");
    ASSERT_TRUE(high);
    EXPECT_EQ(high->text(), "6");
    QTest::mouseClick(high, Qt::LeftButton);
    type(high, "2.5");
    EXPECT_EQ(spec("outlet").scales.at("bar"), (Scale{0, 2.5}));
    EXPECT_EQ(high->text(), "2.5");
    type(high, "banana");
    EXPECT_EQ(spec("outlet").scales.at("bar"), (Scale{0, 2.5})) << "what is no number changes nothing";
    EXPECT_TRUE(high->property("wrong").toBool());
    QTest::keyClick(high, Qt::Key_Escape);
    EXPECT_EQ(high->text(), "2.5");
    type(high, "-1");
    EXPECT_EQ(spec("outlet").scales.at("bar"), (Scale{-1, 0}))
        << "ends that were typed the wrong way round are put right";
    press("undo");
    press("undo");
    EXPECT_TRUE(spec("outlet").scales.empty());
    EXPECT_EQ(high->text(), "6");
    press("redo");
    EXPECT_EQ(high->text(), "2.5");
    EXPECT_TRUE(session().unsaved());
}

TEST_F(Window, ATracesLanesHaveTheirOwnScales) {
    QLineEdit* barHigh = field(*tile("hydraulics"), "upper end of the scale", 0);
    QLineEdit* flowHigh = field(*tile("hydraulics"), "upper end of the scale", 1);
    ASSERT_TRUE(barHigh && flowHigh) << "two units, two lanes";
    type(flowHigh, "120");
    EXPECT_EQ(spec("hydraulics").scales.at("L/min").high, 120);
    EXPECT_FALSE(spec("hydraulics").scales.contains("bar"));
}

TEST_F(Window, ATileIsMovedAndResizedOnTheGridByTheMouse) {
    Tile* t = tile("flow");
    const QSize one(t->width() / 2, t->height());
    drag(t, {60, 8}, {one.width() * -2, one.height() * 4});
    EXPECT_EQ(spec("flow").x, 4);
    EXPECT_EQ(spec("flow").y, 4);
    const int row =
        tile("flow")->height();  // the trace that it lay on went below: the page has more rows, and lower ones
    drag(tile("flow"), {tile("flow")->width() - 4, row - 4}, {one.width(), row * 2});
    EXPECT_EQ(spec("flow").w, 3);
    EXPECT_EQ(spec("flow").h, 3);
    press("undo");
    press("undo");
    EXPECT_EQ(spec("flow").x, 6);
    EXPECT_EQ(spec("flow").w, 2);
    drag(tile("flow"), {60, 8}, {5000, 0});
    EXPECT_EQ(spec("flow").x, pageColumns - 2) << "no further than the edge";
}

TEST_F(Window, ATileIsMovedAndResizedByTheKeyboard) {
    QTest::mouseClick(tile("flow"), Qt::LeftButton, {}, {40, 40});
    ASSERT_EQ(window->page().selected(), tile("flow"));
    press("move-down");
    press("move-down");
    press("wider");
    EXPECT_EQ(spec("flow").y, 2);
    EXPECT_EQ(spec("flow").w, 3);
    press("undo");
    press("undo");
    EXPECT_EQ(spec("flow").y, 0) << "moves in a row are one step to undo";
    press("remove");
    EXPECT_EQ(tile("flow"), nullptr);
    press("undo");
    EXPECT_NE(tile("flow"), nullptr);
}

TEST_F(Window, WhatATileIsPutOnMakesRoom) {
    const auto apart = [&] {
        const auto& tiles = window->page().tiles();
        for (const auto& a : tiles)
            for (const auto& b : tiles)
                if (a != b && a->geometry().intersects(b->geometry())) return false;
        return true;
    };
    Tile* flow = tile("flow");
    const QPoint start = flow->geometry().topLeft();
    drag(flow, {60, 8}, {0, flow->height()});
    EXPECT_EQ(spec("flow").y, 1);
    EXPECT_EQ(spec("current").y, 0) << "tiles of one size change places";
    EXPECT_EQ(tile("current")->geometry().topLeft(), start);
    press("undo");
    EXPECT_EQ(spec("current").y, 1) << "which is one step to undo";
    EXPECT_EQ(spec("flow").y, 0);

    // It is seen before the button is let go, and follows what is carried.
    const QPoint grip(60, 8), global = flow->mapToGlobal(grip);
    const auto carry = [&](QPoint by) {
        QMouseEvent move(QEvent::MouseMove, flow->mapFromGlobal(global + by), global + by, Qt::NoButton, Qt::LeftButton,
                         {});
        QApplication::sendEvent(flow, &move);
    };
    QTest::mousePress(flow, Qt::LeftButton, {}, grip);
    carry({0, 20});
    carry({0, flow->height()});
    EXPECT_EQ(tile("current")->geometry().topLeft(), start);
    carry({0, 0});
    EXPECT_EQ(tile("current")->y(), start.y() + flow->height());
    carry({0, flow->height() * 2});
    EXPECT_EQ(tile("inlet")->geometry().topLeft(), start);
    QTest::mouseRelease(flow, Qt::LeftButton, {}, flow->mapFromGlobal(global + QPoint(0, flow->height() * 2)));
    EXPECT_EQ(spec("inlet").y, 0);
    EXPECT_EQ(spec("current").y, 1) << "what was passed by is where it was";
    press("undo");

    // By the keyboard, too; step by step is as far at once.
    QTest::mouseClick(flow, Qt::LeftButton, {}, {40, 40});
    press("move-down");
    press("move-down");
    EXPECT_EQ(spec("current").y, 1);
    EXPECT_EQ(spec("inlet").y, 0);
    EXPECT_TRUE(apart());
    press("undo");
    EXPECT_EQ(spec("inlet").y, 2);

    press("wider");
    EXPECT_EQ(spec("bearing").y, pageRows) << "the page was full";
    EXPECT_TRUE(apart());
    press("undo");
    press("as-dial");
    EXPECT_EQ(spec("flow").h, 3);
    EXPECT_GE(spec("current").y, pageRows) << "what another kind needs more";
    EXPECT_TRUE(apart());
    press("undo");

    drop("spare", tile("outlet")->geometry().center());
    EXPECT_EQ(spec("spare").y, pageRows) << "a new tile covers nothing";
    EXPECT_EQ(spec("spare").x, 1) << "and is as near as can be";
    EXPECT_TRUE(apart());
}

TEST_F(Window, ShowAsAnotherKindNeedsNothingSetUpAgain) {
    type(field(*tile("outlet"), "upper end of the scale"), "8");
    QTest::mouseClick(tile("outlet"), Qt::LeftButton, {}, {40, 60});
    for (const char* kind : {"as-column", "as-trace", "as-number", "as-dial"}) {
        press(kind);
        frame();
        EXPECT_EQ(spec("outlet").signals, (std::vector<std::string>{"outlet-pressure"}));
        EXPECT_EQ(spec("outlet").scales.at("bar").high, 8) << "its scale goes with it";
    }
    EXPECT_FALSE(window->action("as-state")->isEnabled()) << "a pressure is no yes or no";
    EXPECT_FALSE(window->action("as-control")->isEnabled());
}

TEST_F(Window, FitAndLearnSetTheScaleOnceAndItStays) {
    ASSERT_TRUE(waitFor([&] { return session().end() > Instant{1'500'000'000}; }));
    QTest::mouseClick(tile("outlet"), Qt::LeftButton, {}, {40, 60});
    press("fit");
    const Scale fitted = spec("outlet").scales.at("bar");
    EXPECT_LT(fitted.high, 6);
    for (int i = 0; i < 5; ++i) frame();
    EXPECT_EQ(spec("outlet").scales.at("bar"), fitted) << "no rescaling by itself";
    press("learn");
    EXPECT_TRUE(tile("outlet")->learning());
    session().engine()->setOutput("drive", 10);
    const Instant since = session().end();
    ASSERT_TRUE(waitFor([&] { return session().end() > since + milliseconds(1500); }));
    // before it ends: later there may be more of that time
    const StretchSummary seen = session().source().summaryOver("outlet-pressure", {since, since + milliseconds(1400)});
    press("learn");
    const Scale learned = spec("outlet").scales.at("bar");
    EXPECT_NE(learned, fitted);
    EXPECT_LE(learned.low, seen.min);
    EXPECT_GE(learned.high, seen.max);
    press("undo");
    EXPECT_EQ(spec("outlet").scales.at("bar"), fitted);
}

TEST_F(Window, WheelAndDragZoomAndPanTheTimeOfTheTraces) {
    ASSERT_TRUE(waitFor([&] { return session().end() > Instant{2'000'000'000}; }));
    QWidget* plot = tile("hydraulics")->childAt(200, 150);
    ASSERT_TRUE(plot);
    const Duration before = session().cursor().window();
    QWheelEvent in(QPointF(100, 100), plot->mapToGlobal(QPointF(100, 100)), {}, {0, 120}, {}, {}, Qt::NoScrollPhase,
                   false);
    QApplication::sendEvent(plot, &in);
    EXPECT_LT(session().cursor().window(), before);
    QWheelEvent stretch(QPointF(100, 60), plot->mapToGlobal(QPointF(100, 60)), {}, {0, 120}, {}, Qt::ControlModifier,
                        Qt::NoScrollPhase, false);
    QApplication::sendEvent(plot, &stretch);
    const Scale zoomed = spec("hydraulics").scales.at("bar");
    EXPECT_LT(zoomed.high - zoomed.low, 7);
    drag(plot, {200, 100}, {30, 0});
    EXPECT_FALSE(session().cursor().atEnd()) << "dragging goes back in time";
    const Instant then = session().shownAt();
    EXPECT_LT(then, session().end());
    QTest::mouseDClick(plot, Qt::LeftButton, {}, {200, 100});
    EXPECT_TRUE(spec("hydraulics").scales.contains("L/min")) << "a double click fits all lanes";
    EXPECT_NE(spec("hydraulics").scales.at("bar"), zoomed);
    press("undo");
    EXPECT_EQ(spec("hydraulics").scales.at("bar"), zoomed) << "in one step";
    EXPECT_FALSE(spec("hydraulics").scales.contains("L/min"));
    press("live");
    EXPECT_TRUE(session().cursor().atEnd());
}

TEST_F(Window, DraggingTheRibbonTakesTheWholePageBackAndEndReturns) {
    ASSERT_TRUE(waitFor([&] { return session().end() > Instant{3'000'000'000}; }));
    const double driven = value("drive");
    EXPECT_EQ(driven, 7);
    Ribbon& ribbon = window->ribbon();
    ribbon.refresh(true);
    const int x = static_cast<int>(ribbon.xOf({1'000'000'000}));
    QTest::mousePress(&ribbon, Qt::LeftButton, {}, {x, 36});
    frame();
    EXPECT_NEAR(session().shownAt().seconds(), 1, 0.05);
    EXPECT_TRUE(window->status().stateText().contains("Then"));
    EXPECT_NEAR(value("shaft-speed"), session().source().at("shaft-speed", {1'000'000'000}).value, 30);
    const double then = value("shaft-speed");
    EXPECT_LT(then, session().source().at("shaft-speed", session().end()).value) << "the shaft was still speeding up";
    for (QSlider* s : tile("drive")->findChildren<QSlider*>()) EXPECT_FALSE(s->isEnabled()) << "the past is not driven";
    const auto windowThen = session().shownAt();
    ASSERT_TRUE(waitFor([&] { return session().end() > Instant{3'500'000'000}; }));
    EXPECT_EQ(session().shownAt(), windowThen) << "it stays there while measuring goes on";
    QTest::keyClick(window.get(), Qt::Key_End);
    EXPECT_TRUE(session().cursor().atEnd());
    ribbon.setFocus();
    QTest::keyClick(&ribbon, Qt::Key_Home);
    EXPECT_EQ(session().shownAt(), Instant{});
    QTest::keyClick(&ribbon, Qt::Key_Right);
    EXPECT_GT(session().shownAt(), Instant{});
}

TEST_F(Window, OneClickOnADeviceOpensIt) {
    auto& rows = window->signalList().rows();
    ASSERT_FALSE(rows.row(0).signal);
    auto* panel = window->findChild<DevicePanel*>();
    ASSERT_TRUE(panel);
    EXPECT_FALSE(panel->isVisible());
    const QRect at = window->signalList().visualRect(rows.index(0));
    QTest::mouseClick(window->signalList().viewport(), Qt::LeftButton, {}, at.center());
    EXPECT_TRUE(panel->isVisible());
    EXPECT_EQ(panel->findChild<QLineEdit*>()->text().toStdString(), rows.row(0).device->name)
        << "its name, to be changed";
}

TEST_F(Window, TheChainShowsEachStagesOwnValueAndTakesEditsAtOnce) {
    auto& rows = window->signalList().rows();
    int row = 0;
    while (!rows.row(row).signal || rows.row(row).signal->id != "outlet-pressure") ++row;
    const QRect at = window->signalList().visualRect(rows.index(row));
    QTest::mouseClick(window->signalList().viewport(), Qt::LeftButton, {}, at.center());
    QTest::mouseDClick(window->signalList().viewport(), Qt::LeftButton, {}, at.center());
    ChainDrawer& drawer = window->drawer();
    ASSERT_TRUE(drawer.isVisible());
    ASSERT_EQ(drawer.signal(), "outlet-pressure");
    ASSERT_TRUE(waitFor([&] { return drawer.card(4) && !drawer.card(4)->valueText().contains(QChar(0x2013)); }));
    // counts -> volts -> mean -> bar: each card's number follows from the one before
    double counts = 0, volts = 0, mean = 0, bar = 0;
    ASSERT_TRUE(parseNumber(drawer.card(0)->valueText().toStdString(), counts));
    ASSERT_TRUE(parseNumber(drawer.card(1)->valueText().toStdString(), volts));
    ASSERT_TRUE(parseNumber(drawer.card(2)->valueText().toStdString(), mean));
    ASSERT_TRUE(parseNumber(drawer.card(3)->valueText().toStdString(), bar));
    EXPECT_NEAR(volts, counts * 20 / 65536, 1e-4);
    EXPECT_NEAR(bar, mean * 2.5 - 2.5, 2e-3);
    EXPECT_EQ(drawer.card(5), nullptr);

    QLineEdit* high = field(drawer, "At 20 mA");
    type(high, "100");
    EXPECT_EQ(session().bench().signal("outlet-pressure")->chain[2].number("high"), 100);
    ASSERT_TRUE(waitFor([&] { return value("outlet-pressure") > 15; })) << "the live reading follows at once";
    press("undo");
    EXPECT_EQ(session().bench().signal("outlet-pressure")->chain[2].number("high"), 10);
    EXPECT_EQ(field(drawer, "At 20 mA")->text(), "10");
    ASSERT_TRUE(waitFor([&] { return value("outlet-pressure") < 10; }));

    type(field(drawer, "Bits"), "99");
    EXPECT_EQ(session().bench().signal("outlet-pressure")->chain[0].number("bits"), 16)
        << "what cannot be is refused in place";
    QTest::keyClick(window.get(), Qt::Key_Escape);
    EXPECT_FALSE(drawer.isVisible());
}

TEST_F(Window, ARangeAndItsFactorChangeTogether) {
    window->openChain("vibration");
    QComboBox* range = nullptr;
    for (QComboBox* c : window->drawer().findChildren<QComboBox*>())
        if (c->accessibleName() == "Range") range = c;
    ASSERT_TRUE(range);
    EXPECT_EQ(range->currentText(), "−0.2 to 0.2 V");
    range->setCurrentIndex(range->count() - 1);
    Q_EMIT range->activated(range->count() - 1);
    const SignalSpec* s = session().bench().signal("vibration");
    EXPECT_EQ(*s->range, (Scale{-10, 10}));
    EXPECT_EQ(s->chain[0].number("high"), 10);
    ASSERT_TRUE(waitFor([&] { return std::fabs(value("vibration")) < 2; }));
    press("undo");
    EXPECT_EQ(*session().bench().signal("vibration")->range, (Scale{-0.2, 0.2}));
}

TEST_F(Window, WhatIsRecordedOfASignalIsChosenInItsChain) {
    window->openChain("vibration");
    const auto combo = [&](const char* name) -> QComboBox* {
        for (QComboBox* c : window->drawer().findChildren<QComboBox*>())
            if (c->accessibleName() == name && c->isVisibleTo(&window->drawer())) return c;
        return nullptr;
    };
    const auto choose = [&](const char* name, int i) {
        QComboBox* box = combo(name);
        ASSERT_TRUE(box) << name;
        box->setCurrentIndex(i);
        Q_EMIT box->activated(i);
        QCoreApplication::sendPostedEvents(nullptr, QEvent::DeferredDelete);
    };
    const auto keep = [&] { return session().bench().signal("vibration")->keep; };
    choose("What is recorded", 1);
    EXPECT_EQ(keep().what, KeepSpec::What::oneInN);
    type(field(window->drawer(), "One in"), "0");
    EXPECT_EQ(keep().every, 10) << "refused in place";
    type(field(window->drawer(), "One in"), "20");
    EXPECT_EQ(keep().every, 20);
    choose("Recorded as", 1);
    EXPECT_TRUE(keep().asReadings);
    choose("What is recorded", 3);
    type(field(window->drawer(), "By more than"), "0.05");
    EXPECT_EQ(keep().deadBand, 0.05);
    EXPECT_FALSE(field(window->drawer(), "One in")) << "only what counts is shown";
    for (int i = 0; i < 5; ++i) press("undo");
    EXPECT_EQ(keep(), KeepSpec{});

    window->openChain("outlet-pressure");  // its chain has a mean
    choose("What is recorded", 1);
    EXPECT_FALSE(combo("Recorded as")->isEnabled());
    EXPECT_EQ(combo("Recorded as")->currentText(), "readings");
}

TEST_F(Window, AStageIsSwitchedOffToCompareAndFoundInItsGroup) {
    window->openChain("outlet-pressure");
    const auto choose = [](std::vector<QString> path) {
        QTimer::singleShot(0, [path] {
            auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
            ASSERT_TRUE(menu);
            QMenu* in = menu;
            for (const QString& name : path)
                for (QAction* a : in->actions())
                    if (a->text() == name) {
                        if (a->menu())
                            in = a->menu();
                        else
                            a->trigger();
                        break;
                    }
            menu->close();
        });
    };
    const auto& chain = [&]() -> const ChainSpec& { return session().bench().signal("outlet-pressure")->chain; };
    choose({"Switch off to compare"});
    Q_EMIT window->drawer().card(2)->menuAsked(window->mapToGlobal(QPoint(10, 10)));
    EXPECT_TRUE(chain()[1].isOff());
    EXPECT_EQ(stageKey(chain()[1]), "moving-mean");
    ASSERT_TRUE(waitFor([&] { return !std::isnan(value("outlet-pressure")); })) << "it is measured on without it";
    press("undo");
    EXPECT_FALSE(chain()[1].isOff());

    for (QPushButton* b : window->drawer().findChildren<QPushButton*>())
        if (b->text() == "Add a stage") {
            choose({"Filter", "Low-pass"});
            b->click();
            break;
        }
    EXPECT_EQ(stageKey(chain()[2]), "low-pass") << "behind the other filter, before the sensor";
}

TEST_F(Window, TwoPointsAreCapturedFromTheLiveSignal) {
    SignalSpec s = *session().bench().signal("outlet-pressure");
    s.chain.pop_back();
    s.chain.back() = twoPoints(0, 0, 5, 10, "bar", "");
    session().edit("test", withSignal(session().bench(), s));
    window->openChain("outlet-pressure");
    ASSERT_TRUE(waitFor([&] { return window->drawer().card(2)->valueText() != "–"; }));
    QPushButton* capture = nullptr;
    for (QPushButton* b : window->drawer().findChildren<QPushButton*>())
        if (b->text() == "Capture point 1") capture = b;
    ASSERT_TRUE(capture);
    // of the newest second, on a machine that is late too
    ASSERT_TRUE(waitFor([&] {
        const Instant now = session().shownAt();
        return session().source().stageMeans("outlet-pressure", {now - milliseconds(500), now}).samples > 10;
    }));
    QTest::mouseClick(capture, Qt::LeftButton);
    const Stage points = session().bench().signal("outlet-pressure")->chain.back();
    EXPECT_GT(points.number("x1"), 0.9);
    EXPECT_LT(points.number("x1"), 3);
    EXPECT_NE(points.text("note").find("captured"), std::string::npos);
    EXPECT_NE(points.text("note").find("mean of"), std::string::npos) << points.text("note");
    // What it was in truth is typed next.
    auto* is = qobject_cast<QLineEdit*>(window->focusWidget());
    ASSERT_TRUE(is);
    EXPECT_EQ(is->accessibleName(), "Point 1: is");
    QTest::keyClicks(is, "2.5");
    QTest::keyClick(is, Qt::Key_Return);
    EXPECT_EQ(session().bench().signal("outlet-pressure")->chain.back().number("y1"), 2.5);
}

TEST_F(Window, ARowOfTheListHasAMenu) {
    auto& list = window->signalList();
    /// Opens the menu of a row as a right click does, and chooses from it; what it has.
    const auto choose = [&](int row, const QString& choice) {
        QStringList offered;
        QTimer::singleShot(0, window.get(), [&] {
            auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
            if (!menu) return;
            QAction* chosen = nullptr;
            for (QAction* a : menu->actions()) {
                if (!a->isSeparator()) offered << a->text();
                if (a->text() == choice) chosen = a;
            }
            menu->close();
            if (chosen) chosen->trigger();
        });
        const QPoint at = list.visualRect(list.model()->index(row, 0)).center();
        QContextMenuEvent event(QContextMenuEvent::Mouse, at, list.viewport()->mapToGlobal(at));
        QApplication::sendEvent(list.viewport(), &event);
        return offered;
    };
    ASSERT_EQ(list.rows().row(2).signal->id, "outlet-pressure");
    frame();
    EXPECT_EQ(choose(2, "Copy the reading").size(), 11);
    EXPECT_EQ(QApplication::clipboard()->text(),
              "Outlet pressure " + list.rows().row(2).value + " " + list.rows().row(2).unit);
    const std::size_t before = window->page().tiles().size();
    choose(2, "Put the signal on the page");
    EXPECT_EQ(window->page().tiles().size(), before + 1);
    choose(2, "Open its chain");
    EXPECT_EQ(window->drawer().signal(), "outlet-pressure");
    EXPECT_EQ(choose(0, "Copy what it says"), (QStringList{"Open the device", "Copy what it says"}));
    EXPECT_TRUE(QApplication::clipboard()->text().startsWith("I/O box"));
}

TEST_F(Window, WhatHasNothingToActOnIsGrey) {
    const auto all = [&](std::initializer_list<const char*> keys, bool enabled) {
        return std::all_of(keys.begin(), keys.end(),
                           [&](const char* key) { return window->action(key)->isEnabled() == enabled; });
    };
    EXPECT_TRUE(all({"put", "to-ribbon", "remove-signal", "chain"}, false)) << "no signal is chosen";
    window->signalList().select("flow");
    EXPECT_TRUE(all({"put", "to-ribbon", "remove-signal", "chain"}, true));
    EXPECT_TRUE(all({"page-rename", "page-remove", "page-next", "page-previous"}, true));
    while (session().bench().pages.size() > 1) press("page-remove");
    EXPECT_TRUE(all({"page-next", "page-previous"}, false)) << "there is one page";
    press("page-remove");
    EXPECT_TRUE(all({"page-rename", "page-remove"}, false)) << "there is none";
    EXPECT_TRUE(all({"page-new", "undo"}, true));
}

TEST_F(Window, NoPointIsCapturedWhileTheDeviceIsGone) {
    SignalSpec s = *session().bench().signal("spare");
    s.chain.emplace_back(twoPoints(0, 0, 1, 1, "V", ""));
    session().edit("test", withSignal(session().bench(), s));
    window->openChain("spare");
    ASSERT_TRUE(waitFor([&] { return window->drawer().card(2)->valueText() != "–"; }));
    DeviceSpec box = *session().bench().device("box");
    box.settings = R"({"seed":1,"rate-hz":1000,"faults":["away"]})";
    session().edit("test", withDevice(session().bench(), box));
    ASSERT_TRUE(waitFor([&] { return session().source().at("spare", session().shownAt()).quality == Quality::gap; }));
    for (QPushButton* b : window->drawer().findChildren<QPushButton*>())
        if (b->text() == "Capture point 2") QTest::mouseClick(b, Qt::LeftButton);
    EXPECT_EQ(session().bench().signal("spare")->chain.back().number("x2"), 1);
    bool said = false;
    for (const QLabel* l : window->drawer().card(2)->findChildren<QLabel*>())
        said = said || (l->isVisible() && l->text() == "There is no reading to take now.");
    EXPECT_TRUE(said);
}

TEST_F(Window, OutputsAreDrivenByTypingSliderAndSwitch) {
    QLineEdit* typed = field(*tile("drive"), "Drive speed, typed");
    ASSERT_TRUE(typed);
    type(typed, "4.25");
    ASSERT_TRUE(waitFor([&] { return value("drive") == 4.25; }));
    type(typed, "44");
    frame();
    EXPECT_TRUE(typed->property("wrong").toBool()) << "out of the output's limits";
    EXPECT_EQ(value("drive"), 4.25);
    auto* slider = tile("drive")->findChild<QSlider*>();
    ASSERT_TRUE(slider);
    slider->setFocus();
    QTest::keyClick(slider, Qt::Key_PageUp);
    ASSERT_TRUE(waitFor([&] { return value("drive") > 4.5; }));
    auto* valve = tile("valve")->findChild<Switch*>();
    ASSERT_TRUE(valve);
    ASSERT_TRUE(valve->isChecked());
    QTest::mouseClick(valve, Qt::LeftButton);
    ASSERT_TRUE(waitFor([&] { return value("valve") == 0; }));
    EXPECT_FALSE(session().unsaved()) << "driving an output does not change the bench";
}

TEST_F(Window, ADiskThatTakesNoMoreIsSaidWithoutWideningTheWindowAndSoIsItsEnd) {
    TempFolder folder;
    ASSERT_TRUE(save(folder.file("mine.bench")));
    press("record");
    ASSERT_TRUE(waitFor([&] { return session().engine()->recording().samples > 1'000; }));
    // As under a quota: the system refuses, though there is room.
    const auto before = std::signal(SIGXFSZ, SIG_IGN);
    rlimit asIs{};
    getrlimit(RLIMIT_FSIZE, &asIs);
    const auto allow = [&](rlim_t bytes) {
        const rlimit limit{bytes, asIs.rlim_max};
        setrlimit(RLIMIT_FSIZE, &limit);
    };
    allow(100);
    EXPECT_TRUE(waitFor([&] { return window->status().keptText().contains("nothing can be written"); }))
        << window->status().keptText().toStdString();
    EXPECT_TRUE(waitFor([&] { return window->status().keptText().contains("memory for"); }));
    EXPECT_TRUE(window->noticeText().contains("New samples are kept in memory")) << window->noticeText().toStdString();
    EXPECT_EQ(window->width(), 1280);
    EXPECT_LE(window->minimumSizeHint().width(), 1280);
    allow(asIs.rlim_cur);
    std::signal(SIGXFSZ, before);
    EXPECT_TRUE(waitFor([&] { return window->status().keptText().startsWith("all samples kept"); }))
        << window->status().keptText().toStdString();
    EXPECT_TRUE(window->noticeText().contains("is written")) << window->noticeText().toStdString();
}

TEST_F(Window, WhatADeviceCouldNotKeepIsOnTheStatusLineWithItsCause) {
    Bench bench;
    bench.name = std::string(200, 'n');
    SignalSpec s;
    s.id = s.name = s.tag = "in";
    s.device = "fast";
    s.terminal = "AI0";
    bench = withSignal(withDevice(bench, {"fast", "Fast", "sim-fast-box",
                                          R"({"channels":1,"rate-hz":1000,"buffer-ms":10,"busy-to-s":0.5})", ""}),
                       s);
    session().edit("Another", bench);
    EXPECT_TRUE(waitFor([&] {
        return window->status().keptText().contains("samples lost: The box's buffer ran over");
    })) << window->status().keptText().toStdString();
    EXPECT_EQ(window->width(), 1280) << "a long name of a bench does not widen it either";
}

TEST_F(Window, RecordMarkStopReopenShowsTheSamePages) {
    TempFolder folder;
    ASSERT_TRUE(save(folder.file("mine.bench")));
    QTest::mouseClick(window->status().recordButton(), Qt::LeftButton);
    ASSERT_TRUE(waitFor([&] { return session().recordingPhase() == Session::Recording::going; }));
    EXPECT_TRUE(window->status().recordButton()->text().startsWith("Stop"));
    press("mark");
    ASSERT_TRUE(waitFor([&] { return session().engine()->recording().samples > 10'000; }));
    EXPECT_TRUE(window->status().recordButton()->text().contains("00:00:"));
    QTest::mouseClick(window->status().recordButton(), Qt::LeftButton);
    EXPECT_TRUE(waitFor([&] { return window->noticeText().contains("Recorded"); }))
        << window->noticeText().toStdString();
    ASSERT_EQ(session().recordedSpans().size(), 1U);
    const QString run = session().lastRun();
    ASSERT_TRUE(QFile::exists(run)) << run.toStdString();
    EXPECT_TRUE(run.startsWith(QString::fromStdString(folder.file("")))) << "beside its bench";
    press("open-last-run");
    ASSERT_TRUE(waitFor([&] { return session().isRun() && session().run()->state().done; }));
    frame();
    EXPECT_TRUE(window->status().stateText().contains("Recorded"));
    EXPECT_EQ(window->status().keptText(), "no sample missing");
    EXPECT_EQ(window->page().tiles().size(), 11U) << "the same page";
    EXPECT_FALSE(std::isnan(value("outlet-pressure")));
    EXPECT_EQ(session().marks().size(), 1U);
    EXPECT_FALSE(window->status().recordButton()->isEnabled());
    // scrubbing works on it as on the live bench
    const Span all = session().source().extent();
    window->ribbon().refresh(true);
    const Instant middle = all.from + nanoseconds((all.to - all.from).ns / 2);
    QTest::mousePress(&window->ribbon(), Qt::LeftButton, {}, {static_cast<int>(window->ribbon().xOf(middle)), 36});
    EXPECT_NEAR(session().shownAt().seconds(), middle.seconds(), 0.02);
    window->openChain("outlet-pressure");
    frame();
    double bar = 0;
    ASSERT_TRUE(parseNumber(window->drawer().card(4)->valueText().toStdString(), bar));
    EXPECT_NEAR(bar, value("outlet-pressure"), 0.01) << "the chain is shown at that moment too";
}

TEST_F(Window, AWrongChainOfARunIsCorrectedAsANewVersion) {
    TempFolder folder;
    recordRun(folder.file("a.run"), 5);
    window->openFile(QString::fromStdString(folder.file("a.run")));
    ASSERT_TRUE(waitFor([&] { return session().isRun() && session().run()->state().done; }));
    EXPECT_FALSE(window->action("versions")->isEnabled());
    window->openChain("outlet-pressure");
    ChainDrawer& drawer = window->drawer();
    const auto number = [&](int card) {
        double v = std::nan("");
        parseNumber(drawer.card(card)->valueText().toStdString(), v);
        return v;
    };
    ASSERT_TRUE(waitFor([&] { return drawer.card(3) && std::isfinite(number(3)); }));
    const double before = value("outlet-pressure"), volts = number(2);
    EXPECT_FALSE(field(drawer, "Name")->isEnabled()) << "only the chain";
    type(field(drawer, "At 20 mA"), "100");
    ASSERT_TRUE(waitFor([&] { return std::fabs(number(3) - (25 * volts - 25)) < 0.02; }))
        << "the chain says what it would make of the sample";
    EXPECT_EQ(value("outlet-pressure"), before) << "the page still shows what was worked out";
    press("undo");
    EXPECT_TRUE(session().corrections().empty());
    press("redo");
    ASSERT_EQ(session().corrections().size(), 1U);

    answer<QInputDialog>([](QInputDialog& dialog) {
        EXPECT_EQ(dialog.textValue(), "Corrected: Outlet pressure");
        dialog.accept();
    });
    press("work-out-again");
    ASSERT_TRUE(
        waitFor([&] { return session().run() && session().run()->info() && session().run()->info()->version == 1; }));
    ASSERT_TRUE(waitFor([&] { return session().run()->state().done; }));
    EXPECT_NEAR(value("outlet-pressure"), 10 * before, 0.05);
    EXPECT_TRUE(session().corrections().empty());
    EXPECT_TRUE(drawer.isVisible()) << "one may go on";
    EXPECT_TRUE(window->windowTitle().contains("version 1")) << window->windowTitle().toStdString();

    ASSERT_TRUE(waitFor([&] { return window->action("versions")->isEnabled(); }));
    answer<VersionDialog>([](VersionDialog& dialog) {
        EXPECT_EQ(dialog.version(), 1);
        dialog.findChild<QTableWidget*>()->selectRow(0);
        dialog.accept();
    });
    press("versions");
    ASSERT_TRUE(waitFor([&] { return session().run()->info() && session().run()->info()->version == 0; }));
    ASSERT_TRUE(waitFor([&] { return session().run()->state().done && value("outlet-pressure") == before; }));
}

TEST_F(Window, ARunThatCannotBeOpenedIsSaidInPlace) {
    TempFolder folder;
    test::writeFile(folder.file("x.run"), "no run at all");
    window->openFile(QString::fromStdString(folder.file("x.run")));
    ASSERT_TRUE(waitFor([&] { return !window->noticeText().isEmpty(); }));
    EXPECT_TRUE(window->noticeText().contains("is not a run")) << window->noticeText().toStdString();
    EXPECT_TRUE(session().engine()) << "the bench goes on measuring";
    window->openFile(QString::fromStdString(folder.file("none.bench")));
    EXPECT_TRUE(waitFor([&] { return window->noticeText().contains("cannot be read"); }));
}

TEST_F(Window, AnExampleOpenedByItsNameIsACopyToo) {
    open(QString::fromStdString(test::example("pump-bench")));
    EXPECT_TRUE(session().path().isEmpty());
    TempFolder folder;
    ASSERT_TRUE(save(folder.file("mine.bench")));
    open(QString::fromStdString(test::example("beehive")));
    EXPECT_TRUE(session().path().isEmpty());
    open(QString::fromStdString(folder.file("mine.bench")));
    EXPECT_EQ(session().path().toStdString(), folder.file("mine.bench")) << "one's own is opened as it is";
}

TEST_F(Window, ARunIsExportedInTheBackground) {
    TempFolder folder;
    recordRun(folder.file("a.run"), 5);
    QString said;
    int percent = 0;
    auto* job = new BackgroundJob(
        exportWork(QString::fromStdString(folder.file("a.run")), QString::fromStdString(folder.file("a.csv"))),
        window.get());
    QObject::connect(job, &BackgroundJob::finished, window.get(), [&](const QString& sentence) { said = sentence; });
    QObject::connect(job, &BackgroundJob::progressed, window.get(), [&](int p) { percent = p; });
    ASSERT_TRUE(waitFor([&] { return !said.isEmpty(); }));
    EXPECT_TRUE(said.startsWith("Exported 64,506 samples")) << said.toStdString();
    EXPECT_EQ(percent, 100);
    EXPECT_TRUE(std::filesystem::exists(folder.file("a.csv")));
}

TEST_F(Window, AnActionFromTheListIsDoneToTheTileThatWasChosen) {
    window->openExample("cold-store");
    ASSERT_TRUE(waitFor([&] { return tile("comp") != nullptr; }));
    window->activateWindow();
    ActionList& list = window->actionList();
    QTest::mouseClick(tile("comp"), Qt::LeftButton, {}, {60, 8});
    ASSERT_EQ(window->page().selected(), tile("comp"));
    QTest::keyClick(window.get(), Qt::Key_K, Qt::ControlModifier);
    QTest::keyClick(list.search(), Qt::Key_Escape);
    EXPECT_EQ(window->page().selected(), tile("comp")) << "looking at the list changes nothing";
    QTest::keyClick(window.get(), Qt::Key_K, Qt::ControlModifier);
    QTest::keyClicks(list.search(), "show as control");
    QTest::keyClick(list.search(), Qt::Key_Return);
    EXPECT_EQ(spec("comp").kind, TileKind::control);
    EXPECT_EQ(spec("room-1").kind, TileKind::number);
    EXPECT_EQ(window->page().selected(), tile("comp"));
}

TEST_F(Window, ClosingTheChainLeavesTheChosenTileChosen) {
    window->openExample("cold-store");
    ASSERT_TRUE(waitFor([&] { return tile("comp") != nullptr; }));
    window->activateWindow();
    QTest::mouseClick(tile("comp"), Qt::LeftButton, {}, {60, 8});
    press("chain");
    QLineEdit* name = field(window->drawer(), "Name");
    ASSERT_TRUE(name);
    name->setFocus();
    ASSERT_TRUE(name->hasFocus());
    QTest::keyClick(name, Qt::Key_Escape);
    EXPECT_FALSE(window->drawer().isVisible());
    EXPECT_EQ(window->page().selected(), tile("comp"));
}

TEST_F(Window, AllActionsAreSearchedAndDone) {
    QTest::keyClick(window.get(), Qt::Key_K, Qt::ControlModifier);
    ActionList& list = window->actionList();
    ASSERT_TRUE(list.isVisible());
    EXPECT_GT(list.list()->count(), 25);
    QTest::keyClicks(list.search(), "add page");
    ASSERT_EQ(list.list()->count(), 1);
    const auto pages = session().bench().pages.size();
    QTest::keyClick(list.search(), Qt::Key_Return);
    EXPECT_FALSE(list.isVisible());
    EXPECT_EQ(session().bench().pages.size(), pages + 1);
    QTest::keyClick(window.get(), Qt::Key_K, Qt::ControlModifier);
    const auto says = [&](const QString& words) {
        for (QLabel* label : list.findChildren<QLabel*>())
            if (label->isVisible() && label->text().contains(words)) return true;
        return false;
    };
    QTest::keyClicks(list.search(), "work readings out");
    EXPECT_TRUE(says("Not possible now: Work the readings of this run out again"));
    QTest::keyClick(list.search(), Qt::Key_A, Qt::ControlModifier);
    QTest::keyClicks(list.search(), "xyz");
    EXPECT_TRUE(says("No action has these words."));
    QTest::keyClick(list.search(), Qt::Key_Escape);
    EXPECT_FALSE(list.isVisible());
    press("page-previous");
    EXPECT_EQ(window->page().page(), "curves");
}

TEST_F(Window, EveryEditCanBeUndoneBackToTheBeginning) {
    const Bench before = session().bench();
    press("page-new");
    drop("vibration", {300, 300});
    type(field(*tile("vibration"), "upper end of the scale") ? field(*tile("vibration"), "upper end of the scale")
                                                             : window->findChild<QLineEdit*>(),
         "1");
    window->openChain("vibration");
    type(field(window->drawer(), "Name"), "Shaking");
    type(field(window->drawer(), "High"), "0.8");
    press("to-ribbon");
    press("remove-signal");
    EXPECT_EQ(session().bench().signal("vibration"), nullptr);
    while (session().undoStack().canUndo()) press("undo");
    EXPECT_TRUE(sameBench(before, session().bench()));
    while (session().undoStack().canRedo()) press("redo");
    EXPECT_EQ(session().bench().signal("vibration"), nullptr);
}

TEST_F(Window, AFaultIsTriedAndSeenWhereItShows) {
    auto& rows = window->signalList().rows();
    Q_EMIT window->signalList().deviceAsked("box");
    QCheckBox* broken = nullptr;
    for (QCheckBox* b : window->findChildren<QCheckBox*>())
        if (b->text() == "broken outlet wire") broken = b;
    ASSERT_TRUE(broken);
    broken->click();
    ASSERT_TRUE(waitFor([&] { return rows.row(2).quality.contains("open sensor"); }))
        << rows.row(2).quality.toStdString();
    press("undo");
    ASSERT_TRUE(waitFor([&] { return rows.row(2).quality.isEmpty(); }));
}

TEST_F(Window, ADeviceThatGoesAwaySaysSoInASentenceAndComesBack) {
    auto& rows = window->signalList().rows();
    DeviceSpec box = *session().bench().device("box");
    const std::string well = box.settings;
    box.settings = R"({"seed":1,"rate-hz":1000,"faults":["away"]})";
    session().edit("test", withDevice(session().bench(), box));
    ASSERT_TRUE(waitFor([&] { return rows.row(0).sentence.contains("does not answer any more"); }));
    ASSERT_TRUE(waitFor([&] { return rows.row(1).quality.contains("gap"); }));
    ASSERT_TRUE(waitFor([&] { return value("drive") == 0; })) << "its outputs went to their safe values";
    EXPECT_EQ(session().source().at("drive", session().shownAt()).quality, Quality::stale)
        << "as far as anybody can know while it is away";
    press("undo");
    ASSERT_TRUE(waitFor([&] { return rows.row(0).sentence.isEmpty() && rows.row(1).quality.isEmpty(); }));
}

TEST_F(Window, DevicesThatAreAddedHaveShortNamesOfTheirOwn) {
    for (const DeviceKind& kind : deviceKinds()) {
        const QString name = shown(kind.name);
        EXPECT_FALSE(name.isEmpty()) << kind.key;
        EXPECT_LE(name.size(), 20) << kind.key << ": it stands over its signals";
    }
    press("new");
    for (int i = 0; i < 3; ++i) press("add-sim-io-box");
    const auto& devices = session().bench().devices;
    ASSERT_EQ(devices.size(), 3U);
    EXPECT_EQ(devices[0]->name, "I/O box");
    EXPECT_EQ(devices[1]->name, "I/O box 2");
    EXPECT_EQ(devices[2]->name, "I/O box 3");
}

TEST_F(Window, ANewBenchGetsADeviceAndItsTerminals) {
    press("new");
    EXPECT_TRUE(session().bench().signals.empty());
    auto* first = window->page().findChild<QPushButton*>();
    ASSERT_TRUE(first && first->isVisible());
    QTest::mouseClick(first, Qt::LeftButton);
    EXPECT_TRUE(window->findPanel().isVisible()) << "the empty page offers what to do";
    press("add-sim-io-box");
    ASSERT_EQ(session().bench().devices.size(), 1U);
    EXPECT_FALSE(first->isVisible());
    frame();
    Switch* add = nullptr;
    for (Switch* b : window->findChildren<Switch*>())
        if (b->accessibleName() == "Use AI1" && b->isVisible()) add = b;
    ASSERT_TRUE(add);
    QTest::mouseClick(add, Qt::LeftButton);
    ASSERT_EQ(session().bench().signals.size(), 1U);
    EXPECT_TRUE(window->drawer().isVisible()) << "its chain is open to be set up";
    const std::string id = session().bench().signals.front()->id;
    ASSERT_TRUE(waitFor([&] { return !std::isnan(value(id)); })) << "and it moves at once";
    EXPECT_TRUE(checkDevices(session().bench()).empty());
}

TEST_F(Window, BothThemesHaveEnoughContrast) {
    const auto luminance = [](const QColor& c) {
        const auto part = [](double v) { return v <= 0.04045 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4); };
        return 0.2126 * part(c.redF()) + 0.7152 * part(c.greenF()) + 0.0722 * part(c.blueF());
    };
    const auto contrast = [&](const QColor& a, const QColor& b) {
        const double x = luminance(a), y = luminance(b);
        return (std::max(x, y) + 0.05) / (std::min(x, y) + 0.05);  // WCAG 2.1, 1.4.3
    };
    for (const Theme& t : {dayTheme(), nightTheme()})
        for (const QColor& ground : {t.ground, t.panel}) {
            EXPECT_GE(contrast(t.ink, ground), 7);
            EXPECT_GE(contrast(t.muted, ground), 4.5);
            EXPECT_GE(contrast(t.accent, ground), 4.5) << t.night;
            EXPECT_GE(contrast(t.red, ground), 4.5);
            EXPECT_GE(contrast(t.amber, ground), 4.5) << t.night;
            for (const QColor& c : t.signal) EXPECT_GE(contrast(c, ground), 3.0) << c.name().toStdString();
        }
}

TEST_F(Window, EverythingOnTheWindowHasAnAccessibleName) {
    window->openChain("flow");
    frame();
    for (QWidget* w : window->findChildren<QWidget*>()) {
        if (!w->isVisible() || w->focusPolicy() == Qt::NoFocus) continue;
        const auto* button = qobject_cast<QAbstractButton*>(w);
        const bool named = !w->accessibleName().isEmpty() || (button && !button->text().isEmpty()) ||
                           w->metaObject()->className() == QByteArray("QScrollArea");
        EXPECT_TRUE(named) << w->metaObject()->className() << " " << w->objectName().toStdString() << " in "
                           << w->parentWidget()->metaObject()->className();
    }
}

TEST_F(Window, ClosingStopsInOrder) {
    TempFolder folder;
    ASSERT_TRUE(save(folder.file("mine.bench")));
    QTest::mouseClick(window->status().recordButton(), Qt::LeftButton);
    ASSERT_TRUE(waitFor([&] { return session().engine()->recording().samples > 3000; }));
    const std::string run = session().lastRun().toStdString();
    window->closeWithoutAsking();
    const auto reader = RunReader::open(run);
    ASSERT_TRUE(reader.ok());
    EXPECT_TRUE(reader.value()->info().closed);
    RunReplay replay(*reader.value(), reader.value()->info().signal("drive")->group);
    RunReplay::Step step;
    double last = -1;
    while (replay.next(step)) last = step.readings[0].values.back();
    EXPECT_EQ(last, 0) << "safe";
}

}  // namespace
}  // namespace cruscotto
