#pragma once

#include <QToolButton>
#include <QWidget>
#include <vector>

#include "app/document/session.h"

namespace cruscotto {

/// All the time there is: an overview of one signal, what was recorded as a band, marks as ticks, and the handle for
/// "now or then". Dragging the handle takes the whole page to that moment.
class Ribbon : public QWidget {
    Q_OBJECT
public:
    explicit Ribbon(Session& session, QWidget* parent = nullptr);
    void refresh(bool digits);
    /// Where a moment lies, in pixels.
    [[nodiscard]] double xOf(Instant t) const;

protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    bool event(QEvent* event) override;

private:
    [[nodiscard]] QRectF strip() const;
    [[nodiscard]] Instant timeAt(double x) const;
    void dragTo(double x);
    Session& session_;
    QToolButton* live_;
    Span extent_;
    std::vector<Column> columns_;
};

}  // namespace cruscotto
