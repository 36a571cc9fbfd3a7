// From a moment to a stretch, in the real window: made with the mouse and the keys, measured in the drawer, kept.
#include <gtest/gtest.h>

#include "app/page/tiles/stretch_shade.h"
#include "app/page/tiles/trace_tile.h"
#include "app/widgets/words.h"
#include "app/window_fixture.h"
#include "core/bench/stretch_ends.h"
#include "core/run/run_reader.h"

namespace cruscotto {
namespace {

using test::TempFolder;

/// The seed sorter after twenty seconds, as fast as possible, and standing there.
class StretchTest : public testing::Test {
protected:
    void SetUp() override {
        window.forgetSettings();
        window.stopClock();
        EngineOptions fast;
        fast.pace = Pace::asFastAsPossible;
        fast.until = seconds(20);
        Bench bench = test::exampleBench("seed-sorter");
        if (!holds()) {  // time runs on in all of its traces, as the page has it
            PageSpec page = *bench.pages.back();
            for (TileSpec& t : page.tiles) t.settings.clear();
            bench.pages.back() = std::make_shared<const PageSpec>(page);
        }
        session().openBenchDocument(bench, fast);
        session().engine()->wait();
        window.resize(1280, 800);
        window.show();
        for (const auto& page : session().bench().pages)
            if (page->name == "Sieve and air") window.page().showPage(QString::fromStdString(page->id));
        session().cursor().setWindow(seconds(4));
        show();
    }
    void TearDown() override { window.closeWithoutAsking(); }
    [[nodiscard]] virtual bool holds() const { return false; }
    Session& session() { return window.session(); }
    void show() {
        for (int i = 0; i < 2; ++i) {
            window.frame(true);
            QApplication::processEvents();
        }
    }
    void measure() {
        show();
        // with the sanitizer a measure of many readings takes its time
        constexpr int limitMs = 60'000;
        ASSERT_TRUE(QTest::qWaitFor(
            [&] {
                window.frame(true);
                return !session().measuring().working();
            },
            limitMs));
        show();
    }
    QWidget* plot() {
        for (QWidget* shade : window.page().findChildren<QWidget*>("stretch"))
            if (shade->parentWidget()->isVisible()) return shade->parentWidget();
        return nullptr;
    }
    StretchShade* shade() { return dynamic_cast<StretchShade*>(plot()->findChild<QWidget*>("stretch")); }
    void move(QWidget* on, QPoint at, Qt::KeyboardModifiers with, QEvent::Type type) {
        const Qt::MouseButton button = type == QEvent::MouseMove ? Qt::NoButton : Qt::LeftButton;
        QMouseEvent event(type, at, on->mapToGlobal(at), button,
                          type == QEvent::MouseButtonRelease ? Qt::NoButton : Qt::LeftButton, with);
        QApplication::sendEvent(on, &event);
    }
    void drag(QWidget* on, QPoint from, QPoint to, Qt::KeyboardModifiers with = Qt::ShiftModifier) {
        move(on, from, with, QEvent::MouseButtonPress);
        for (int i = 1; i <= 6; ++i) move(on, from + (to - from) * i / 6, with, QEvent::MouseMove);
        move(on, to, with, QEvent::MouseButtonRelease);
    }
    QString row(const QString& title) {
        for (const QString& line : window.measures().list().words().split('\n'))
            if (line.section('\t', 0, 0) == title) return line.section('\t', 1);
        return {};
    }
    Tile* tileOf(const char* signal) {
        for (Tile* t : window.page().findChildren<Tile*>())
            if (t->spec().signals == std::vector<std::string>{signal} && t->isVisible()) return t;
        return nullptr;
    }
    MainWindow window;
};

TEST_F(StretchTest, ADragWithShiftOverATraceMakesOneAndEscapeEndsIt) {
    const int right = plot()->width() - 60, y = plot()->height() / 2;
    drag(plot(), {right / 2, y}, {right, y}, Qt::ShiftModifier | Qt::AltModifier);
    ASSERT_TRUE(session().stretch());
    EXPECT_TRUE(session().cursor().atEnd()) << "the page does not go back in time by it";
    const double length = (session().stretch()->to - session().stretch()->from).seconds();
    EXPECT_GT(length, 1);
    EXPECT_LT(length, 3);
    measure();
    EXPECT_TRUE(window.measures().isVisible()) << "its measures stand in the drawer";
    ASSERT_TRUE(shade()->ends());
    EXPECT_NEAR(shade()->ends()->second - shade()->ends()->first, length / 4 * shade()->width(), 3);
    // an end that is taken hold of is dragged alone
    const Span before = *session().stretch();
    const int end = static_cast<int>(std::lround(shade()->ends()->second)) + shade()->x();
    drag(plot(), {end, y}, {end - 40, y}, Qt::AltModifier);
    EXPECT_EQ(session().stretch()->from, before.from);
    EXPECT_LT(session().stretch()->to, before.to);
    // keys move the ends
    const Span dragged = *session().stretch();
    window.action("to-later")->trigger();
    window.action("from-earlier")->trigger();
    EXPECT_EQ(session().stretch()->to - dragged.to, milliseconds(40)) << "a hundredth of what is shown";
    EXPECT_EQ(dragged.from - session().stretch()->from, milliseconds(40));
    QTest::keyClick(&window, Qt::Key_Escape);
    EXPECT_FALSE(session().stretch());
    show();
    EXPECT_FALSE(window.measures().isVisible());
    EXPECT_FALSE(shade()->isVisible());
}

TEST_F(StretchTest, AllTilesShowWhatHoldsForIt) {
    const Span span{Instant{} + seconds(15), Instant{} + seconds(19)};
    const auto humidity = session().source().summaryOver("humidity", span);
    session().cursor().stretchOver(span);
    show();
    // pictures are compared by what the tiles are told, which is what they paint
    const QImage over = tileOf("humidity")->grab().toImage();
    session().cursor().endStretch();
    show();
    EXPECT_NE(over, tileOf("humidity")->grab().toImage());
    EXPECT_TRUE(humidity.exact);
    EXPECT_GT(humidity.count, 100U);
    // a state: its share of the time
    const StateOver barrier = stateOver(session().source(), *session().bench().signal("trays"), span);
    EXPECT_GT(barrier.share, 0);
    EXPECT_LT(barrier.share, 1);
    ASSERT_TRUE(barrier.changes);
    EXPECT_GE(*barrier.changes, 6U) << "a tray passes each second";
    EXPECT_EQ(shareText(*session().bench().signal("trays"), 0), "free");
}

TEST_F(StretchTest, MeasuresAreThoseOfTheCommandLineAndFollowTheChosenSignal) {
    const Span span{Instant{} + seconds(16), Instant{} + seconds(17)};
    session().cursor().stretchOver(span);
    measure();
    window.measures().open("sieve");
    window.measures().holdAgainst("exciter");
    measure();
    const auto known = measuresOver(session().bench(), session().source(), "sieve", "exciter", span);
    ASSERT_TRUE(known.ok());
    EXPECT_EQ(row("Readings"), QStringLiteral("5000\t"));
    const double gain = row("Gain").section(QChar(0xb1), 0, 0).replace(QChar(0x2212), '-').toDouble();
    EXPECT_NEAR(gain, known.value().all.at("gain").value, 0.01);
    EXPECT_TRUE(row("Gain").contains("clipped for")) << row("Gain").toStdString();
    EXPECT_TRUE(row("Delay").contains("ms")) << row("Delay").toStdString();
    // kept running it is a signal
    window.measures().list().choose("gain");
    for (QPushButton* b : window.measures().findChildren<QPushButton*>())
        if (b->text().startsWith("Keep it running")) b->click();
    const auto& made = *session().bench().signals.back();
    EXPECT_EQ(made.name, "Gain: Sieve, amplified");
    EXPECT_EQ(made.unit(), "1");
    EXPECT_EQ(made.chain[0].sources("of").size(), 2U);
    EXPECT_EQ(made.chain[0].number("time-s"), 1);
    EXPECT_EQ(window.drawer().signal(), QString::fromStdString(made.id)) << "its chain is open";
    session().undoStack().undo();
    window.action("measures")->trigger();
    window.measures().open("trays");
    measure();
    EXPECT_TRUE(row("On for").contains("%")) << window.measures().list().words().toStdString();
    EXPECT_TRUE(row("Amplitude of the sine").isEmpty());
}

TEST_F(StretchTest, EndsAreTypedAndRefusedWhereTheyAreWrong) {
    session().cursor().stretchOver({Instant{} + seconds(10), Instant{} + seconds(12)});
    measure();
    const auto field = [&](const char* name) {
        for (Field* f : window.measures().findChildren<Field*>())
            if (f->accessibleName() == name) return f;
        return static_cast<Field*>(nullptr);
    };
    const auto type = [&](Field* f, const QString& text) {
        f->setFocus();
        f->selectAll();
        QTest::keyClicks(f, text);
        QTest::keyClick(f, Qt::Key_Return);
    };
    EXPECT_EQ(field("Stretch: from")->text(), "10 s");
    type(field("Stretch: to"), "14.5");
    EXPECT_EQ(session().stretch()->to, Instant{} + milliseconds(14'500));
    type(field("Stretch: from"), "15");
    EXPECT_EQ(session().stretch()->from, Instant{} + seconds(10)) << "it must begin before it ends";
    EXPECT_TRUE(field("Stretch: from")->property("wrong").toBool());
    type(field("Stretch: from"), "9s");
    EXPECT_EQ(session().stretch()->from, Instant{} + seconds(9));
    type(field("Stretch: length"), "250 ms");
    EXPECT_EQ(session().stretch()->to, Instant{} + milliseconds(9'250));
    type(field("Stretch: length"), "soon");
    EXPECT_TRUE(field("Stretch: length")->property("wrong").toBool());
}

TEST_F(StretchTest, WhatIsExpectedIsJudgedKeptAndUndone) {
    session().cursor().stretchOver({Instant{} + seconds(16), Instant{} + seconds(18)});
    measure();
    window.measures().open("humidity");
    measure();
    window.measures().list().choose("mean");
    const auto field = [&](const char* name) {
        for (Field* f : window.measures().findChildren<Field*>())
            if (f->accessibleName() == name) return f;
        return static_cast<Field*>(nullptr);
    };
    const double mean = session().source().summaryOver("humidity", *session().stretch()).mean;
    const auto type = [&](Field* f, const QString& text) {
        f->setFocus();
        f->selectAll();
        QTest::keyClicks(f, text);
        QTest::keyClick(f, Qt::Key_Return);
    };
    type(field("Expected"), QString::number(mean * 1.005, 'g', 8));
    ASSERT_EQ(session().bench().expected.size(), 1U);
    EXPECT_EQ(session().bench().expected[0].measure, "mean");
    EXPECT_EQ(session().bench().expected[0].unit, session().bench().signal("humidity")->unit());
    EXPECT_TRUE(row("Mean").contains("below what is expected")) << window.measures().list().words().toStdString();
    EXPECT_TRUE(row("Mean").contains(QChar(0x2713)));
    type(field("May be off by"), "0.0001");
    EXPECT_TRUE(row("Mean").contains("too much")) << row("Mean").toStdString();
    // as a file, and back
    const BenchReading again = readBench(writeBench(session().bench()));
    ASSERT_TRUE(again.bench);
    EXPECT_TRUE(sameBench(*again.bench, session().bench()));
    // it goes with its signal, and names none that is not there
    EXPECT_TRUE(withoutSignal(session().bench(), "humidity").expected.empty());
    Bench other = session().bench();
    other.expected[0].signal = "nobody";
    const BenchReading wrong = readBench(writeBench(other));
    ASSERT_FALSE(wrong.bench);
    EXPECT_EQ(wrong.problems[0].where, "/expected/0/signal");
    session().undoStack().undo();
    session().undoStack().undo();
    EXPECT_TRUE(session().bench().expected.empty());
    EXPECT_FALSE(row("Mean").contains("expected"));
}

TEST_F(StretchTest, TheRibbonMakesOneAndTheStretchIsKeptAsARun) {
    Ribbon& ribbon = window.ribbon();
    const int y = 30;
    const auto x = [&](double s) { return static_cast<int>(std::lround(ribbon.xOf(Instant{} + seconds(s)))); };
    drag(&ribbon, {x(8), y}, {x(12), y});
    ASSERT_TRUE(session().stretch());
    EXPECT_NEAR(session().stretch()->from.seconds(), 8, 0.05);
    EXPECT_NEAR(session().stretch()->to.seconds(), 12, 0.05);
    EXPECT_TRUE(session().cursor().atEnd());
    const TempFolder folder;
    session().keepStretch(QString::fromStdString(folder.file("")), *session().stretch());
    ASSERT_TRUE(QTest::qWaitFor(
        [&] {
            window.frame(true);
            return !session().lastRun().isEmpty();
        },
        30'000));
    auto run = RunReader::open(session().lastRun().toStdString());
    ASSERT_TRUE(run.ok());
    EXPECT_NEAR(static_cast<double>(run.value()->info().signal("sieve")->samples), 20'000, 500);
}

TEST_F(StretchTest, TheLastTenSecondsHangOnNow) {
    window.action("stretch-last")->trigger();
    ASSERT_TRUE(session().cursor().stretchHangsOnNow());
    EXPECT_EQ(session().stretch()->to, session().end());
    EXPECT_EQ(session().stretch()->to - session().stretch()->from, seconds(10));
    measure();
    EXPECT_FALSE(row("Mean").isEmpty()) << window.measures().list().words().toStdString();
    window.action("stretch-shown")->trigger();
    EXPECT_FALSE(session().cursor().stretchHangsOnNow());
    EXPECT_EQ(session().stretch()->to - session().stretch()->from, seconds(4));
}

class HeldPictureTest : public StretchTest {
    [[nodiscard]] bool holds() const override { return true; }
};

TEST_F(HeldPictureTest, AHeldPictureStandsStillWhileTimeGoesOn) {
    auto* trace = dynamic_cast<TraceTile*>(plot()->parentWidget());
    ASSERT_TRUE(trace);
    ASSERT_TRUE(trace->held()) << trace->holdWords().toStdString();
    EXPECT_EQ(trace->holdWords(), "stands on the rise of X1 through 0.00 V");
    EXPECT_EQ(trace->behind(), 16U);
    // at any moment it is the same picture: the exciter goes through zero where it stands
    for (const double at : {12.0, 12.03, 12.07, 17.2}) {
        session().cursor().goTo(Instant{} + seconds(at));
        show();
        ASSERT_TRUE(trace->held());
        EXPECT_NEAR(session().source().at("exciter", trace->held()->at).value, 0, 0.05);
        EXPECT_LE(trace->held()->at, session().shownAt());
        EXPECT_LT(session().shownAt() - trace->held()->at, milliseconds(500));
    }
    // the level is dragged on it, as one step
    const int steps = session().undoStack().count(), x = plot()->width() / 2;
    int y = 0;  // where the pointer takes hold of it
    for (int at = 10; at < plot()->height() && y == 0; ++at) {
        move(plot(), {x, at}, {}, QEvent::MouseMove);
        if (plot()->cursor().shape() == Qt::SizeVerCursor) y = at + 4;
    }
    ASSERT_GT(y, 0);
    drag(plot(), {x, y}, {x, y - 12}, {});
    show();
    EXPECT_EQ(session().undoStack().count(), steps + 1);
    EXPECT_GT(trace->held()->level, 0.1);
    EXPECT_LT(trace->held()->level, 0.6);
    EXPECT_NEAR(session().source().at("exciter", trace->held()->at).value, trace->held()->level, 0.05);
    session().undoStack().undo();
    // nothing to stand on is said
    QTest::mouseClick(plot(), Qt::LeftButton, {}, {100, 60});
    window.page().changeSelected("hold-level", "3", "test");
    show();
    EXPECT_EQ(trace->holdWords(), "nothing to stand on: X1 does not rise through 3.00 V");
    window.page().changeSelected("hold", "no", "test");
    show();
    EXPECT_TRUE(trace->holdWords().isEmpty());
    EXPECT_FALSE(trace->held());
}

TEST_F(StretchTest, EndsSettleOnEdgesCrossingsAndMarks) {
    const Source& source = session().source();
    const SignalSpec* barrier = session().bench().signal("trays");
    const SignalSpec* exciter = session().bench().signal("exciter");
    const auto changed = source.lastChange("trays", Instant{} + seconds(18));
    ASSERT_TRUE(changed);
    const SettlingSignal state[] = {{barrier, {}}};
    EXPECT_EQ(settled(source, state, {}, *changed + milliseconds(3), milliseconds(5)), *changed);
    const Instant far = *changed + milliseconds(30);
    EXPECT_EQ(settled(source, state, {}, far, milliseconds(5)), far) << "nothing is near";
    const Instant mark = far + milliseconds(2);
    EXPECT_EQ(settled(source, state, std::span(&mark, 1), far, milliseconds(5)), mark);
    // through zero, between two samples
    const SettlingSignal sine[] = {{exciter, {0}}};
    const Instant zero = settled(source, sine, {}, far, milliseconds(300));
    std::vector<Point> points;
    ASSERT_TRUE(source.points("exciter", {zero - nanoseconds(1), zero + nanoseconds(1)}, 100, points));
    ASSERT_EQ(points.size(), 2U);
    EXPECT_NE(points[0].value < 0, points[1].value < 0);
}

}  // namespace
}  // namespace cruscotto
