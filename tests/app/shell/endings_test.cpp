// The desktop's session ends while the window drives and records.
#include "app/document/recovery.h"
#include "app/shell/application.h"
#include "app/window_fixture.h"
#include "core/run/run_reader.h"
#include "made_board.h"

namespace cruscotto {
namespace {

using test::MadeBoard;
using test::TempFolder;

class SessionEnd : public test::WindowTest {
protected:
    TempFolder folder;
    MadeBoard board{folder.file("port")};
    void SetUp() override {
        showEmpty();
        test::writeFile(folder.file("oven.bench"),
                        R"({"format": "cruscotto-bench", "version": 1, "name": "Oven", "devices": [{"id": "oven",
            "name": "Oven", "kind": "serial-line-board", "settings": {"port": ")" +
                            board.port() + R"(", "field-count": 1, "outputs": {"heater": "H{value:0}\\n"}}}],
            "signals": [{"id": "t", "name": "Temperature", "device": "oven", "terminal": "1"},
                        {"id": "heater", "name": "Heater", "device": "oven", "terminal": "heater",
                         "kind": "analog-output", "output": {"low": 0, "high": 9, "start": 5, "safe": 2}}]})");
    }
};

TEST_F(SessionEnd, PutsOutputsSafeClosesTheRunAndKeepsEdits) {
    open(QString::fromStdString(folder.file("oven.bench")));
    session().driveOutputs();
    ASSERT_TRUE(waitFor([&] { return board.heard().ends_with("H5\n"); })) << board.heard();
    Bench edited = session().bench();
    edited.name = "Edited, not saved";
    session().edit("Rename", edited);
    press("record");
    ASSERT_TRUE(waitFor([&] { return !session().worthKeeping().run.isEmpty(); }));
    const std::string run = session().worthKeeping().run.toStdString();
    const QString kept = QString::fromStdString(folder.file("recovery"));
    {
        Recovery recovery(kept);
        closeOnEndings(*window, recovery);
        // As the platform emits it; who listens needs nothing of the desktop's session manager.
        QTimer::singleShot(0, [] {
            std::max_align_t nobody{};
            EXPECT_TRUE(QMetaObject::invokeMethod(qGuiApp, "commitDataRequest", Qt::DirectConnection,
                                                  QGenericArgument("QSessionManager&", &nobody)));
        });
        QTimer enough;
        QObject::connect(&enough, &QTimer::timeout, [] { QCoreApplication::exit(1); });
        enough.start(20'000);
        EXPECT_EQ(QApplication::exec(), 0) << "it goes by itself";
    }
    EXPECT_FALSE(window->isVisible());
    EXPECT_TRUE(QTest::qWaitFor([&] { return board.heard().ends_with("H2\n"); }, 20'000)) << board.heard();
    const auto reader = RunReader::open(run);
    ASSERT_TRUE(reader.ok()) << reader.error().english();
    EXPECT_TRUE(reader.value()->info().closed);
    const QDir left(kept, "*.json");
    ASSERT_EQ(left.count(), 1U);
    QFile file(left.filePath(left[0]));
    ASSERT_TRUE(file.open(QIODevice::ReadOnly));
    EXPECT_TRUE(file.readAll().contains("Edited, not saved"));
}

}  // namespace
}  // namespace cruscotto
