// Anything done in any order: the bench stays whole, no tile covers another, and all of it can be undone.
#include <QDialog>
#include <random>

#include "app/window_fixture.h"

namespace cruscotto {
namespace {

using test::WindowTest;

class Anything : public WindowTest {
protected:
    void SetUp() override {
        WindowTest::SetUp();
        // Whatever asks something gets no answer.
        QObject::connect(&leaver_, &QTimer::timeout, window.get(), [] {
            if (QWidget* popup = QApplication::activePopupWidget()) popup->close();
            if (auto* dialog = qobject_cast<QDialog*>(QApplication::activeModalWidget())) dialog->reject();
        });
        leaver_.start(1);
        for (QAction* a : window->actions())
            if (const QString group = a->data().toString();
                group == "Tile" || group == "Page" || group == "Time" || group == "Edit" || a == window->action("mark"))
                actions_ << a;
    }
    int within(int from, int to) { return std::uniform_int_distribution(from, to)(random_); }
    QPoint somewhere(const QWidget& in) { return {within(0, in.width() - 1), within(0, in.height() - 1)}; }
    template <class List>
    const auto& anyOf(const List& list) {
        return list[static_cast<decltype(list.size())>(within(0, static_cast<int>(list.size()) - 1))];
    }

    /// Does something, and tells what.
    std::string doSomething() {
        PageView& page = window->page();
        const auto& signals = session().bench().signals;
        switch (within(0, 4)) {
            case 0: {
                QAction* action = anyOf(actions_);
                const std::string name = action->text().toStdString();
                action->trigger();  // does nothing where it is grey
                return name;
            }
            case 1: {
                const QPoint at = somewhere(page);
                QWidget* on = page.childAt(at) ? page.childAt(at) : &page;
                const QPoint by(within(-400, 400), within(-300, 300));
                test::drag(on, on->mapFrom(&page, at), by);
                return fmt::format("drag at {} {} by {} {}", at.x(), at.y(), by.x(), by.y());
            }
            case 2: {
                const QPoint at = somewhere(page);
                QWidget* on = page.childAt(at) ? page.childAt(at) : &page;
                QTest::mouseClick(on, within(0, 4) ? Qt::LeftButton : Qt::RightButton, {}, on->mapFrom(&page, at));
                return fmt::format("click at {} {}", at.x(), at.y());
            }
            case 3: {
                const std::vector keys{Qt::Key_Tab, Qt::Key_Return, Qt::Key_Escape, Qt::Key_Up,        Qt::Key_Left,
                                       Qt::Key_5,   Qt::Key_Delete, Qt::Key_Space,  Qt::Key_Backspace, Qt::Key_Minus};
                const Qt::Key key = anyOf(keys);
                QTest::keyClick(window->focusWidget() ? window->focusWidget() : window.get(), key);
                return fmt::format("key {}", static_cast<int>(key));
            }
            default: {
                if (signals.empty()) return "nothing";
                const std::string id = anyOf(signals)->id;
                window->signalList().select(QString::fromStdString(id));
                if (within(0, 1)) drop(id.c_str(), somewhere(page));
                return "select or drop " + id;
            }
        }
    }

private:
    std::mt19937 random_{11};
    QTimer leaver_;
    QList<QAction*> actions_;
};

TEST_F(Anything, InAnyOrderLeavesAWholeBenchAndCanBeUndone) {
    const Bench before = session().bench();
    std::string done;
    for (int i = 0; i < (SANITIZED ? 60 : 250); ++i) {
        done += doSomething() + "\n";
        frame();
        const BenchReading again = readBench(writeBench(session().bench()));
        ASSERT_TRUE(again.bench) << again.problems.front().english() << "\nafter:\n" << done;
        for (const auto& page : session().bench().pages)
            for (const TileSpec& a : page->tiles)
                for (const TileSpec& b : page->tiles)
                    ASSERT_TRUE(a.id == b.id || a.x >= b.x + b.w || b.x >= a.x + a.w || a.y >= b.y + b.h ||
                                b.y >= a.y + a.h)
                        << a.id << " lies on " << b.id << "\nafter:\n"
                        << done;
    }
    ASSERT_TRUE(session().undoStack().canUndo()) << done;
    while (session().undoStack().canUndo()) session().undoStack().undo();
    frame();
    EXPECT_TRUE(sameBench(session().bench(), before)) << done;
}

}  // namespace
}  // namespace cruscotto
