// Patterns drawn on their strip, and stretches of a signal that an output plays.
#include "app/rules/control_view.h"
#include "app/rules/pattern_strip.h"
#include "app/rules/rules_view.h"
#include "app/window_fixture.h"
#include "core/bench/control_file.h"

namespace cruscotto {
namespace {

class PatternPage : public test::WindowTest {
protected:
    void play(const std::string& output, const Pattern& points, PlayedSpec::Shape shape = PlayedSpec::Shape::steps) {
        ControlSpec c;
        c.id = c.name = "p";
        c.output = output;
        c.kind = ControlKind::play;
        c.enabled = false;
        c.played.shape = shape;
        c.played.points = points;
        session().edit("test", withControl(session().bench(), c));
        strip = window->openControl("p").findChild<PatternStrip*>();
        ASSERT_TRUE(strip);
        ASSERT_TRUE(waitFor([&] { return strip->isVisible() && strip->width() > 200; }));
    }
    [[nodiscard]] Pattern points() { return session().bench().control("p")->played.points; }
    void doubleClick(QPointF at) {
        QTest::mouseDClick(strip, Qt::LeftButton, {}, at.toPoint());
        QApplication::processEvents();
    }
    PatternStrip* strip = nullptr;
};

TEST_F(PatternPage, EdgesAreDraggedAddedAndTakenAwayEachOneStepToUndo) {
    play("beacon", {{0, 0}, {1, 1}, {2, 0}});
    const double perSecond = strip->placeOf(2).x() - strip->placeOf(1).x();
    test::drag(strip, strip->placeOf(1).toPoint(), QPoint(static_cast<int>(perSecond / 2), 0));
    ASSERT_EQ(points().size(), 3U);
    EXPECT_NEAR(points()[1].first, 1.5, 0.05);
    EXPECT_EQ(points()[1].second, 1) << "an edge goes in time only";
    session().undoStack().undo();
    EXPECT_EQ(points(), (Pattern{{0, 0}, {1, 1}, {2, 0}}));
    ASSERT_TRUE(waitFor([&] { return strip->pattern() == points(); }));
    doubleClick(strip->placeOf(0) + QPointF(perSecond / 5, 0));
    ASSERT_EQ(points().size(), 5U) << "a pulse more";
    EXPECT_NEAR(points()[1].first, 0.2, 0.05);
    EXPECT_EQ(points()[1].second, 1);
    strip->setFocus();
    ASSERT_EQ(strip->chosen(), 1U);
    QTest::keyClick(strip, Qt::Key_Delete);
    EXPECT_EQ(points(), (Pattern{{0, 0}, {1, 1}, {2, 0}})) << "with the edge that then says nothing";
}

TEST_F(PatternPage, AllOfItGoesByKeys) {
    play("drive", {{0, 1}, {1, 5}}, PlayedSpec::Shape::ramps);
    strip->setFocus();
    QTest::keyClick(strip, Qt::Key_Right);
    EXPECT_EQ(strip->chosen(), 0U);
    QTest::keyClick(strip, Qt::Key_Right, Qt::ControlModifier);
    EXPECT_EQ(strip->chosen(), 1U);
    QTest::keyClick(strip, Qt::Key_Up);
    EXPECT_GT(points()[1].second, 5);
    QTest::keyClick(strip, Qt::Key_Right, Qt::ShiftModifier);
    EXPECT_GT(points()[1].first, 1);
    QTest::keyClick(strip, Qt::Key_Insert);
    EXPECT_EQ(points().size(), 3U);
    QTest::keyClick(strip, Qt::Key_Delete);
    EXPECT_EQ(points().size(), 2U);
    EXPECT_FALSE(strip->grab().isNull());
}

/// What other outputs play stands below it over the same time, is edited there, and begins at the same moment.
TEST_F(PatternPage, SeveralOutputsStandBelowEachOtherAndBeginTogether) {
    ControlSpec other;
    other.id = other.name = "q";
    other.output = "valve";
    other.kind = ControlKind::play;
    other.enabled = true;
    other.played.shape = PlayedSpec::Shape::steps;
    other.played.points = {{0, 0}, {4, 1}, {30, 0}};
    session().edit("test", withControl(session().bench(), other));
    play("beacon", {{0, 0}, {1, 1}, {20, 0}});
    auto* beside = window->openControl("p").findChild<PlayedBeside*>();
    ASSERT_TRUE(beside && beside->isVisible());
    ASSERT_EQ(beside->rows(), 1);
    auto* row = beside->findChild<PatternStrip*>();
    ASSERT_TRUE(waitFor([&] { return row->width() > 200; }));
    EXPECT_LT(row->height(), strip->height());
    const auto place = [](PatternStrip* s, std::size_t point) { return s->placeOf(point).x(); };
    EXPECT_NEAR(place(row, 1) - place(row, 0), 4 * (place(strip, 1) - place(strip, 0)), 1e-6) << "over the same time";
    row->setFocus();
    QTest::keyClick(row, Qt::Key_Right);
    QTest::keyClick(row, Qt::Key_Right, Qt::ControlModifier);
    QTest::keyClick(row, Qt::Key_Left, Qt::ShiftModifier);
    EXPECT_LT(session().bench().control("q")->played.points[1].first, 4);
    EXPECT_EQ(points()[1].first, 1) << "of that one alone";

    const auto turn = [&](const char* id) -> std::optional<Instant> {
        for (const ControlReport& r : session().engine()->controlReports())
            if (r.id == id) return r.state.turn;
        return {};
    };
    ASSERT_TRUE(waitFor([&] { return turn("q").has_value(); }));
    const Instant before = *turn("q");
    ControlSpec again = *session().bench().control("q");
    again.id = again.name = "r";
    again.enabled = false;
    session().edit("test", withControl(session().bench(), again));
    const int steps = session().undoStack().count();
    beside->beginTogether();
    EXPECT_EQ(session().undoStack().count(), steps + 1) << "one step to undo";
    ASSERT_TRUE(waitFor([&] { return turn("p") && turn("p") == turn("q"); }));
    EXPECT_GT(*turn("q"), before);
    EXPECT_FALSE(session().bench().control("r")->enabled) << "an output has one control in force";
    EXPECT_TRUE(readBench(writeBench(session().bench())).bench) << "and the bench can be opened again";
    session().undoStack().undo();
    EXPECT_FALSE(session().bench().control("p")->enabled);
}

class PlayBack : public test::WindowTest {
protected:
    void SetUp() override {
        showEmpty();
        test::writeFile(folder.file("pump.bench"), test::readFile(test::example("pump-bench")));
        open(QString::fromStdString(folder.file("pump.bench")));
        ASSERT_TRUE(waitFor([&] { return session().end() > Instant{} + seconds(1.5); }));
        stretch = {session().end() - seconds(1), session().end()};
        session().cursor().stretchOver(stretch);
    }
    test::TempFolder folder;
    Span stretch;
};

TEST_F(PlayBack, AStateBecomesAPatternThatCanBeEdited) {
    window->playStretch("guard-door", "beacon");
    ASSERT_EQ(session().bench().controls.size(), 1U);
    const ControlSpec& c = *session().bench().controls[0];
    EXPECT_EQ(c.output, "beacon");
    EXPECT_EQ(c.played.shape, PlayedSpec::Shape::steps);
    EXPECT_FALSE(c.enabled) << "until somebody has looked at it";
    EXPECT_NEAR(c.played.lasts, 1, 1e-3);
    ASSERT_FALSE(c.played.points.empty());
    EXPECT_EQ(c.played.points[0].first, 0);
    session().undoStack().undo();
    EXPECT_TRUE(session().bench().controls.empty());
}

TEST_F(PlayBack, WhatIsTooLongForPointsIsKeptAsARunAndPlayedFromThere) {
    ASSERT_TRUE(waitFor([&] { return session().end() > Instant{} + seconds(4); }));
    session().cursor().stretchOver({session().end() - seconds(3.5), session().end()});
    window->playStretch("vibration", "drive");
    if (session().bench().controls.empty()) ASSERT_TRUE(waitFor([&] { return !session().bench().controls.empty(); }));
    const ControlSpec& c = *session().bench().controls[0];
    EXPECT_EQ(c.played.shape, PlayedSpec::Shape::run);
    EXPECT_TRUE(std::filesystem::exists(c.played.run)) << c.played.run;
    EXPECT_EQ(c.played.signal, "vibration");
    EXPECT_GT(c.played.to, 1);
}

TEST_F(PlayBack, OfARunItIsRememberedForABenchThatCan) {
    session().keepStretch(session().runFolder(), stretch);
    ASSERT_TRUE(waitFor([&] { return !session().lastRun().isEmpty(); }));
    const QString run = session().lastRun();
    open(run);
    session().cursor().stretchOver({Instant{} + seconds(0.25), Instant{} + seconds(0.75)});
    window->playStretch("guard-door", {});
    EXPECT_TRUE(session().bench().controls.empty());
    ASSERT_TRUE(session().toPlay());
    open(QString::fromStdString(folder.file("pump.bench")));
    window->openRules().playBack("beacon", session().toPlay()->played);
    ASSERT_EQ(session().bench().controls.size(), 1U);
    const PlayedSpec& played = session().bench().controls[0]->played;
    EXPECT_EQ(played.run, run.toStdString());
    EXPECT_NEAR(played.to - played.from, 0.5, 1e-6);
}

}  // namespace
}  // namespace cruscotto
