#pragma once

#include <QApplication>
#include <QClipboard>
#include <QDragEnterEvent>
#include <QElapsedTimer>
#include <QFileDialog>
#include <QLineEdit>
#include <QMessageBox>
#include <QMimeData>
#include <QTest>
#include <QTimer>
#include <cmath>

#include "app/shell/main_window.h"
#include "support.h"

namespace cruscotto::test {

/// Presses, moves and releases the mouse as a person does.
inline void drag(QWidget* on, QPoint from, QPoint by) {
    const QPoint global = on->mapToGlobal(from);
    QTest::mousePress(on, Qt::LeftButton, {}, from);
    for (int i = 1; i <= 8; ++i) {
        const QPoint to = global + by * i / 8;
        QMouseEvent move(QEvent::MouseMove, on->mapFromGlobal(to), to, Qt::NoButton, Qt::LeftButton, {});
        QApplication::sendEvent(on, &move);
    }
    const QPoint end = global + by;
    QMouseEvent release(QEvent::MouseButtonRelease, on->mapFromGlobal(end), end, Qt::LeftButton, Qt::NoButton, {});
    QApplication::sendEvent(on, &release);
}

/// The real window on the pump bench, live, driven by real events; frames come when the test says so.
class WindowTest : public testing::Test {
protected:
    void showEmpty() {
        window = std::make_unique<MainWindow>();
        window->forgetSettings();
        window->stopClock();
        window->resize(1280, 800);
        window->show();
    }
    void SetUp() override {
        showEmpty();
        window->openExample("pump-bench");
        ASSERT_TRUE(waitFor([&] { return !std::isnan(value("outlet-pressure")); }));
    }
    void TearDown() override { window->closeWithoutAsking(); }

    void frame() {
        window->frame(true);
        QApplication::processEvents();
    }
    bool waitFor(const std::function<bool()>& condition) {
        // What comes in is taken at once; frames cost most of the tests' time, and a few of them show as much.
        constexpr qint64 everyMs = SANITIZED ? 300 : 60;
        QElapsedTimer last;
        last.start();
        const bool met = QTest::qWaitFor(
            [&] {
                session().poll();
                if (condition()) return true;
                if (last.elapsed() < everyMs) return false;
                frame();
                last.start();
                return condition();
            },
            20'000);
        frame();
        return met;
    }
    /// Opens and waits until it is there.
    void open(const QString& path) {
        bool there = false;
        const auto seen = QObject::connect(&session(), &Session::sourceChanged, window.get(), [&] { there = true; });
        window->openFile(path);
        EXPECT_TRUE(waitFor([&] { return there; })) << path.toStdString();
        QObject::disconnect(seen);
    }
    bool save(const std::string& path) {
        session().save(QString::fromStdString(path));
        return session().waitForSave();
    }
    /// Does this with the next dialog, as soon as it stands there. The dialog itself must be closed by it.
    template <class D>
    void answer(std::function<void(D&)> with) {
        auto* timer = new QTimer(window.get());
        QObject::connect(timer, &QTimer::timeout, timer, [timer, with] {
            auto* dialog = qobject_cast<D*>(QApplication::activeModalWidget());
            if (!dialog) return;
            timer->stop();
            timer->deleteLater();
            with(*dialog);
        });
        timer->start(5);
    }
    /// Presses the button of this name in the next question.
    void choose(const QString& button) {
        answer<QMessageBox>([button](QMessageBox& box) {
            for (QAbstractButton* b : box.buttons())
                if (b->text() == button) return QTest::mouseClick(b, Qt::LeftButton);
            ADD_FAILURE() << "no button " << button.toStdString();
            box.reject();
        });
    }
    /// Types a file's name into the next file dialog and accepts it; an empty name is a cancel.
    void nameFile(const std::string& path) {
        answer<QFileDialog>([path](QFileDialog& dialog) {
            if (path.empty()) return dialog.reject();
            auto* name = dialog.findChild<QLineEdit*>("fileNameEdit");
            ASSERT_TRUE(name);
            name->setText(QString::fromStdString(path));
            QTest::keyClick(name, Qt::Key_Return);
        });
    }
    Session& session() { return window->session(); }
    /// Records so many seconds of the bench that is open, as fast as possible, beside the live one.
    void recordRun(const std::string& path, double length) {
        EngineOptions fast;
        fast.pace = Pace::asFastAsPossible;
        fast.until = seconds(length);
        auto engine = Engine::startRecorded(session().bench(), path, fast);
        ASSERT_TRUE(engine.ok());
        engine.value()->wait();
        engine.value()->stop();
    }
    double value(const std::string& signal) { return session().source().at(signal, session().shownAt()).value; }
    Tile* tile(const QString& id) { return window->page().tile(id); }
    const TileSpec& spec(const QString& id) { return tile(id)->spec(); }
    void press(const QString& action) {
        ASSERT_TRUE(window->action(action)) << action.toStdString();
        ASSERT_TRUE(window->action(action)->isEnabled()) << action.toStdString();
        window->action(action)->trigger();
    }
    /// What a drag from the list ends in, as Qt delivers it.
    void drop(const char* signal, QPoint at) {
        auto& model = window->signalList().rows();
        QModelIndexList row;
        for (int i = 0; i < model.rowCount(); ++i)
            if (model.row(i).signal && model.row(i).signal->id == signal) row << model.index(i);
        ASSERT_EQ(row.size(), 1);
        const std::unique_ptr<QMimeData> data(model.mimeData(row));
        ASSERT_TRUE(data);
        QDragEnterEvent enter(at, Qt::CopyAction, data.get(), Qt::LeftButton, {});
        QApplication::sendEvent(&window->page(), &enter);
        ASSERT_TRUE(enter.isAccepted());
        QDragMoveEvent move(at, Qt::CopyAction, data.get(), Qt::LeftButton, {});
        QApplication::sendEvent(&window->page(), &move);
        QDropEvent drop(at, Qt::CopyAction, data.get(), Qt::LeftButton, {});
        QApplication::sendEvent(&window->page(), &drop);
    }
    static QLineEdit* field(QWidget& in, const QString& accessibleName, int n = 0) {
        for (QLineEdit* f : in.findChildren<QLineEdit*>())
            if (f->accessibleName() == accessibleName && n-- == 0) return f;
        return nullptr;
    }
    static void type(QLineEdit* field, const QString& text, Qt::Key end = Qt::Key_Return) {
        ASSERT_TRUE(field);
        field->setFocus();
        field->selectAll();
        QTest::keyClicks(field, text);
        QTest::keyClick(field, end);
        QApplication::processEvents();
    }

    std::unique_ptr<MainWindow> window;
};

}  // namespace cruscotto::test
