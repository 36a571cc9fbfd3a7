#pragma once

#include <QWidget>

#include "app/page/page_view.h"

namespace cruscotto {

/// A page in a window of its own, on a second screen say. Closing it closes nothing else.
class PageWindow : public QWidget {
    Q_OBJECT
public:
    PageWindow(Session& session, const QString& page);
    void refresh(Instant t, bool digits);
    [[nodiscard]] PageView& page() { return *view_; }

protected:
    void keyPressEvent(QKeyEvent* event) override;

private:
    Session& session_;
    PageView* view_;
};

}  // namespace cruscotto
