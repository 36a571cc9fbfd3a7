// Runs side by side in the window, and the list of a folder's runs.
#include "app/page/tiles/plot_library.h"
#include "app/page/tiles/trace_tile.h"
#include "app/run/beside_panel.h"
#include "app/run/library_view.h"
#include "app/window_fixture.h"
#include "engine/engine.h"

namespace cruscotto {
namespace {

using test::TempFolder;

class Beside : public test::WindowTest {
protected:
    std::string recorded(const std::string& name, double drive, double lasts = 12) {
        Bench bench = test::exampleBench("pump-bench");
        SignalSpec s = *bench.signal("drive");
        s.output->start = drive;
        EngineOptions fast;
        fast.pace = Pace::asFastAsPossible;
        fast.until = seconds(lasts);
        auto engine = Engine::startRecorded(withSignal(bench, s), folder.file(name), fast);
        EXPECT_TRUE(engine.ok());
        engine.value()->wait();
        engine.value()->mark(Instant{} + seconds(drive), "go");
        engine.value()->stop();
        return folder.file(name);
    }
    BesidePanel& panel() { return *window->findChild<BesidePanel*>(); }
    [[nodiscard]] RunsBeside& beside() { return session().beside(); }
    bool allThere(std::size_t n) {
        return waitFor([&] {
            return beside().runs().size() == n &&
                   std::ranges::all_of(beside().runs(), [](const auto& run) { return run->there; });
        });
    }
    TempFolder folder;
};

TEST_F(Beside, WhatDiffersIsToldAndTheMeasuresOfAll) {
    const std::string own = recorded("own.run", 7), other = recorded("other.run", 8);
    open(QString::fromStdString(own));
    window->layOver({QString::fromStdString(other)});
    ASSERT_TRUE(allThere(1));
    ASSERT_TRUE(waitFor([&] { return panel().differences().words().contains("higher"); }));
    EXPECT_TRUE(panel().differences().words().contains("bar higher"));
    EXPECT_TRUE(panel().differences().words().contains("drive")) << "and what is written differently";
    panel().tell(BesidePanel::Told::measures);
    ASSERT_TRUE(waitFor([&] { return panel().table().rowCount() > 5; }));
    EXPECT_EQ(panel().table().columnCount(), 5) << "measure, mean, spread, this one, the other";
    beside().remove(0);
    EXPECT_FALSE(panel().table().isVisible());
}

TEST_F(Beside, RunsAreLaidByMarksAndByACrossing) {
    const std::string own = recorded("own.run", 7), other = recorded("other.run", 8);
    open(QString::fromStdString(own));
    window->layOver({QString::fromStdString(other)});
    ASSERT_TRUE(allThere(1));
    const auto& run = *beside().runs().front();
    EXPECT_EQ(run.shift.ns, 0);
    RunsBeside::View view = beside().view();
    view.by = Alignment::firstMark;
    beside().setView(view);
    EXPECT_EQ(beside().align(), "");
    EXPECT_EQ(run.shift, seconds(-1));
    view.by = Alignment::crossing;
    view.crossing = {"outlet-pressure", 1e6, true};
    beside().setView(view);
    EXPECT_TRUE(beside().align().contains("never")) << beside().align().toStdString();
    EXPECT_EQ(run.shift.ns, 0) << "by their beginnings then";
}

TEST_F(Beside, APalerTraceIsDraggedInTime) {
    const std::string own = recorded("own.run", 7), other = recorded("other.run", 8);
    open(QString::fromStdString(own));
    window->layOver({QString::fromStdString(other)});
    ASSERT_TRUE(allThere(1));
    auto* trace = window->page().findChild<TraceTile*>();
    ASSERT_TRUE(trace);
    frame();
    auto* plot = trace->findChild<QCustomPlot*>();
    ASSERT_TRUE(plot);
    // somewhere on the paler trace of its first lane
    const QRect lane = plot->axisRect(0)->rect();
    const auto grabbed = [&](Qt::KeyboardModifiers keys) {
        for (int y = lane.top(); y <= lane.bottom(); y += 4) {
            const QPoint at(lane.right() - lane.width() / 5, y);  // the runs are shorter than what is shown
            QTest::mousePress(plot, Qt::LeftButton, keys, at);
            QMouseEvent move(QEvent::MouseMove, QPointF(at) + QPointF(50, 0), plot->mapToGlobal(at + QPoint(50, 0)),
                             Qt::LeftButton, Qt::LeftButton, keys);
            QApplication::sendEvent(plot, &move);
            QTest::mouseRelease(plot, Qt::LeftButton, keys, at + QPoint(50, 0));
            if (beside().runs()[0]->shift.ns != 0) return true;
        }
        return false;
    };
    EXPECT_FALSE(grabbed(Qt::NoModifier)) << "without Ctrl it is time that goes";
    session().cursor().goTo(session().end());
    frame();
    ASSERT_TRUE(grabbed(Qt::ControlModifier));
    const double seconds = 50 * session().cursor().window().seconds() / lane.width();
    EXPECT_NEAR(beside().runs()[0]->shift.seconds(), seconds, seconds * 0.1) << "as far as the pointer went, later";
}

TEST_F(Beside, ABandIsDrawnAndJudgesAndTheDifferenceHasALane) {
    const std::string good[] = {recorded("a.run", 6.9), recorded("b.run", 7.1), recorded("c.run", 7)};
    const std::string own = recorded("own.run", 8);
    open(QString::fromStdString(own));
    QStringList paths;
    for (const std::string& path : good) paths << QString::fromStdString(path);
    window->layOver(paths);
    ASSERT_TRUE(allThere(3));
    auto* trace = window->page().findChild<TraceTile*>();
    ASSERT_TRUE(trace);
    frame();
    const std::size_t paler = trace->laidOver();
    ASSERT_GT(paler, 0U);
    EXPECT_EQ(paler % 3, 0U) << "a trace for each run";
    RunsBeside::View view = beside().view();
    view.drawn = RunsBeside::Drawn::band;
    beside().setView(view);
    frame();
    EXPECT_EQ(trace->laidOver(), paler / 3 * 2) << "a band has two edges";
    const std::size_t lanes = trace->lanes();
    view.difference = true;
    beside().setView(view);
    frame();
    EXPECT_GT(trace->lanes(), lanes);
    const SignalSpec& drive = *session().bench().signal("drive");
    ASSERT_TRUE(beside().held(drive));
    EXPECT_EQ(beside().held(drive)->source, beside().runs()[0]->source.get());
    view.heldAgainst = 2;
    beside().setView(view);
    EXPECT_EQ(beside().held(drive)->source, beside().runs()[2]->source.get());
    view.difference = false;
    beside().setView(view);
    frame();
    EXPECT_EQ(trace->lanes(), lanes);
    panel().tell(BesidePanel::Told::band);
    frame();
    EXPECT_TRUE(panel().verdictWords().contains("Outside the band")) << panel().verdictWords().toStdString();
    EXPECT_TRUE(panel().differences().words().contains("above it by"));
}

TEST_F(Beside, TheListOfRunsFindsOpensAndJudges) {
    recorded("a.run", 6.9);
    recorded("b.run", 7.1);
    ASSERT_TRUE(save(folder.file("bench.bench")));
    LibraryView& library = window->openLibrary();
    ASSERT_TRUE(waitFor([&] { return !library.reading() && library.model().rowCount() == 2; }));
    auto* words = library.findChild<QLineEdit*>();
    QTest::keyClicks(words, "b.run nothing");
    EXPECT_EQ(library.model().rowCount(), 0);
    words->setText("pump");
    EXPECT_EQ(library.model().rowCount(), 2) << "the bench is called so";
    ASSERT_TRUE(waitFor([&] { return library.model().pictureOf(0) && library.model().pictureOf(1); }));
    EXPECT_FALSE(library.model().pictureOf(0)->columns.empty());
    auto* table = library.findChild<QTableView*>();
    table->selectRow(0);
    const QString path = library.chosen().value(0);
    for (auto* button : library.findChildren<QPushButton*>())
        if (button->text().contains("Good")) QTest::mouseClick(button, Qt::LeftButton);
    ASSERT_TRUE(waitFor([&] {
        return library.model()
            .data(library.model().index(0, LibraryModel::verdict), Qt::DisplayRole)
            .toString()
            .contains("good");
    }));
    bool there = false;
    QObject::connect(&session(), &Session::sourceChanged, window.get(), [&] { there = true; });
    QTest::keyClick(&library, Qt::Key_Return);
    ASSERT_TRUE(waitFor([&] { return there; }));
    EXPECT_EQ(session().runNotes().verdict, "good");
    EXPECT_FALSE(library.isVisible()) << "the page is back";
}

}  // namespace
}  // namespace cruscotto
