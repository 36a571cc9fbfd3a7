// What is said where the number is when it may not be true.
#include <QComboBox>
#include <QPushButton>

#include "app/run/preflight_dialog.h"
#include "app/window_fixture.h"

namespace cruscotto::evidence_card_test {
namespace {

class EvidenceCard : public test::WindowTest {
protected:
    QString said() {
        const auto* label = window->drawer().findChild<QLabel*>("evidence");
        return label && label->isVisible() ? label->text() : QString();
    }
    QString row(const std::string& signal, int role = Qt::AccessibleTextRole) {
        auto& rows = window->signalList().rows();
        for (int i = 0; i < rows.rowCount(); ++i)
            if (rows.row(i).signal && rows.row(i).signal->id == signal)
                return rows.data(rows.index(i), role).toString();
        return {};
    }
};

TEST_F(EvidenceCard, AnOpenInputSaysSoInItsRowItsChainAndBeforeItCounts) {
    window->openChain("inlet-pressure");
    frame();
    EXPECT_TRUE(said().contains("Nothing speaks against this reading."));
    EXPECT_TRUE(waitFor([&] { return row("spare").contains("not connected"); }));
    EXPECT_TRUE(row("spare", Qt::ToolTipRole).contains("50 Hz")) << "its grounds";
    window->openChain("spare");
    frame();
    EXPECT_TRUE(said().contains("Not connected"));
    EXPECT_TRUE(said().contains("Check the wire and its ground"));
    bool listed = false;
    answer<PreflightDialog>([&](PreflightDialog& dialog) {
        auto* rows = dialog.findChild<QTableWidget*>();
        for (int r = 0; r < rows->rowCount(); ++r)
            listed = listed || rows->item(r, 2)->text().contains("not connected");
        dialog.accept();
    });
    press("preflight");
    EXPECT_TRUE(waitFor([&] { return listed; }));
}

TEST_F(EvidenceCard, AConnectionIsCheckedAndAValueToldFromTheChain) {
    window->openChain("outlet-pressure");
    frame();
    auto* check = window->drawer().findChild<QPushButton*>("checkConnection");
    ASSERT_TRUE(check);
    QTest::mouseClick(check, Qt::LeftButton);
    EXPECT_TRUE(waitFor([&] { return said().contains("a source of about"); }));
    type(field(window->drawer(), "Where it should stand now"), "9");
    EXPECT_TRUE(waitFor([&] { return said().contains("Not as told"); }));
    QLineEdit* told = field(window->drawer(), "Where it should stand now");
    told->selectAll();
    QTest::keyClick(told, Qt::Key_Delete);
    QTest::keyClick(told, Qt::Key_Return);
    EXPECT_TRUE(waitFor([&] { return !said().contains("Not as told"); }));
    window->openChain("flow");
    frame();
    EXPECT_FALSE(window->drawer().findChild<QPushButton*>("checkConnection")) << "there is no load at a counter";
}

TEST_F(EvidenceCard, APairIsNamedInTheChainAndUndone) {
    window->openChain("bearing-temperature");
    frame();
    QComboBox* with = nullptr;
    for (QComboBox* b : window->drawer().findChildren<QComboBox*>())
        if (b->accessibleName() == "Should agree with") with = b;
    ASSERT_TRUE(with);
    EXPECT_EQ(with->findText("Flow"), -1) << "another quantity";
    const int i = with->findText("Box temperature");
    ASSERT_GT(i, 0);
    Q_EMIT with->activated(i);
    ASSERT_TRUE(session().bench().signal("bearing-temperature")->agrees);
    frame();
    type(field(window->drawer(), "within, in °C"), "0.5");
    EXPECT_EQ(session().bench().signal("bearing-temperature")->agrees->within, 0.5);
    type(field(window->drawer(), "within, in °C"), "-1");
    EXPECT_EQ(session().bench().signal("bearing-temperature")->agrees->within, 0.5) << "refused";
    EXPECT_TRUE(waitFor([&] { return said().contains("away from Box temperature"); }));
    session().undoStack().undo();
    session().undoStack().undo();
    EXPECT_FALSE(session().bench().signal("bearing-temperature")->agrees);
    EXPECT_TRUE(waitFor([&] { return !said().contains("away from"); }));
}

TEST_F(EvidenceCard, BeforeARecordingItIsShownWhereTheBenchAsksForThat) {
    Bench bench = session().bench();
    bench.recording.preflight = true;
    test::TempFolder folder;
    session().edit("ask", bench);
    ASSERT_TRUE(save(folder.file("a.bench")));
    ASSERT_TRUE(waitFor([&] { return row("spare").contains("not connected"); }));
    bool shown = false;
    answer<PreflightDialog>([&](PreflightDialog& dialog) {
        auto* record = dialog.findChild<QPushButton*>("recordAnyway");
        shown = record->isVisible() && record->isDefault();
        EXPECT_FALSE(session().engine()->recording().active);
        QTest::mouseClick(record, Qt::LeftButton);
    });
    press("record");
    EXPECT_TRUE(waitFor([&] { return session().engine()->recording().active; }));
    EXPECT_TRUE(shown);
    press("record");
    EXPECT_TRUE(waitFor([&] { return !session().engine()->recording().active; }));
}

}  // namespace
}  // namespace cruscotto::evidence_card_test
