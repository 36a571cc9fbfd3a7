#include <QApplication>
#include <QTest>
#include <cmath>

#include "app/page/tiles/control_tile.h"
#include "app/page/tiles/number_tile.h"
#include "app/page/tiles/trace_hover.h"
#include "app/shell/main_window.h"
#include "app/widgets/fields.h"
#include "app/widgets/scale_end.h"
#include "app/widgets/spark.h"
#include "app/widgets/theme.h"
#include "app/window_fixture.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

/// The pump bench at a standstill after some seconds of its own time: every picture of it is the same.
class Tiles : public testing::Test {
protected:
    void SetUp() override {
        window.forgetSettings();
        window.stopClock();
        window.resize(1280, 800);
        window.show();
        run(test::exampleBench("pump-bench"));
    }
    void run(const Bench& bench) {
        EngineOptions fast;
        fast.pace = Pace::asFastAsPossible;
        fast.until = seconds(20);
        session().openBenchDocument(bench, fast);
        session().engine()->wait();
        show();
    }
    void TearDown() override {
        window.closeWithoutAsking();
        applyTheme(false);
    }
    bool save(const std::string& path) {
        session().save(QString::fromStdString(path));
        return session().waitForSave();
    }
    Session& session() { return window.session(); }
    Tile* tile(const char* id) { return window.page().tile(id); }
    void show() {
        window.frame(true);
        QApplication::processEvents();
    }
    QImage picture(const char* id) { return tile(id)->grab().toImage(); }
    static int count(const QImage& image, const QColor& colour) {
        int n = 0;
        for (int y = 0; y < image.height(); ++y)
            for (int x = 0; x < image.width(); ++x) n += image.pixelColor(x, y) == colour;
        return n;
    }
    /// Turns one tile into another kind and shows it.
    void as(const char* id, TileKind kind) {
        QTest::mouseClick(tile(id), Qt::LeftButton, {}, {30, 30});
        window.page().showSelectedAs(kind);
        show();
    }
    MainWindow window;
};

TEST_F(Tiles, NothingIsRepaintedThatWouldLookTheSame) {
    struct Counter : QObject {
        int paints = 0;
        bool eventFilter(QObject*, QEvent* e) override {
            paints += e->type() == QEvent::Paint;
            return false;
        }
    } counter;
    for (const char* id : {"outlet", "speed", "bearing"}) tile(id)->installEventFilter(&counter);
    for (int i = 0; i < 30; ++i) {
        window.frame(false);  // frames between the digits: time stands still, so does the picture
        QApplication::processEvents();
    }
    EXPECT_EQ(counter.paints, 0);
    session().cursor().goTo({3'000'000'000});
    window.frame(true);
    QApplication::processEvents();
    EXPECT_GE(counter.paints, 3) << "another moment looks different";
}

TEST_F(Tiles, ThePointerStandsWhereTheReadingIs) {
    // The pointer is the only thick line of ink that crosses the arc; look for it by its angle from two readings.
    const QImage now = picture("speed");
    session().cursor().goTo({1'000'000'000});
    show();
    const QImage then = picture("speed");
    ASSERT_EQ(now.size(), then.size());
    EXPECT_NE(now, then);
    const auto inkOnTheLeft = [](const QImage& image) {
        int n = 0;
        for (int y = 30; y < image.height() * 2 / 3; ++y)
            for (int x = 0; x < image.width() / 4; ++x) n += image.pixelColor(x, y) == dayTheme().ink;
        return n;
    };
    EXPECT_GT(inkOnTheLeft(then), inkOnTheLeft(now)) << "at one second the shaft was still slow: the pointer is left";
}

TEST_F(Tiles, ASignalWithoutAScaleIsShownOnWhatItCanGiveElseOnWhatWasSeen) {
    Bench bench = test::exampleBench("pump-bench");
    for (const char* id : {"outlet-pressure", "shaft-speed"}) {
        SignalSpec s = *bench.signal(id);
        s.scale.reset();
        bench = withSignal(bench, s);
    }
    SignalSpec flow = *bench.signal("flow");
    flow.chain = {pulseCounter("count")};
    flow.scale.reset();
    bench = withSignal(bench, flow);
    run(bench);
    const auto ends = [&](const char* id) {
        QStringList out;
        for (const ScaleEnd* end : tile(id)->findChildren<ScaleEnd*>()) out << end->text();
        return out;
    };
    EXPECT_EQ(ends("outlet"), (QStringList{"0", "10"})) << "what its sensor can give";
    const QStringList speed = ends("speed");
    ASSERT_EQ(speed.size(), 2);
    const double end = speed[1].toDouble();
    EXPECT_GT(end, session().source().at("shaft-speed", session().end()).value) << speed.join(' ').toStdString();
    EXPECT_LT(end, 10'000) << "what was seen, rounded outwards";
    const double pulses = session().source().at("flow", session().end()).value;
    EXPECT_EQ(session().numberText(flow, pulses), QString::number(pulses, 'f', 0)) << "a count is whole";
}

TEST_F(Tiles, AReadingOutsideItsLimitsSaysSoInAWord) {
    SignalSpec s = *session().bench().signal("outlet-pressure");
    const QImage before = picture("outlet");
    EXPECT_GT(count(before, dayTheme().red), 20) << "the limit's band on the arc";
    s.limits.high = 0.5;
    session().edit("test", withSignal(session().bench(), s));
    show();
    EXPECT_GT(count(picture("outlet"), dayTheme().red), count(before, dayTheme().red) + 30);
    auto& rows = window.signalList().rows();
    EXPECT_TRUE(rows.row(2).quality.contains("above limit")) << rows.row(2).quality.toStdString();
}

TEST_F(Tiles, ThePointerOverATraceTellsWhatAllItsSignalsReadThere) {
    Tile* trace = tile("hydraulics");
    auto* hover = dynamic_cast<TraceHover*>(trace->findChild<QWidget*>("hover"));
    ASSERT_TRUE(hover);
    EXPECT_FALSE(hover->isTelling());
    QWidget* plot = hover->parentWidget();
    const QPoint at(plot->width() * 2 / 3, plot->height() / 3);
    QMouseEvent move(QEvent::MouseMove, at, plot->mapToGlobal(at), Qt::NoButton, Qt::NoButton, {});
    QApplication::sendEvent(plot, &move);
    ASSERT_TRUE(hover->isTelling());
    const QStringList lines = hover->words().split('\n');
    ASSERT_EQ(lines.size(), 4) << "the moment and three signals: " << hover->words().toStdString();
    EXPECT_TRUE(lines[0].endsWith(" s ago"));
    const double ago = lines[0].section(' ', 0, 0).toDouble();
    EXPECT_GT(ago, 1);
    const Instant then = session().shownAt() - seconds(ago);
    const QString flow =
        session().numberText(*session().bench().signal("flow"), session().source().at("flow", then).value);
    EXPECT_TRUE(hover->words().contains("Q1 " + flow)) << hover->words().toStdString();
    // beyond its ends there is nothing to tell
    const QPoint beside(4, plot->height() / 3);
    QMouseEvent off(QEvent::MouseMove, beside, plot->mapToGlobal(beside), Qt::NoButton, Qt::NoButton, {});
    QApplication::sendEvent(plot, &off);
    EXPECT_FALSE(hover->isTelling());
    QApplication::sendEvent(plot, &move);
    QEvent leave(QEvent::Leave);
    QApplication::sendEvent(plot, &leave);
    EXPECT_FALSE(hover->isTelling());
}

TEST_F(Tiles, WhatLiesOffTheScaleIsSaidInsteadOfABlankTile) {
    const auto scaled = [&](const char* id, const char* unit, Scale scale) {
        Q_EMIT tile(id)->scalesChosen({{unit, scale}}, "Change scale");
        show();
    };
    EXPECT_EQ(tile("hydraulics")->accessibleDescription(), QString());
    scaled("hydraulics", "L/min", {-50, -40});
    EXPECT_EQ(tile("hydraulics")->accessibleDescription(), "↑ Q1 above the scale: a double click fits it");
    scaled("hydraulics", "L/min", {400, 500});
    EXPECT_EQ(tile("hydraulics")->accessibleDescription(), "↓ Q1 below the scale: a double click fits it");
    scaled("hydraulics", "L/min", {0, 100});
    EXPECT_EQ(tile("hydraulics")->accessibleDescription(), QString());
    // Of a reading that lies off the scale while the rest of its line is seen, the tag says so.
    const double flow = session().source().at("flow", session().shownAt()).value;
    const QColor ink = dayTheme().signal[static_cast<std::size_t>(session().bench().signal("flow")->colour)];
    const auto tagInk = [&] {
        const QImage all = picture("hydraulics");
        return count(all.copy(all.width() - 30, 0, 30, all.height()), ink);
    };
    const int within = tagInk();
    scaled("hydraulics", "L/min", {0, flow * 0.9});
    EXPECT_EQ(tile("hydraulics")->accessibleDescription(), QString());
    EXPECT_GT(tagInk(), within + 3);

    // In a gap it stands where the line ended.
    Bench away = test::exampleBench("pump-bench");
    DeviceSpec box = *away.device("box");
    box.settings = R"({"seed":1,"rate-hz":1000,"faults":[{"fault":"away","from-s":8,"to-s":18}]})";
    run(withDevice(away, box));
    session().cursor().goTo(Instant{} + seconds(16));
    show();
    ASSERT_EQ(session().source().at("flow", session().shownAt()).quality, Quality::gap);
    EXPECT_EQ(tagInk(), within);
    session().cursor().setWindow(seconds(5));
    show();
    EXPECT_EQ(tagInk(), 0) << "the line's end is not in sight";
    run(test::exampleBench("pump-bench"));

    for (const TileKind kind : {TileKind::dial, TileKind::column}) {
        as("outlet", kind);
        scaled("outlet", "bar", {0, 10});
        const int before = count(picture("outlet"), dayTheme().muted);
        scaled("outlet", "bar", {0, 0.1});
        EXPECT_GT(count(picture("outlet"), dayTheme().muted), before + 20) << tileKindName(kind);
    }
}

TEST_F(Tiles, EachKindShowsEverySignalItCan) {
    for (const char* id : {"outlet", "bearing", "flow"})
        for (const TileKind kind :
             {TileKind::number, TileKind::dial, TileKind::column, TileKind::trace, TileKind::number}) {
            as(id, kind);
            const QImage image = picture(id);
            EXPECT_GT(count(image, dayTheme().ground), image.width() * image.height() / 4) << "calm: mostly paper";
            QSet<QRgb> colours;
            for (int y = 0; y < image.height(); y += 2)
                for (int x = 0; x < image.width(); x += 2) colours.insert(image.pixel(x, y));
            EXPECT_GT(colours.size(), 4) << "and something is on it: " << id << " as " << tileKindName(kind);
        }
}

TEST(TileParts, NumbersStandStillWhileTheirFiguresChange) {
    const QFont font = uiFont(20);
    EXPECT_DOUBLE_EQ(figuresWidth(font, "1111.1"), figuresWidth(font, "8888.8"));
    EXPECT_GT(figuresWidth(font, "10.0"), figuresWidth(font, "1.0"));
}

TEST_F(Tiles, TheNightThemeIsAnotherPictureOfTheSamePage) {
    const QImage day = picture("outlet");
    window.setNight(true);
    show();
    const QImage night = picture("outlet");
    EXPECT_GT(count(day, dayTheme().ground), 1000);
    EXPECT_EQ(count(night, dayTheme().ground), 0);
    EXPECT_GT(count(night, nightTheme().ground), 1000);
}

TEST_F(Tiles, TheWindowMayBeSmallAndNothingFallsOver) {
    window.resize(700, 420);
    show();
    window.openChain("flow");
    show();
    for (const auto& t : window.page().tiles()) {
        EXPECT_GE(t->width(), 20);
        EXPECT_FALSE(t->grab().isNull());
    }
    window.resize(1920, 1200);
    show();
    EXPECT_GT(tile("outlet")->width(), 300);
}

TEST_F(Tiles, APageThatIsTallerThanItsRoomScrollsAndNothingOfItIsOutOfReach) {
    PageView& page = window.page();
    auto* bar = page.findChild<QScrollBar*>();
    const auto wheel = [&](QWidget* on, int notches) {
        QWheelEvent event(QPointF(5, 5), on->mapToGlobal(QPointF(5, 5)), {}, {0, 120 * notches}, {}, {},
                          Qt::NoScrollPhase, false);
        // What a widget has no use for is its parent's; Qt does that for events of the system only.
        do {
            event.ignore();
            QApplication::sendEvent(on, &event);
            on = on->parentWidget();
        } while (on && !event.isAccepted());
    };
    EXPECT_FALSE(bar->isVisible()) << "the demo's page has room";
    wheel(tile("outlet"), -3);
    const int top = tile("outlet")->y();
    for (int i = 0; i < 12; ++i) page.addSignal("guard-door");
    const Tile* last = page.selected();
    ASSERT_TRUE(bar->isVisible());
    EXPECT_LE(last->geometry().bottom(), page.height()) << "what was added is in sight";
    EXPECT_LT(tile("outlet")->y(), top);
    EXPECT_FALSE(qobject_cast<Tile*>(page.childAt(page.width() / 2, 20))) << "it goes away under the tabs";

    for (int i = 0; i < 9; ++i) wheel(tile("outlet"), 1);
    EXPECT_EQ(tile("outlet")->y(), top);
    EXPECT_GT(last->geometry().bottom(), page.height());
    auto* slider = window.findChild<OutputSlider*>();
    const int driven = slider->value();
    wheel(slider, -1);
    EXPECT_EQ(slider->value(), driven) << "a wheel sets no output";
    EXPECT_LT(tile("outlet")->y(), top) << "it scrolls there too";
    QTest::keyClick(&page, Qt::Key_PageUp);
    EXPECT_EQ(tile("outlet")->y(), top);
    QTest::keyClick(&page, Qt::Key_PageDown);
    EXPECT_LT(tile("outlet")->y(), top);

    window.activateWindow();
    tile("outlet")->findChild<ScaleEnd*>()->setFocus(Qt::TabFocusReason);
    EXPECT_EQ(tile("outlet")->y(), top) << "what the keyboard comes to is in sight";
    // A tile carried along the lower edge takes the page with it, and lands where it is let go.
    Tile* carried = tile("outlet");
    const int from = carried->spec().y;
    test::drag(carried, {60, 8}, {0, page.height() - carried->y() - 12});
    EXPECT_GT(bar->value(), 0);
    EXPECT_GT(tile("outlet")->spec().y, from);
    session().undoStack().undo();
    page.showPage("mechanics");
    EXPECT_FALSE(bar->isVisible());
}

TEST(TileParts, ASparkLineBreaksWhereNothingWasMeasured) {
    const auto painted = [](const std::vector<Column>& columns) {
        QImage image(100, 20, QImage::Format_RGB32);
        image.fill(Qt::white);
        QPainter p(&image);
        paintSpark(p, QRectF(0, 0, 99, 19), columns, Qt::black, false, 0);
        p.end();
        int used = 0;
        for (int x = 0; x < 100; ++x)
            for (int y = 0; y < 20; ++y)
                if (image.pixelColor(x, y) != Qt::white) {
                    ++used;
                    break;
                }
        return used;
    };
    std::vector<Column> whole(50), broken;
    for (std::size_t i = 0; i < whole.size(); ++i) {
        const double v = std::sin(static_cast<double>(i));
        whole[i].add({v, v, v, 1});
    }
    broken = whole;
    for (std::size_t i = 15; i < 30; ++i) broken[i] = {};
    EXPECT_GT(painted(whole), 95);
    EXPECT_GT(painted(broken), 95) << "a slow signal has nothing in between";
    broken[30].gapBefore = true;
    EXPECT_LT(painted(broken), 75);
    broken[30].gapBefore = false;
    broken[20].sampled = true;
    EXPECT_LT(painted(broken), 75) << "something was read that has no value";
    EXPECT_EQ(painted({}), 0);
}

TEST(TileParts, WhatIsBeingTypedIsNotOverwrittenByWhatGoesOn) {
    QWidget holder;
    auto* field = new Field("a field", &holder);
    field->show("1");
    QString taken;
    QObject::connect(field, &Field::taken, field, [&](const QString& t) { taken = t; });
    static_cast<QWidget*>(field)->show();
    holder.show();
    holder.activateWindow();
    ASSERT_TRUE(QTest::qWaitForWindowActive(&holder));
    field->setFocus();
    ASSERT_TRUE(field->hasFocus());
    field->end(false);
    QTest::keyClicks(field, "23");
    field->show("9");
    EXPECT_EQ(field->text(), "123");
    QTest::keyClick(field, Qt::Key_Return);
    EXPECT_EQ(taken, "123");
    field->markWrong(true, "no");
    EXPECT_EQ(field->toolTip(), "no");
    QTest::keyClicks(field, "4");
    QTest::keyClick(field, Qt::Key_Escape);
    EXPECT_EQ(field->text(), "9") << "Escape puts back what is in force";
}

TEST_F(Tiles, EditsInARowWithOneKeyAreOneUndo) {
    const Bench before = session().bench();
    for (int i = 1; i <= 5; ++i) {
        SignalSpec s = *session().bench().signal("flow");
        s.name = "Flow " + std::to_string(i);
        session().edit("Rename", withSignal(session().bench(), s), "rename flow");
    }
    EXPECT_EQ(session().undoStack().count(), 1);
    session().undoStack().undo();
    EXPECT_TRUE(sameBench(before, session().bench()));
    session().edit("Nothing", session().bench());
    EXPECT_FALSE(session().undoStack().canUndo()) << "an edit that changes nothing is none";
}

TEST_F(Tiles, SavingCleansAndGoesBackToUnsavedWithTheNextEdit) {
    test::TempFolder folder;
    window.page().addPage();
    EXPECT_TRUE(session().unsaved());
    ASSERT_TRUE(save(folder.file("a.bench")));
    EXPECT_FALSE(session().unsaved());
    session().undoStack().undo();
    EXPECT_TRUE(session().unsaved()) << "undone past the saved state";
    EXPECT_FALSE(save("/nonexistent/a.bench"));
    EXPECT_TRUE(session().unsaved());
}

TEST(TimeCursor, GoesAndReturnsAndTellsOnlyChanges) {
    TimeCursor cursor;
    int moves = 0, windows = 0;
    QObject::connect(&cursor, &TimeCursor::moved, &cursor, [&] { ++moves; });
    QObject::connect(&cursor, &TimeCursor::windowChanged, &cursor, [&] { ++windows; });
    EXPECT_EQ(cursor.at({77}), (Instant{77}));
    cursor.goTo({5});
    cursor.goTo({5});
    EXPECT_EQ(cursor.at({77}), (Instant{5}));
    cursor.goToEnd();
    cursor.goToEnd();
    EXPECT_EQ(moves, 2);
    cursor.setWindow(seconds(1e12 / 1e3));
    EXPECT_EQ(cursor.window(), seconds(365.0 * 86400)) << "kept within reason";
    cursor.setWindow({-5});
    EXPECT_EQ(cursor.window(), milliseconds(1));
    EXPECT_EQ(windows, 2);
}

}  // namespace
}  // namespace cruscotto
