// Spectrum, histogram, plane, table and sentence on the pump bench's page of them, and what is taken from any tile.
#include <QClipboard>

#include "app/page/tile_output.h"
#include "app/page/tiles/histogram_tile.h"
#include "app/page/tiles/picture_tile.h"
#include "app/page/tiles/plane_tile.h"
#include "app/page/tiles/port_tile.h"
#include "app/page/tiles/spectrum_tile.h"
#include "app/page/tiles/table_tile.h"
#include "app/page/tiles/text_tile.h"
#include "app/page/tiles/trace_tile.h"
#include "app/widgets/words.h"
#include "app/window_fixture.h"
#include "core/base/whole_file.h"
#include "core/bench/tile_settings.h"

namespace cruscotto {
namespace {

using test::TempFolder;

class AnalysisTiles : public testing::Test {
protected:
    void SetUp() override {
        window.forgetSettings();
        window.stopClock();
        EngineOptions fast;
        fast.pace = Pace::asFastAsPossible;
        fast.until = seconds(40);
        session().openBenchDocument(test::exampleBench("pump-bench"), fast);
        session().engine()->wait();
        window.resize(1280, 800);
        window.show();
        window.page().showPage("curves");
        show();
    }
    void TearDown() override { window.closeWithoutAsking(); }
    Session& session() { return window.session(); }
    void show() {
        for (int i = 0; i < 2; ++i) {
            window.frame(true);
            QApplication::processEvents();
        }
    }
    template <class T>
    T* tile(const char* id) {
        auto* t = dynamic_cast<T*>(window.page().tile(id));
        if (!t) ADD_FAILURE() << "no tile " << id;
        return t;
    }
    void choose(const char* id) {
        window.page().tile(id)->setFocus();
        QTest::mouseClick(window.page().tile(id), Qt::LeftButton, {}, {40, 40});
    }
    MainWindow window;
};

TEST_F(AnalysisTiles, TheShaftsFirstOrderIsFoundInTheVibrationAndLabelled) {
    auto* spectrum = tile<SpectrumTile>("spectrum");
    ASSERT_TRUE(spectrum->why().isEmpty()) << spectrum->why().toStdString();
    EXPECT_NEAR(spectrum->spectrum().stepHz, 2, 1e-6);
    const QStringList labels = spectrum->labels();
    ASSERT_FALSE(labels.isEmpty());
    EXPECT_TRUE(labels[0].contains("= order 1")) << labels[0].toStdString();
    const double hz = labels[0].section(' ', 0, 0).toDouble();
    const double rpm = session().source().at("shaft-speed", session().end()).value;
    EXPECT_NEAR(hz, rpm / 60, 1);
    // its level is that of the sine that is fitted through the same time
    const Span last{session().end() - seconds(5), session().end()};
    auto measured = measuresOver(session().bench(), session().source(), "vibration", "", last);
    ASSERT_TRUE(measured.ok());
    const double amplitude = labels[0].section("order 1", 1).trimmed().section(' ', 0, 0).toDouble();
    EXPECT_NEAR(amplitude, measured.value().all.at("sine-amplitude").value, 0.02);
    // other quantities, each with its unit
    choose("spectrum");
    window.page().changeSelected("shows", "density", "test");
    show();
    EXPECT_TRUE(spectrum->labels()[0].endsWith("g²/Hz")) << spectrum->labels()[0].toStdString();
    window.page().changeSelected("shows", "third-octaves", "test");
    show();
    EXPECT_TRUE(spectrum->labels().isEmpty());
    EXPECT_GT(spectrum->numbers().split('\n').size(), 8) << "a line for each band";
    session().undoStack().undo();
    session().undoStack().undo();
    show();
    EXPECT_TRUE(spectrum->labels()[0].contains("= order 1"));
    // over a stretch it is that of the stretch
    session().cursor().stretchOver({Instant{} + seconds(20), Instant{} + seconds(30)});
    show();
    EXPECT_EQ(spectrum->spectrum().averages, 39U) << "all that fit into ten seconds, half over each other";
}

TEST_F(AnalysisTiles, AClickOnALineMarksItsHarmonicsAndASecondTakesThemAway) {
    auto* spectrum = tile<SpectrumTile>("spectrum");
    choose("spectrum");
    EXPECT_TRUE(spectrum->harmonics().isEmpty());
    const double hz = spectrum->labels()[0].section(' ', 0, 0).toDouble();
    const auto click = [&] {
        const QPoint at(static_cast<int>(spectrum->xOf(hz)), static_cast<int>(spectrum->height() * 0.3));
        QTest::mouseClick(spectrum, Qt::LeftButton, {}, at);
        show();
    };
    click();
    ASSERT_GT(spectrum->harmonics().size(), 3);
    EXPECT_TRUE(spectrum->harmonics()[0].contains("Hz")) << spectrum->harmonics()[0].toStdString();
    EXPECT_TRUE(spectrum->harmonics()[1].startsWith("2 ×"));
    EXPECT_NEAR(numberOf(spectrum->spec(), "base-hz").value_or(0), hz, 1);
    click();
    EXPECT_TRUE(spectrum->harmonics().isEmpty());
    EXPECT_FALSE(numberOf(spectrum->spec(), "base-hz"));
}

TEST_F(AnalysisTiles, SpectraOverTimeStandBelowRowByRow) {
    auto* spectrum = tile<SpectrumTile>("spectrum");
    choose("spectrum");
    for (int i = 0; i < 60; ++i) show();
    const std::size_t rows = spectrum->overTime().rows();
    EXPECT_GT(rows, 20U);
    // its highest line is the shaft's, as above it
    const auto& power = spectrum->spectrum().power;
    EXPECT_NEAR(std::sqrt(spectrum->overTime().highest()), std::sqrt(*std::max_element(power.begin() + 1, power.end())),
                0.02);
    const QImage with = spectrum->grab().toImage();
    window.page().changeSelected("over-time", "no", "test");
    show();
    EXPECT_NE(spectrum->grab().toImage(), with);
}

TEST_F(AnalysisTiles, ASignalThatDoesNotComeEvenlyHasNoSpectrumAndSaysSo) {
    choose("spectrum");
    Bench next = session().bench();
    PageSpec page = *next.page("curves");
    for (TileSpec& t : page.tiles)
        if (t.id == "spectrum") t.signals = {"drive"};
    for (auto& p : next.pages)
        if (p->id == "curves") p = std::make_shared<const PageSpec>(page);
    session().edit("test", next);
    show();
    EXPECT_FALSE(tile<SpectrumTile>("spectrum")->why().isEmpty());
    EXPECT_TRUE(tile<SpectrumTile>("spectrum")->spectrum().power.empty());
}

TEST_F(AnalysisTiles, TheHistogramCountsWhatTheTracesShow) {
    auto* histogram = tile<HistogramTile>("histogram");
    const auto window_ = session().cursor().window();
    const auto over =
        session().source().summaryOver("vibration", {session().end() - window_, session().end() + nanoseconds(1)});
    EXPECT_EQ(histogram->histogram().all, over.count);
    EXPECT_NEAR(histogram->histogram().mean, over.mean, 1e-9);
    EXPECT_NEAR(histogram->histogram().deviation, over.deviation(), 1e-9);
    const QStringList rows = histogram->numbers().split('\n');
    std::size_t all = 0;
    for (int i = 1; i < rows.size(); ++i) all += rows[i].section('\t', 2).toULongLong();
    EXPECT_EQ(all, over.count);
}

TEST_F(AnalysisTiles, ThePlaneShowsOneOverTheOtherWithTheTypedCurve) {
    auto* plane = tile<PlaneTile>("curve");
    ASSERT_FALSE(plane->places().empty());
    const PlaneTile::Place last = plane->places().back();
    EXPECT_NEAR(last.x, session().source().at("flow", session().end()).value, 1.5);
    EXPECT_NEAR(last.y, session().source().at("pressure-rise", session().end()).value, 0.05);
    const auto reference = plane->reference();
    ASSERT_EQ(reference.size(), 8U);
    EXPECT_EQ(reference[1].x, 10);
    choose("curve");
    window.page().changeSelected("reference", "0 1, 10 2\n20;x;3", "test");
    EXPECT_EQ(tile<PlaneTile>("curve")->reference().size(), 2U) << "a number without its other is left out";
}

TEST_F(AnalysisTiles, TheTableHasTheColumnsThatWereChosenAndTheSentenceItsReadings) {
    auto* table = tile<TableTile>("table");
    ASSERT_EQ(table->cells().size(), 6U);
    EXPECT_EQ(table->cells()[0], (QStringList{"", "", "value", "mean", "lowest", "highest", "unit"}));
    EXPECT_EQ(table->cells()[1][1], "Outlet pressure");
    EXPECT_EQ(table->cells()[1][2],
              session().numberText(*session().bench().signal("outlet-pressure"),
                                   session().source().at("outlet-pressure", session().end()).value));
    choose("table");
    window.page().changeSelected("columns", "mean,limits", "test");
    show();
    EXPECT_EQ(table->cells()[0], (QStringList{"", "", "mean", "limits", "unit"}));
    const std::string before = settingOf(table->spec(), "columns");
    window.page().changeSelected("columns", "beauty", "test");
    EXPECT_EQ(settingOf(table->spec(), "columns"), before) << "there is no such column";
    const QString words = tile<TextTile>("sentence")->words();
    EXPECT_TRUE(words.contains(" L/min at ")) << words.toStdString();
    EXPECT_TRUE(words.endsWith(" rpm")) << words.toStdString();
    choose("sentence");
    window.page().changeSelected("words", "Flow {Q1}, {nobody} and { alone", "test");
    show();
    EXPECT_TRUE(tile<TextTile>("sentence")->words().endsWith("{nobody} and { alone"));
}

TEST_F(AnalysisTiles, AnyTileIsTakenAlongAsPictureAndNumbers) {
    const TempFolder folder;
    window.page().showPage("overview");
    show();
    for (const auto& t : window.page().tiles()) {
        for (const char* ending : {"png", "svg", "pdf"}) {
            const QString path = QString::fromStdString(folder.file(t->spec().id + "." + ending));
            auto written = writeTile(*t, path, NewFile::Existing::refuse);
            ASSERT_TRUE(written.ok()) << written.error().english();
            EXPECT_FALSE(writeTile(*t, path, NewFile::Existing::refuse).ok()) << "what is there stays";
        }
        EXPECT_EQ(tilePicture(*t).size(), t->size() * 2);
        EXPECT_FALSE(t->numbers().isEmpty()) << t->spec().id;
    }
    const auto svg = readWholeFile(folder.file("hydraulics.svg"), 10'000'000);
    ASSERT_TRUE(svg.ok());
    EXPECT_NE(svg.value().find("<svg"), std::string::npos);
    EXPECT_NE(svg.value().find("<polyline"), std::string::npos) << "lines, not a picture of them";
    EXPECT_NE(svg.value().find("Outlet pressure"), std::string::npos);
    const auto pdf = readWholeFile(folder.file("hydraulics.pdf"), 10'000'000);
    EXPECT_TRUE(pdf.value().starts_with("%PDF"));
    EXPECT_FALSE(writeTile(*window.page().tiles().front(), QString::fromStdString(folder.file("a.bmp")),
                           NewFile::Existing::refuse)
                     .ok());
    choose("hydraulics");
    window.action("tile-copy-numbers")->trigger();
    const QStringList rows = QApplication::clipboard()->text().split('\n');
    EXPECT_EQ(rows[0].split('\t').size(), 4);
    EXPECT_GT(rows.size(), 100);
    window.action("tile-copy")->trigger();
    EXPECT_FALSE(QApplication::clipboard()->image().isNull());
}

TEST_F(AnalysisTiles, ATileFillsTheWindowAndAPageStandsInOneOfItsOwn) {
    choose("spectrum");
    QTest::keyClick(window.page().tile("spectrum"), Qt::Key_Space);
    QTest::keyClick(window.page().tile("spectrum"), Qt::Key_Space);
    ASSERT_TRUE(window.fullTile());
    show();
    EXPECT_GT(window.fullTile()->width(), 1200);
    EXPECT_TRUE(dynamic_cast<SpectrumTile*>(window.fullTile())->labels()[0].contains("order 1"));
    QTest::keyClick(window.fullTile(), Qt::Key_Escape);
    EXPECT_FALSE(window.fullTile());
    EXPECT_TRUE(window.page().isVisible());
    EXPECT_TRUE(window.signalPanel().isVisible());
    window.action("page-window")->trigger();
    PageWindow* other = nullptr;
    for (QWidget* w : QApplication::topLevelWidgets())
        if (auto* p = qobject_cast<PageWindow*>(w)) other = p;
    ASSERT_TRUE(other);
    EXPECT_EQ(other->page().page(), "curves");
    window.page().showPage("overview");
    show();
    EXPECT_EQ(other->page().page(), "curves") << "it stays where it is";
    EXPECT_FALSE(dynamic_cast<TableTile*>(other->page().tile("table"))->cells().empty()) << "and is alive";
    other->close();
    QApplication::sendPostedEvents(nullptr, QEvent::DeferredDelete);
    show();
}

/// A tile of another kind on the page, with these signals.
class MoreTiles : public AnalysisTiles {
protected:
    Tile* add(TileKind kind, const std::vector<std::string>& of,
              const std::map<std::string, std::string>& settings = {}) {
        PageSpec page = *session().bench().page("curves");
        page.tiles = {TileSpec{"t", kind, 0, 0, 8, 6, of, {}, {}, false, settings}};
        session().edit("test", withPage(session().bench(), page));
        show();
        return window.page().tile("t");
    }
};

TEST_F(MoreTiles, StatesAreTimingRowsAndOneNumber) {
    auto* port = dynamic_cast<PortTile*>(add(TileKind::port, {"tank-low", "guard-door", "valve-is-open", "beacon"}));
    ASSERT_TRUE(port);
    unsigned expected = 0;
    for (unsigned i = 0; i < 4; ++i)
        if (session().source().at(port->spec().signals[i], session().end()).value > 0.5) expected |= 1U << i;
    EXPECT_EQ(port->value(), QStringLiteral("0x%1  %2").arg(QString::number(expected, 16).toUpper()).arg(expected));
    // the door opened and closed: the time between, at a moment in it
    session().cursor().setWindow(seconds(40));
    show();
    std::vector<Point> points;
    ASSERT_TRUE(session().source().points("valve-is-open", {Instant{}, session().end()}, 1'000'000, points));
    std::vector<Instant> edges;
    for (std::size_t i = 1; i < points.size(); ++i)
        if ((points[i].value > 0.5) != (points[i - 1].value > 0.5)) edges.push_back(points[i].t);
    ASSERT_GE(edges.size(), 2U);
    const std::size_t longest = [&] {
        std::size_t at = 1;
        for (std::size_t i = 1; i < edges.size(); ++i)
            if (edges[i] - edges[i - 1] > edges[at] - edges[at - 1]) at = i;
        return at;
    }();
    const Duration between = edges[longest] - edges[longest - 1];
    EXPECT_EQ(port->betweenEdges(2, edges[longest - 1] + Duration{between.ns / 2}), lengthText(between));
    EXPECT_TRUE(port->betweenEdges(0, Instant{} - seconds(1)).isEmpty());
    EXPECT_TRUE(port->numbers().contains("0x"));
    EXPECT_FALSE(port->grab().isNull());
}

TEST_F(MoreTiles, APictureIsKeptInTheBenchWithItsPins) {
    const TempFolder folder;
    QImage drawing(3000, 1500, QImage::Format_RGB32);
    drawing.fill(Qt::white);
    const QString file = QString::fromStdString(folder.file("rig.png"));
    ASSERT_TRUE(drawing.save(file));
    const std::string kept = PictureTile::kept(file);
    ASSERT_FALSE(kept.empty());
    EXPECT_LE(kept.size(), mostTileSetting);
    EXPECT_TRUE(PictureTile::kept(QString::fromStdString(folder.file("none.png"))).empty());
    auto* picture =
        dynamic_cast<PictureTile*>(add(TileKind::picture, {"outlet-pressure", "flow"}, {{"picture", kept}}));
    ASSERT_TRUE(picture);
    EXPECT_EQ(picture->picture().size(), QSize(1280, 640)) << "made smaller";
    // a pin is dragged, as one step
    const int steps = session().undoStack().count();
    const QPoint from = picture->boxOf(0).center().toPoint();
    test::drag(picture, from, {200, 60});
    show();
    EXPECT_EQ(session().undoStack().count(), steps + 1);
    EXPECT_LT((picture->boxOf(0).center() - (from + QPointF(200, 60))).manhattanLength(), 6);
    const BenchReading again = readBench(writeBench(session().bench()));
    ASSERT_TRUE(again.bench);
    EXPECT_TRUE(sameBench(*again.bench, session().bench()));
    session().undoStack().undo();
    show();
    EXPECT_LT((picture->boxOf(0).center() - QPointF(from)).manhattanLength(), 3);
    // what is no picture is none
    choose("t");
    window.page().changeSelected("picture", "nonsense", "test");
    show();
    EXPECT_TRUE(dynamic_cast<PictureTile*>(window.page().tile("t"))->picture().isNull());
}

TEST_F(MoreTiles, ATraceHasDecadesItsLimitsAndZeroWhereItIsWanted) {
    Tile* trace = add(TileKind::trace, {"outlet-pressure"});
    choose("t");
    const QImage even = trace->grab().toImage();
    window.page().changeSelected("values", "logarithmic", "test");
    show();
    EXPECT_NE(trace->grab().toImage(), even);
    session().undoStack().undo();
    window.action("zero-middle")->trigger();
    show();
    const auto scale = [&] { return window.page().tile("t")->spec().scales.at("bar"); };
    EXPECT_EQ(scale().low, -scale().high);
    window.action("zero-bottom")->trigger();
    show();
    EXPECT_EQ(scale().low, 0);
    EXPECT_GT(scale().high, 1);
}

TEST_F(MoreTiles, ATraceHasLanesRowsOfStatesAndALens) {
    auto* trace = dynamic_cast<TraceTile*>(
        add(TileKind::trace, {"outlet-pressure", "inlet-pressure", "guard-door", "tank-level"}));
    ASSERT_TRUE(trace);
    EXPECT_EQ(trace->lanes(), 2U) << "pressures, and the states below them";
    choose("t");
    window.page().changeSelected("own-lanes", "inlet-pressure", "test");
    show();
    EXPECT_EQ(trace->lanes(), 3U);
    window.page().changeSelected("own-lanes", "", "test");
    show();
    EXPECT_EQ(trace->lanes(), 2U);
    window.page().changeSelected("lens", "yes", "test");
    show();
    const Instant end = session().end();
    EXPECT_EQ(trace->timeDrawn().to - trace->timeDrawn().from, session().cursor().window()) << "no stretch, no lens";
    session().cursor().stretchOver({end - seconds(5), end - seconds(4)});
    show();
    EXPECT_EQ(trace->timeDrawn().from, end - seconds(5));
    EXPECT_EQ(trace->timeDrawn().to, end - seconds(4));
    session().cursor().endStretch();
    show();
    EXPECT_EQ(trace->timeDrawn().to - trace->timeDrawn().from, session().cursor().window());
}

TEST_F(MoreTiles, AnotherRunIsLaidOverAndMovedInTime) {
    const TempFolder folder;
    EngineOptions fast;
    fast.pace = Pace::asFastAsPossible;
    fast.until = seconds(30);
    auto engine = Engine::startRecorded(session().bench(), folder.file("other.run"), fast);
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    engine.value()->mark(Instant{} + seconds(4), "go");
    engine.value()->stop();
    auto* trace = dynamic_cast<TraceTile*>(add(TileKind::trace, {"outlet-pressure", "flow"}));
    ASSERT_TRUE(trace);
    EXPECT_EQ(trace->laidOver(), 0U);
    EXPECT_FALSE(window.action("beside-away")->isEnabled());
    session().beside().add(QString::fromStdString(folder.file("other.run")));
    ASSERT_TRUE(QTest::qWaitFor(
        [&] {
            window.frame(true);
            return trace->laidOver() == 2;
        },
        30'000));
    const RunsBeside::Run& other = *session().beside().runs().front();
    EXPECT_EQ(other.shift.ns, 0) << "both begin together";
    window.action("beside-later")->trigger();
    EXPECT_EQ(other.shift.ns, session().cursor().window().ns / 100);
    session().beside().setView({.by = Alignment::firstMark, .crossing = {}, .limits = {}});
    EXPECT_NE(session().beside().align(), "") << "this one has no mark";
    session().engine()->mark(Instant{} + seconds(10), "go");
    ASSERT_TRUE(QTest::qWaitFor([&] { return !session().marks().empty(); }, 30'000));
    EXPECT_EQ(session().beside().align(), "");
    EXPECT_EQ(other.shift, seconds(6));
    window.action("beside-away")->trigger();
    show();
    EXPECT_EQ(trace->laidOver(), 0U);
    session().beside().add(QString::fromStdString(folder.file("none.run")));
    ASSERT_TRUE(QTest::qWaitFor(
        [&] {
            window.frame(true);
            return session().beside().empty();
        },
        30'000));
    EXPECT_FALSE(window.noticeText().isEmpty()) << "it says why";
}

TEST(TileSettings, WhatABenchSaysIsChecked) {
    Bench bench = test::exampleBench("pump-bench");
    const std::string text = writeBench(bench);
    ASSERT_TRUE(readBench(text).bench);
    const auto with = [&](const std::string& what, const std::string& instead) {
        std::string changed = text;
        changed.replace(changed.find(what), what.size(), instead);
        return readBench(changed);
    };
    const BenchReading value = with("\"for\": \"level\"", "\"for\": \"beauty\"");
    ASSERT_FALSE(value.bench);
    EXPECT_NE(value.problems[0].english().find("frequency, both, level"), std::string::npos)
        << value.problems[0].english();
    EXPECT_GT(value.problems[0].line, 0);
    const BenchReading key = with("\"for\": \"level\"", "\"colour\": \"level\"");
    ASSERT_FALSE(key.bench);
    EXPECT_NE(key.problems[0].english().find("colour"), std::string::npos);
}

}  // namespace
}  // namespace cruscotto
