#pragma once

#include <QToolButton>
#include <QWidget>
#include <vector>

#include "app/document/session.h"

namespace cruscotto {

/// All the time there is: an overview of one signal, what was recorded as a band, marks as ticks, and the handle for
/// "now or then". Dragging the handle takes the whole page to that moment; dragging with Shift makes a stretch, whose
/// ends are dragged by themselves.
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
    void mouseReleaseEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    bool event(QEvent* event) override;

private:
    [[nodiscard]] QRectF strip() const;
    [[nodiscard]] Instant timeAt(double x) const;
    void dragTo(double x);
    void dragEnd(double x);
    /// The other end of the stretch whose end lies under the pointer.
    [[nodiscard]] std::optional<Instant> gripAt(double x) const;
    std::optional<Instant> otherEnd_;  ///< while an end of the stretch is dragged
    Session& session_;
    QToolButton* live_;
    Span extent_;
    std::vector<Column> columns_;
};

}  // namespace cruscotto
