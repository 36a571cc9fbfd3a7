// A calibration sheet, from the first captured point to yesterday's run.
#include <QClipboard>
#include <QComboBox>
#include <QTableWidget>
#include <cmath>

#include "app/calibration/sheet_view.h"
#include "app/chain/budget_view.h"
#include "app/widgets/words.h"
#include "app/window_fixture.h"
#include "core/run/run_reader.h"
#include "core/run/run_replay.h"

namespace cruscotto::sheet_test {
namespace {

class Sheet : public test::WindowTest {
protected:
    SheetView& view() { return window->sheet(); }
    const Stage* stage() { return calibrationIn(session().bench().signal("outlet-pressure")->chain); }
    CalibrationSheet made() { return stage() ? sheetOf(*stage()) : CalibrationSheet{}; }
    void openIt() {
        window->signalList().select("outlet-pressure");
        press("calibrate");
    }
};

TEST_F(Sheet, IsCapturedFittedPrintedUndoneOverdueAndAppliedToYesterdaysRun) {
    test::TempFolder folder;
    const std::string run = folder.file("yesterday.run");
    recordRun(run, 20);
    openIt();
    ASSERT_TRUE(view().isVisible());
    EXPECT_FALSE(stage()) << "looking at it changes nothing";

    // Five points as the pump's pressure moves, by a made reference.
    double last = -1;  // none yet
    for (std::size_t i = 0; i < 5; ++i) {
        ASSERT_TRUE(waitFor([&] { return std::fabs(value("outlet-pressure") - last) > 0.02; }));
        last = value("outlet-pressure");
        const Instant began = session().end();
        type(field(view(), "Over, in s"), "0.1", Qt::Key_Tab);
        type(field(view(), "The reference says"), QString::number(1.02 * last - 0.05, 'g', 6));
        ASSERT_TRUE(waitFor([&] { return made().points.size() == i + 1; })) << view().captureWords().toStdString();
        const Span since{began, session().end() + nanoseconds(1)};
        const StretchSummary came = session().source().summaryOver("outlet-pressure", since);
        EXPECT_NEAR(made().points[i].indicated, last, 1 + came.max - came.min)
            << "what came from then on, however long that took";
        EXPECT_EQ(made().points[i].reference, QString::number(1.02 * last - 0.05, 'g', 6).toDouble());
        EXPECT_NE(view().captureWords().indexOf("Mean of "), -1) << view().captureWords().toStdString();
    }
    EXPECT_EQ(made().date, session().today());
    EXPECT_EQ(made().fit, proposeFit(made().points).kind) << "until another is chosen";
    auto* fit = view().findChild<QComboBox*>();
    Q_EMIT fit->activated(fit->findText("straight line"));
    ASSERT_EQ(made().fit, "line");
    const auto line = fitCalibration(made().points, "line");
    ASSERT_TRUE(line.ok());

    type(field(view(), "Holds until"), "2027-11-29");
    type(field(view(), "By"), "M. Rossi");
    type(field(view(), "Holds until"), "next year", Qt::Key_Return);
    EXPECT_EQ(made().due, "2027-11-29") << "no day";
    type(field(view(), "Holds until"), "2027-11-29");

    for (const char* name : {"sheet.pdf", "sheet.png"}) {
        const std::string path = folder.file(name);
        EXPECT_TRUE(view().print(shown(path)));
        EXPECT_GT(std::filesystem::file_size(path), 5000U);
    }
    EXPECT_TRUE(test::readFile(folder.file("sheet.pdf")).starts_with("%PDF"));

    press("undo");
    EXPECT_EQ(made().person, "") << "each change is one step";
    press("redo");

    session().setToday("2028-03-01");
    frame();
    bool said = false;
    for (int i = 0; i < window->signalList().rows().rowCount(); ++i)
        said = said || window->signalList().rows().row(i).quality.contains("calibration overdue");
    EXPECT_TRUE(said) << "in the row";
    EXPECT_TRUE(std::ranges::any_of(view().findChildren<QLabel*>(),
                                    [](QLabel* l) { return l->text().contains("overdue: it was due on 2027-11-29"); }));

    window->applySheetTo("outlet-pressure", shown(run));
    ASSERT_TRUE(waitFor([&] { return window->noticeText().contains("as version 1 of the run"); }))
        << window->noticeText().toStdString();
    EXPECT_TRUE(window->noticeText().contains("Outlet pressure: mean")) << window->noticeText().toStdString();
    const auto now = RunReader::open(run), before = RunReader::open(run, 0);
    ASSERT_TRUE(now.ok());
    const auto mean = [](RunReader& reader) {
        return summaryOf(reader, *reader.info().signal("outlet-pressure")).mean;
    };
    EXPECT_NEAR(mean(*now.value()), line.value().at(mean(*before.value())), 1e-9);
    EXPECT_NE(mean(*now.value()), mean(*before.value()));
    EXPECT_NE(summaryOf(*now.value(), *now.value()->info().signal("pressure-rise")).mean,
              summaryOf(*before.value(), *before.value()->info().signal("pressure-rise")).mean)
        << "what comes from it follows";
    EXPECT_EQ(sheetOf(*calibrationIn(now.value()->info().signal("outlet-pressure")->current().chain)).person,
              "M. Rossi")
        << "which sheet holds is in the run";
}

TEST_F(Sheet, PointsAreTypedPastedAndRemoved) {
    openIt();
    auto* table = view().findChild<QTableWidget*>();
    table->item(0, 0)->setText("1.0");
    EXPECT_TRUE(made().points.empty()) << "the reference is not there yet";
    table->item(0, 1)->setText("1.1");
    ASSERT_EQ(made().points.size(), 1U);
    EXPECT_EQ(made().fit, "offset");
    table->item(1, 0)->setText("2");
    table->item(1, 1)->setText("two");
    EXPECT_EQ(made().points.size(), 1U) << "that is no number";
    QApplication::clipboard()->setText("2,0\t2.1\t0.01\nheading\n3\t3.3\n4\t4.4\t0.01\n");
    table->setFocus();
    QTest::keyClick(table, Qt::Key_V, Qt::ControlModifier);
    ASSERT_EQ(made().points.size(), 4U);
    EXPECT_EQ(made().points[1], (CalibrationPoint{2, 2.1, 0.01}));
    table->selectRow(1);
    QTest::keyClick(table, Qt::Key_Delete);
    ASSERT_EQ(made().points.size(), 3U);
    EXPECT_EQ(made().points[1].indicated, 3);
    table->item(0, 1)->setText("");
    EXPECT_EQ(made().points[0].reference, 1.1) << "a point keeps both of its numbers";
}

TEST_F(Sheet, ANewOneShowsHowTheLastWasFound) {
    openIt();
    QApplication::clipboard()->setText("0 0\n1 1.1\n2 2.2\n");
    view().findChild<QTableWidget*>()->setFocus();
    QTest::keyClick(view().findChild<QTableWidget*>(), Qt::Key_V, Qt::ControlModifier);
    for (QPushButton* b : view().findChildren<QPushButton*>())
        if (b->text() == "Begin a new sheet") QTest::mouseClick(b, Qt::LeftButton);
    EXPECT_TRUE(made().points.empty());
    ASSERT_EQ(historyOf(*stage()).size(), 1U);
    EXPECT_EQ(historyOf(*stage())[0].points.size(), 3U);
    QTest::keyClick(&view(), Qt::Key_Escape);
    EXPECT_FALSE(view().isVisible());
}

TEST_F(Sheet, TheUncertaintyStandsBehindEveryStageWithItsBudget) {
    SignalSpec s = *session().bench().signal("outlet-pressure");
    CalibrationSheet sheet{{{0, 0, 0.01}, {5, 5.01, 0.01}, {10, 10, 0.01}}, "line", "bar", "2026-01-12"};
    sheet.reference = "gauge";
    s.chain.push_back(withSheet(Stage::of("calibration"), sheet));
    session().edit("sheet", withSignal(session().bench(), s));
    ASSERT_TRUE(waitFor([&] { return !std::isnan(value("outlet-pressure")); }));
    window->openChain("outlet-pressure");
    auto* budget = window->drawer().findChild<BudgetView*>();
    ASSERT_TRUE(budget);
    ASSERT_TRUE(waitFor([&] { return budget->words().contains("the reference gauge"); }))
        << budget->words().toStdString();
    EXPECT_TRUE(budget->words().contains("k = 2"));
    EXPECT_TRUE(budget->words().contains("its noise"));
    for (QPushButton* b : window->drawer().findChildren<QPushButton*>())
        if (b->text() == "Open the sheet…") QTest::mouseClick(b, Qt::LeftButton);
    EXPECT_TRUE(view().isVisible());
}

TEST_F(Sheet, DigitsFollowTheUncertaintyUnlessTheyAreFixed) {
    SignalSpec s = *session().bench().signal("outlet-pressure");
    s.chain.push_back(Stage::of("accuracy", {{"of-reading", 0.0}, {"plus-minus", 0.4}}));
    session().edit("accuracy", withSignal(session().bench(), s));
    ASSERT_TRUE(waitFor([&] { return session().expandedOf(s) > 0.4; }));
    // Twice 0.4 / sqrt(3) is 0.46: two digits of that.
    EXPECT_EQ(session().decimalsOf(s), 2);
    s.chain.back() = Stage::of("accuracy", {{"of-reading", 0.0}, {"plus-minus", 40.0}});
    session().edit("accuracy", withSignal(session().bench(), s));
    ASSERT_TRUE(waitFor([&] { return session().expandedOf(s) > 40; }));
    EXPECT_EQ(session().decimalsOf(s), 0);
    window->openChain("outlet-pressure");
    type(field(window->drawer(), "Decimals"), "5");
    EXPECT_EQ(session().numberText(*session().bench().signal("outlet-pressure"), 1.5), "1.50000");
    type(field(window->drawer(), "Decimals"), "-");
    EXPECT_EQ(session().bench().signal("outlet-pressure")->decimals, 5);
    field(window->drawer(), "Decimals")->clear();
    type(field(window->drawer(), "Decimals"), "");
    EXPECT_FALSE(session().bench().signal("outlet-pressure")->decimals);
}

TEST_F(Sheet, ATileShowsTheUncertaintyBesideItsNumber) {
    const auto& tiles = window->page().tiles();
    const auto number = std::ranges::find_if(tiles, [](const auto& t) { return t->spec().kind == TileKind::number; });
    ASSERT_NE(number, tiles.end());
    const std::string id = (*number)->spec().id;
    QTest::mouseClick(number->get(), Qt::LeftButton);
    press("plus-minus");
    EXPECT_TRUE(spec(shown(id)).plusMinus);
    const BenchReading again = readBench(writeBench(session().bench()));
    ASSERT_TRUE(again.bench);
    EXPECT_TRUE(sameBench(*again.bench, session().bench()));
    press("undo");
    EXPECT_FALSE(spec(shown(id)).plusMinus);
}

TEST_F(Sheet, WhereANumberComesFromIsToldAndCopied) {
    ASSERT_TRUE(waitFor([&] { return !std::isnan(value("outlet-pressure")); }));
    window->signalList().select("outlet-pressure");
    press("explain");
    auto* dialog = window->findChild<QDialog*>("explanation");
    ASSERT_TRUE(dialog);
    auto* words = dialog->findChild<QPlainTextEdit*>();
    EXPECT_TRUE(words->toPlainText().contains("Counts to volts")) << words->toPlainText().toStdString();
    EXPECT_TRUE(words->toPlainText().contains("the converter's steps"));
    for (QPushButton* b : dialog->findChildren<QPushButton*>())
        if (b->text() == "Copy") QTest::mouseClick(b, Qt::LeftButton);
    EXPECT_EQ(QApplication::clipboard()->text(), words->toPlainText());
    test::TempFolder folder;
    nameFile(folder.file("where.pdf"));
    QTest::mouseClick(dialog->findChild<QPushButton*>("explanationPage"), Qt::LeftButton);
    EXPECT_TRUE(waitFor([&] { return std::filesystem::exists(folder.file("where.pdf")); }));
}

TEST_F(Sheet, TheListBeforeItCountsOpensWhatItIsAbout) {
    SignalSpec s = *session().bench().signal("outlet-pressure");
    s.limits.high = -1;
    session().edit("limit", withSignal(session().bench(), s));
    ASSERT_TRUE(waitFor([&] { return session().end().seconds() > 1; }));
    press("preflight");
    auto* dialog = window->findChild<QDialog*>("preflight");
    ASSERT_TRUE(dialog);
    auto* rows = dialog->findChild<QTableWidget*>();
    int at = -1;
    for (int r = 0; r < rows->rowCount(); ++r)
        if (rows->item(r, 1)->text() == "Outlet pressure" && rows->item(r, 2)->text().contains("above its high limit"))
            at = r;
    ASSERT_GE(at, 0);
    EXPECT_EQ(rows->item(at, 0)->text(), "▲ amber");
    Q_EMIT rows->cellActivated(at, 0);
    EXPECT_EQ(window->drawer().signal(), "outlet-pressure");
    EXPECT_TRUE(window->drawer().isVisible());
}

}  // namespace
}  // namespace cruscotto::sheet_test
