// A bench that did not come from here drives nothing until somebody says so.
#include <QListWidget>
#include <QMenu>

#include "app/page/tiles/control_tile.h"
#include "app/page/tiles/trace_tile.h"
#include "app/window_fixture.h"
#include "made_board.h"

namespace cruscotto {
namespace {

using test::MadeBoard;
using test::TempFolder;

class AtRest : public test::WindowTest {
protected:
    TempFolder folder;
    MadeBoard board{folder.file("port")};
    std::string bench = folder.file("oven.bench");
    void SetUp() override {
        showEmpty();
        write(5);
    }
    void write(int start) {
        test::writeFile(bench, R"({"format": "cruscotto-bench", "version": 1, "name": "Oven", "devices": [{"id": "oven",
            "name": "Oven", "kind": "serial-line-board", "settings": {"port": ")" +
                                   board.port() + R"(", "field-count": 1, "outputs": {"heater": "H{value:0}\\n"}}}],
            "signals": [{"id": "t", "name": "Temperature", "device": "oven", "terminal": "1"},
                        {"id": "heater", "name": "Heater", "device": "oven", "terminal": "heater", "kind": "analog-output",
                         "output": {"low": 0, "high": 9, "start": )" +
                                   std::to_string(start) + R"(, "safe": 2}}],
            "pages": [{"id": "p", "name": "Oven", "tiles": [{"id": "c", "kind": "control", "x": 0, "y": 0, "w": 3, "h": 2,
                "signals": ["heater"]}]}]})");
    }
    QPushButton* drive() {
        for (QPushButton* b : window->findChildren<QPushButton*>())
            if (b->text() == "Drive the outputs") return b;
        return nullptr;
    }
    bool live() {
        return waitFor([&] { return session().engine() && !std::isnan(value("t")); });
    }
};

TEST_F(AtRest, NothingIsDrivenUntilThePersonSaysSoAndThenThatFileNeedsNoQuestion) {
    open(QString::fromStdString(bench));
    ASSERT_TRUE(live()) << "it is read all the same";
    ASSERT_TRUE(drive() && drive()->isVisible());
    EXPECT_TRUE(window->action("drive")->isEnabled());
    EXPECT_EQ(board.heard(), "");
    for (QLineEdit* field : tile("c")->findChildren<QLineEdit*>()) EXPECT_FALSE(field->isEnabled());
    QTest::mouseClick(drive(), Qt::LeftButton);
    ASSERT_TRUE(waitFor([&] { return board.heard() == "H5\n"; })) << board.heard();
    frame();
    EXPECT_FALSE(drive()->isVisible());
    for (QLineEdit* field : tile("c")->findChildren<QLineEdit*>()) EXPECT_TRUE(field->isEnabled());
    // Opened again it needs no question; changed by somebody else it does.
    open(QString::fromStdString(bench));
    ASSERT_TRUE(live());
    EXPECT_FALSE(session().outputsAtRest());
    write(7);
    board.forget();
    open(QString::fromStdString(bench));
    ASSERT_TRUE(live());
    EXPECT_TRUE(session().outputsAtRest());
    EXPECT_EQ(board.heard().find("H7"), std::string::npos);
}

TEST_F(AtRest, WhatWasSavedHereNeedsNoQuestionNorWhatOnlyDrivesSimulatedThings) {
    open(QString::fromStdString(bench));
    ASSERT_TRUE(live());
    QTest::mouseClick(drive(), Qt::LeftButton);
    Bench edited = session().bench();
    edited.name = "Mine";
    session().edit("Rename", edited);
    ASSERT_TRUE(save(folder.file("mine.bench")));
    open(QString::fromStdString(folder.file("mine.bench")));
    EXPECT_FALSE(session().outputsAtRest());
    Bench pump = test::exampleBench("pump-bench");
    pump.name = "From elsewhere";
    ASSERT_TRUE(saveBench(pump, folder.file("pump.bench")).ok());
    open(QString::fromStdString(folder.file("pump.bench")));
    EXPECT_FALSE(session().outputsAtRest());
}

using SmallThings = test::WindowTest;

TEST_F(SmallThings, ARightClickOnATracesPlotOpensTheMenuOfItsTile) {
    TraceTile* trace = window->page().findChild<TraceTile*>();
    ASSERT_TRUE(trace);
    QWidget* plot = nullptr;
    for (QWidget* w : trace->findChildren<QWidget*>())
        if (w->inherits("QCustomPlot")) plot = w;
    ASSERT_TRUE(plot);
    bool offered = false;
    QTimer::singleShot(0, window.get(), [&] {
        if (auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget())) {
            offered = !menu->actions().isEmpty();
            menu->close();
        }
    });
    QContextMenuEvent event(QContextMenuEvent::Mouse, plot->rect().center(), plot->mapToGlobal(plot->rect().center()));
    QApplication::sendEvent(plot, &event);
    EXPECT_TRUE(offered);
}

TEST_F(SmallThings, AnActionThatIsCalledJustSoStandsFirst) {
    press("actions");
    auto* search = window->actionList().findChild<QLineEdit*>();
    auto* list = window->actionList().findChild<QListWidget*>();
    ASSERT_TRUE(search && list);
    search->setText("record");
    ASSERT_GT(list->count(), 1);
    EXPECT_EQ(list->item(0)->data(Qt::AccessibleTextRole).toString(), "Record");
}

}  // namespace
}  // namespace cruscotto
