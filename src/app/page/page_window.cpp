#include "app/page/page_window.h"

#include <QKeyEvent>
#include <QVBoxLayout>

#include "app/widgets/words.h"

namespace cruscotto {

PageWindow::PageWindow(Session& session, const QString& page)
    : QWidget(nullptr, Qt::Window), session_(session), view_(new PageView(session, this)) {
    setAttribute(Qt::WA_DeleteOnClose);
    setObjectName("panel");
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->addWidget(view_);
    resize(1000, 700);
    view_->showPage(page);
    const auto name = [this] {
        const PageSpec* p = session_.bench().page(view_->page().toStdString());
        setWindowTitle(p ? tr("%1 – %2").arg(shown(p->name), shown(session_.bench().name))
                         : shown(session_.bench().name));
    };
    connect(&session_, &Session::benchChanged, this, name);
    name();
}

void PageWindow::refresh(Instant t, bool digits) {
    if (isVisible() && !isMinimized()) view_->refresh(t, digits);
}

void PageWindow::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_F11) return setWindowState(windowState() ^ Qt::WindowFullScreen);
    if (event->key() == Qt::Key_Escape && isFullScreen()) return setWindowState(windowState() ^ Qt::WindowFullScreen);
    QWidget::keyPressEvent(event);
}

}  // namespace cruscotto
