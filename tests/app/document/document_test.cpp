// What is opened, saved, asked about and remembered.
#include <QComboBox>
#include <QInputDialog>
#include <QLabel>
#include <QPushButton>
#include <QSettings>
#include <QSplitter>

#include <filesystem>
#include <fstream>

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include "app/run/run_dialogs.h"
#include "app/run/shot_dialog.h"
#include "app/widgets/theme.h"
#include "app/window_fixture.h"
#include "core/run/run_reader.h"

namespace cruscotto {
namespace {

using test::TempFolder;
using Document = test::WindowTest;

TEST_F(Document, ACleanBenchIsLeftWithoutAQuestion) {
    press("new");
    EXPECT_TRUE(session().bench().signals.empty());
}

TEST_F(Document, AnExampleWhoseDeviceIsMissingOffersTheOneThatShipsWithTheProgram) {
    TempFolder folder;
    // Stands for this program: tells what it was started with, and that it cannot go on.
    const std::string told = folder.file("told"), program = folder.file("program");
    std::ofstream(program) << "#!/bin/sh\necho \"$*\" >" << told << "\necho 'There is no room.' >&2\nexit 1\n";
    std::filesystem::permissions(program, std::filesystem::perms::owner_all);
    window->standIn().useProgram(QString::fromStdString(program));
    const auto button = [&] {
        const auto buttons = window->findChildren<QPushButton*>();
        const auto it = std::find_if(buttons.begin(), buttons.end(),
                                     [](QPushButton* b) { return b->text() == "Start it" && b->isVisible(); });
        return it == buttons.end() ? nullptr : *it;
    };
    EXPECT_FALSE(button()) << "the pump bench has its device inside";
    window->openExample("weather");
    ASSERT_TRUE(waitFor([&] { return button() != nullptr; }));
    EXPECT_TRUE(window->noticeText().contains("cruscotto stand-in weather --link /tmp/cruscotto-weather"))
        << "for those who prefer to type";
    window->activateWindow();
    Tile* last = window->page().tiles().back().get();
    QTest::mouseClick(last, Qt::LeftButton, {}, {60, 8});
    QTest::mouseClick(button(), Qt::LeftButton);
    ASSERT_TRUE(waitFor([&] { return window->noticeText() == "There is no room."; }));
    EXPECT_FALSE(button());
    EXPECT_EQ(window->page().selected(), last) << "it is still the one that was chosen";
    std::string line;
    std::getline(std::ifstream(told) >> std::ws, line);
    EXPECT_EQ(line, "stand-in weather --link /tmp/cruscotto-weather");

    window->standIn().useProgram("/nowhere/cruscotto");
    window->standIn().start();
    ASSERT_TRUE(waitFor([&] { return window->noticeText().startsWith("/nowhere/cruscotto cannot be started"); }));

    // Where its device comes, nothing is offered any more.
    window->openExample("weather");
    ASSERT_TRUE(waitFor([&] { return button() != nullptr; }));
    DeviceSpec box = *test::exampleBench("pump-bench").device("box");
    session().edit("test", withDevice(session().bench(), box));
    ASSERT_TRUE(waitFor([&] { return window->noticeText().isEmpty(); }));
    EXPECT_FALSE(button());
}

TEST_F(Document, TheNotesOfABenchAreReadAndChanged) {
    answer<QInputDialog>([](QInputDialog& dialog) {
        EXPECT_TRUE(dialog.textValue().startsWith("A small centrifugal pump"));
        dialog.setTextValue("Fill the tank first.\n");
        dialog.accept();
    });
    press("notes");
    EXPECT_EQ(session().bench().notes, "Fill the tank first.");
    frame();
    EXPECT_TRUE(window->status().menuButton()->toolTip().endsWith("\nFill the tank first."));
    press("undo");
    EXPECT_TRUE(session().bench().notes.starts_with("A small"));
}

TEST_F(Document, UnsavedChangesAreAskedAboutAndStayingKeepsThem) {
    press("page-new");
    choose("Stay");
    press("new");
    EXPECT_FALSE(session().bench().signals.empty());
    EXPECT_TRUE(session().unsaved());
    choose("Leave without saving");
    press("new");
    EXPECT_TRUE(session().bench().signals.empty());
}

TEST_F(Document, LeavingWithASaveAsksForANameAndGoesOnOnlyWhenItIsWritten) {
    TempFolder folder;
    press("page-new");
    const auto pages = session().bench().pages.size();

    choose("Save");
    QTimer::singleShot(0, window.get(), [this] { nameFile({}); });
    press("new");
    EXPECT_EQ(session().bench().pages.size(), pages) << "no name, no leaving";

    choose("Save");
    QTimer::singleShot(0, window.get(), [&, this] { nameFile(folder.file("mine")); });
    press("new");
    EXPECT_TRUE(session().bench().signals.empty());
    auto kept = loadBench(folder.file("mine.bench"));
    ASSERT_TRUE(kept.ok()) << "the ending is put behind the name";
    EXPECT_EQ(kept.value().pages.size(), pages);
}

TEST_F(Document, ASaveThatFailsKeepsTheChangesAndSaysWhy) {
    press("page-new");
    EXPECT_FALSE(save("/nonexistent/a.bench"));
    EXPECT_TRUE(session().unsaved());
    EXPECT_TRUE(window->noticeText().contains("cannot be written")) << window->noticeText().toStdString();
    EXPECT_TRUE(session().path().isEmpty());
}

TEST_F(Document, WhatIsEditedWhileSavingStaysUnsaved) {
    TempFolder folder;
    press("page-new");
    session().save(QString::fromStdString(folder.file("a.bench")));
    press("page-new");
    EXPECT_TRUE(session().waitForSave());
    EXPECT_TRUE(session().unsaved());
    press("save");
    EXPECT_TRUE(session().waitForSave());
    EXPECT_FALSE(session().unsaved());
    EXPECT_EQ(loadBench(folder.file("a.bench")).value().pages.size(), session().bench().pages.size());
}

TEST_F(Document, OpeningByTheDialogShowsWhatWasChosen) {
    TempFolder folder;
    ASSERT_TRUE(saveBench(test::exampleBench("beehive"), folder.file("hive.bench")).ok());
    nameFile(folder.file("hive.bench"));
    press("open");
    ASSERT_TRUE(waitFor([&] { return session().bench().name == "Beehive"; })) << session().bench().name;
    EXPECT_EQ(session().path().toStdString(), folder.file("hive.bench"));
    nameFile({});
    press("open");
    EXPECT_EQ(session().bench().name, "Beehive");
}

TEST_F(Document, ABenchWithAMistakeIsRefusedWithItsPlaceAndWhatIsOpenStays) {
    TempFolder folder;
    test::writeFile(folder.file("bad.bench"), R"({"format":"cruscotto-bench","version":1,"signals":[{"id":7}]})");
    window->openFile(QString::fromStdString(folder.file("bad.bench")));
    ASSERT_TRUE(waitFor([&] { return !window->noticeText().isEmpty(); }));
    EXPECT_TRUE(window->noticeText().contains("bad.bench is not opened")) << window->noticeText().toStdString();
    EXPECT_TRUE(window->noticeText().contains("line 1: \"name\" is missing")) << window->noticeText().toStdString();
    EXPECT_EQ(window->page().tiles().size(), 11U);
}

TEST_F(Document, ARecordingIsNotEndedByLeavingUnasked) {
    TempFolder folder;
    ASSERT_TRUE(save(folder.file("mine.bench")));
    press("record");
    ASSERT_TRUE(waitFor([&] { return session().recordingPhase() == Session::Recording::going; }));
    choose("Go on recording");
    press("new");
    EXPECT_EQ(session().recordingPhase(), Session::Recording::going);
    const QString run = session().lastRun();
    choose("End it and leave");
    press("new");
    EXPECT_TRUE(session().bench().signals.empty());
    const auto reader = RunReader::open(run.toStdString());
    ASSERT_TRUE(reader.ok());
    EXPECT_TRUE(reader.value()->info().closed);
}

TEST_F(Document, TwoPressesOnRecordAreOneRecording) {
    TempFolder folder;
    ASSERT_TRUE(save(folder.file("mine.bench")));
    session().startRecording(session().runFolder());
    EXPECT_EQ(session().recordingPhase(), Session::Recording::starting);
    session().startRecording(session().runFolder());
    session().stopRecording();
    ASSERT_TRUE(waitFor([&] { return session().recordingPhase() == Session::Recording::going; }));
    press("record");
    EXPECT_EQ(session().recordingPhase(), Session::Recording::ending);
    EXPECT_FALSE(window->status().recordButton()->isEnabled()) << "until the run is closed";
    ASSERT_TRUE(waitFor([&] { return session().recordingPhase() == Session::Recording::none; }));
    EXPECT_TRUE(window->status().recordButton()->isEnabled());
    int runs = 0;
    for (const auto& entry : std::filesystem::directory_iterator(folder.file("")))
        runs += entry.path().extension() == ".run";
    EXPECT_EQ(runs, 1);
}

TEST_F(Document, AFolderThatCannotTakeARunIsSaidInPlace) {
    session().startRecording("/proc/nowhere");
    ASSERT_TRUE(waitFor([&] { return !window->noticeText().isEmpty(); }));
    EXPECT_TRUE(window->noticeText().contains("cannot be made")) << window->noticeText().toStdString();
    EXPECT_EQ(session().recordingPhase(), Session::Recording::none);
}

TEST_F(Document, ARecordingWaitsForItsTriggerAndEndsByItself) {
    TempFolder folder;
    ASSERT_TRUE(save(folder.file("mine.bench")));
    session().engine()->setOutput("drive", 0);
    ASSERT_TRUE(waitFor([&] { return value("shaft-speed") < 100; }));
    press("record-when");
    auto* form = window->findChild<ShotDialog*>();
    ASSERT_NE(form, nullptr) << "beside the page, which goes on";
    {
        QDialog& dialog = *form;
        const auto box = [&](const char* name) {
            for (QComboBox* b : dialog.findChildren<QComboBox*>())
                if (b->accessibleName() == name) return b;
            throw std::runtime_error(name);
        };
        box("Signal")->setCurrentText("Shaft speed");
        type(field(dialog, "Level"), "many", Qt::Key_Tab);
        QPushButton* go = nullptr;
        for (QPushButton* b : dialog.findChildren<QPushButton*>())
            if (b->text() == "Wait for it") go = b;
        EXPECT_FALSE(go->isEnabled()) << "what is no number is not waited for";
        type(field(dialog, "Level"), "600", Qt::Key_Tab);
        type(field(dialog, "Seconds before"), "0.1", Qt::Key_Tab);
        type(field(dialog, "Seconds after"), "0.3", Qt::Key_Tab);
        EXPECT_TRUE(go->isDefault());
        bool said = false;
        for (QLabel* l : dialog.findChildren<QLabel*>())
            said =
                said || l->text() == "Records from 0.1 s before to 0.3 s after Shaft speed rises above 600 rpm, once.";
        EXPECT_TRUE(said);
        QTest::mouseClick(go, Qt::LeftButton);
    }
    ASSERT_TRUE(waitFor([&] { return window->status().recordButton()->text().contains("waiting for the trigger"); }));
    session().engine()->setOutput("drive", 7);
    ASSERT_TRUE(waitFor([&] { return window->noticeText().startsWith("Recorded"); }));
    EXPECT_EQ(session().recordingPhase(), Session::Recording::none);
    const auto reader = RunReader::open(session().lastRun().toStdString());
    ASSERT_TRUE(reader.ok());
    EXPECT_EQ(reader.value()->info().signal("vibration")->samples, 400U);
}

TEST_F(Document, WhatJustHappenedIsKeptAfterTheFact) {
    TempFolder folder;
    ASSERT_TRUE(save(folder.file("mine.bench")));
    ASSERT_TRUE(waitFor([&] { return session().end() > Instant{1'000'000'000}; }));
    answer<QInputDialog>([](QInputDialog& dialog) {
        EXPECT_TRUE(dialog.labelText().contains("still in memory"));
        dialog.setDoubleValue(0.5);
        dialog.accept();
    });
    press("keep-past");
    ASSERT_TRUE(waitFor([&] { return window->noticeText().startsWith("Kept"); })) << window->noticeText().toStdString();
    const auto reader = RunReader::open(session().lastRun().toStdString());
    ASSERT_TRUE(reader.ok());
    const std::uint64_t samples = reader.value()->info().signal("vibration")->samples;
    EXPECT_GE(samples, 450U);
    // And what came while it was written; but not everything there is, which is a second more.
    EXPECT_LE(samples + 450, static_cast<std::uint64_t>(session().end().seconds() * 1000));
    EXPECT_TRUE(session().engine()) << "measuring goes on";
}

TEST_F(Document, ARecordingWaitsForAMarkOrATimeOfDayToo) {
    ShotDialog dialog(session().bench(), "outlet-pressure", Instant{5'000'000'000}, window.get());
    QComboBox* what = nullptr;
    for (QComboBox* box : dialog.findChildren<QComboBox*>())
        if (box->accessibleName() == "What to wait for") what = box;
    ASSERT_TRUE(what);
    what->setCurrentIndex(1);
    EXPECT_TRUE(dialog.plan().onMark);
    EXPECT_TRUE(dialog.plan().signal.empty());
    what->setCurrentIndex(2);
    auto* time = dialog.findChild<QTimeEdit*>();
    time->setTime(QTime::currentTime().addSecs(90));
    EXPECT_FALSE(dialog.plan().onMark);
    ASSERT_TRUE(dialog.plan().at);
    EXPECT_NEAR((*dialog.plan().at - Instant{5'000'000'000}).seconds(), 90, 2) << "from now, on the bench's axis";
    EXPECT_EQ(dialog.plan().most, 1);
    what->setCurrentIndex(0);
    EXPECT_EQ(dialog.plan().signal, "outlet-pressure");
    EXPECT_FALSE(dialog.plan().at);
}

TEST_F(Document, HowRunsAreRecordedIsPartOfTheBenchAndFollowed) {
    TempFolder folder;
    ASSERT_TRUE(save(folder.file("mine.bench")));
    const auto field = [](QDialog& dialog, const char* name) {
        for (Field* f : dialog.findChildren<Field*>())
            if (f->accessibleName() == name) return f;
        throw std::runtime_error(name);
    };
    press("recording");
    auto* form = window->findChild<RecordingDialog*>();
    ASSERT_NE(form, nullptr) << "beside the page, which goes on";
    {
        RecordingDialog& dialog = *form;
        QPushButton* go = nullptr;
        for (QPushButton* b : dialog.findChildren<QPushButton*>())
            if (b->text() == "Use these") go = b;
        ASSERT_TRUE(go && go->isDefault());
        field(dialog, "File name")->setText("../{bench}");
        EXPECT_FALSE(go->isEnabled()) << "a run's name does not lead out of its folder";
        field(dialog, "File name")->setText("{title} {number}");
        field(dialog, "Title")->setText("Seal test");
        field(dialog, "Megabytes to keep free")->setText("1");
        const auto shows = [&](const QString& words) {
            for (QLabel* l : dialog.findChildren<QLabel*>())
                if (l->text().contains(words)) return true;
            return false;
        };
        EXPECT_TRUE(shows("for example seal-test 001.run"));
        EXPECT_TRUE(shows("MB an hour"));
        QTest::mouseClick(go, Qt::LeftButton);
    }
    EXPECT_EQ(session().bench().recording.name, "{title} {number}");
    press("record");
    ASSERT_TRUE(waitFor([&] { return session().recordingPhase() == Session::Recording::going; }));
    press("record");
    ASSERT_TRUE(waitFor([&] { return window->noticeText().startsWith("Recorded"); }))
        << window->noticeText().toStdString();
    const auto reader = RunReader::open(folder.file("seal-test 001.run"));
    ASSERT_TRUE(reader.ok()) << reader.error().english();
    EXPECT_EQ(reader.value()->info().notes.title, "Seal test");
    session().undoStack().undo();
    EXPECT_EQ(session().bench().recording, RecordingSpec{}) << "like every edit";
}

TEST_F(Document, NotesAndMarksOfARunAreChangedLater) {
    TempFolder folder;
    const std::string path = folder.file("a.run");
    EngineOptions fast;
    fast.pace = Pace::asFastAsPossible;
    fast.until = seconds(5);
    auto engine = Engine::startRecorded(session().bench(), path, fast);
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    engine.value()->mark({2'000'000'000}, "as recorded");
    engine.value()->stop();
    open(QString::fromStdString(path));
    ASSERT_EQ(session().marks().size(), 1U);
    answer<RunNotesDialog>([&](RunNotesDialog& dialog) {
        auto* table = dialog.findChild<QTableWidget*>();
        QPushButton *go = nullptr, *add = nullptr;
        for (QPushButton* b : dialog.findChildren<QPushButton*>()) {
            if (b->text().startsWith("Write")) go = b;
            if (b->text().startsWith("Add")) add = b;
        }
        ASSERT_TRUE(table && go && add);
        ASSERT_EQ(table->rowCount(), 1);
        table->item(0, 0)->setText("soon");
        EXPECT_FALSE(go->isEnabled()) << "that is no time";
        table->item(0, 0)->setText("1.5");
        QTest::mouseClick(add, Qt::LeftButton);
        table->item(1, 0)->setText("4");
        table->item(1, 1)->setText("valve opened");
        for (Field* f : dialog.findChildren<Field*>())
            if (f->accessibleName() == "Specimen") f->setText("Pump 7");
        QTest::mouseClick(go, Qt::LeftButton);
    });
    press("describe");
    ASSERT_TRUE(waitFor([&] { return window->noticeText().contains("written into the run"); }))
        << window->noticeText().toStdString();
    EXPECT_EQ(session().marks().size(), 2U) << "seen at once";
    EXPECT_EQ(session().runNotes().specimen, "Pump 7");
    const auto reader = RunReader::open(path);
    ASSERT_TRUE(reader.ok());
    const Instant from = reader.value()->info().span.from;
    ASSERT_EQ(reader.value()->info().marks.size(), 2U);
    EXPECT_EQ(reader.value()->info().marks[0].at, from + milliseconds(1500));
    EXPECT_EQ(reader.value()->info().marks[1].words, "valve opened");
    EXPECT_EQ(reader.value()->info().notes.specimen, "Pump 7");
}

TEST_F(Document, WhatWasCutShortIsThereAfterARestart) {
    TempFolder folder;
    const QString kept = QString::fromStdString(folder.file("recovery"));
    ASSERT_TRUE(save(folder.file("mine.bench")));
    Bench edited = session().bench();
    edited.name = "Edited, not saved";
    session().edit("Rename", edited);
    press("record");
    ASSERT_TRUE(waitFor([&] { return session().recordingPhase() == Session::Recording::going; }));
    ASSERT_TRUE(waitFor([&] { return !session().worthKeeping().run.isEmpty(); }));
    const Recovery::Left before = session().worthKeeping();
    EXPECT_TRUE(before.unsaved);
    const QString own = kept + "/" + QString::number(QCoreApplication::applicationPid()) + ".json";
    {
        Recovery recovery(kept);
        ASSERT_TRUE(waitFor([&] {
            recovery.keep(before);
            return QFile::exists(own);
        }));
        // what a process that was killed leaves behind, and one that lives
        ASSERT_TRUE(QFile::copy(own, kept + "/1.json"));
        ASSERT_TRUE(QFile::copy(own, kept + "/2.json"));
        const int held = ::open((kept + "/2.lock").toLocal8Bit().constData(), O_RDWR | O_CREAT, 0600);
        ASSERT_EQ(::flock(held, LOCK_EX), 0);
        EXPECT_FALSE(recovery.take("/somewhere/else.bench")) << "another bench was asked for";
        auto left = recovery.take();
        ASSERT_TRUE(left);
        EXPECT_FALSE(recovery.take()) << "the other one still has its owner, and this is taken but once";
        EXPECT_TRUE(sameBench(left->bench, before.bench));
        EXPECT_EQ(left->path, before.path);
        session().restore(*left);
        EXPECT_TRUE(session().unsaved());
        EXPECT_EQ(session().bench().name, "Edited, not saved");
        EXPECT_EQ(session().lastRun(), before.run);
        EXPECT_TRUE(window->noticeText().contains("unsaved edits are here again"))
            << window->noticeText().toStdString();
        EXPECT_TRUE(window->noticeText().contains("Ctrl+L"));
        ASSERT_TRUE(waitFor([&] {
            recovery.keep({});
            return !QFile::exists(own);
        })) << "nothing to keep any more";
        EXPECT_TRUE(RunReader::open(before.run.toStdString()).ok());
        ::close(held);
    }
    EXPECT_FALSE(QFile::exists(own)) << "it ended in order";
}

TEST_F(Document, AnExportIsNamedWatchedAndCancelled) {
    TempFolder folder;
    press("export");
    EXPECT_TRUE(window->noticeText().contains("no run to export"));

    EngineOptions fast;
    fast.pace = Pace::asFastAsPossible;
    fast.until = seconds(SANITIZED ? 100 : 300);
    auto engine = Engine::startRecorded(session().bench(), folder.file("a.run"), fast);
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    engine.value()->stop();
    open(QString::fromStdString(folder.file("a.run")));
    nameFile(folder.file("a.csv"));
    press("export");
    const auto cancel = [&] {
        for (QPushButton* b : window->findChildren<QPushButton*>())
            if (b->text() == "Cancel the export") return b;
        return static_cast<QPushButton*>(nullptr);
    };
    ASSERT_TRUE(waitFor([&] { return window->noticeText().startsWith("Exporting"); }))
        << window->noticeText().toStdString();
    ASSERT_TRUE(cancel());
    QTest::mouseClick(cancel(), Qt::LeftButton);
    ASSERT_TRUE(waitFor([&] { return !cancel(); }));
    EXPECT_TRUE(window->noticeText().contains("cancelled")) << window->noticeText().toStdString();
    EXPECT_FALSE(std::filesystem::exists(folder.file("a.csv"))) << "no half of a file";
}

TEST_F(Document, AWindowThatTheScreenHasNoRoomForFillsItTheFirstTime) {
    QSettings().clear();
    const QSize screen = QGuiApplication::primaryScreen()->availableSize();
    const auto shownFirst = [](const QSize& size) {
        MainWindow first;
        first.stopClock();
        first.resize(size);
        first.restoreSettings();
        first.show();
        QApplication::processEvents();
        const bool fills = first.isMaximized();
        first.forgetSettings();
        first.closeWithoutAsking();
        return fills;
    };
    EXPECT_TRUE(shownFirst(screen)) << "a title bar stands above it";
    EXPECT_FALSE(shownFirst(screen - QSize(0, 100)));
}

TEST_F(Document, TheWindowComesBackAsItWasLeft) {
    QSettings().clear();
    {
        MainWindow first;
        first.stopClock();
        first.resize(1111, 777);
        first.show();
        first.setNight(true);
        first.findChild<QSplitter*>()->setSizes({333, 700, 0});
        QApplication::processEvents();
        first.closeWithoutAsking();
    }
    MainWindow second;
    second.stopClock();
    second.restoreSettings();
    second.show();
    QApplication::processEvents();
    EXPECT_EQ(second.size(), QSize(1111, 777));
    EXPECT_NEAR(second.findChild<QSplitter*>()->sizes().front(), 333, 2);
    EXPECT_TRUE(QSettings().value("window/night").toBool());
    second.closeWithoutAsking();
    applyTheme(false);
    QSettings().clear();
}

}  // namespace
}  // namespace cruscotto
