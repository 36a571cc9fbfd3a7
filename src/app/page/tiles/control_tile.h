#pragma once

#include <QAbstractButton>
#include <QSlider>
#include <QWheelEvent>

#include "app/page/tiles/tile.h"
#include "app/widgets/switch.h"

class QLabel;
class QLineEdit;

namespace cruscotto {

/// Sets an output: what is driven never follows a wheel that was turned on its way over the page.
class OutputSlider : public QSlider {
    Q_OBJECT
public:
    explicit OutputSlider(QWidget* parent) : QSlider(Qt::Horizontal, parent) {}

protected:
    void wheelEvent(QWheelEvent* event) override { event->ignore(); }
};

/// Drives an output: a slider and a typed value, or a switch. Shows what the output was when looking back.
class ControlTile : public Tile {
    Q_OBJECT
public:
    ControlTile(Session& session, QWidget* parent);
    /// Driven now, whatever is looked at.
    [[nodiscard]] bool showsStretch() const override { return false; }
    void refresh(Instant t, bool digits) override;
    [[nodiscard]] bool hasScale() const override { return false; }

protected:
    void rebuild() override;
    void paintEvent(QPaintEvent* event) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    /// So many steps up or down from where the output is; from the safe value, where nothing has driven it yet.
    void step(int by);
    void drive(double value);
    OutputSlider* slider_;
    QLineEdit* value_;
    Switch* switch_;
    bool live_ = true;
    QString problem_;              // how the device took what it was last set to
    QString ruledBy_;              ///< the rule that holds the output; empty: none does
    std::optional<double> waits_;  ///< set, and sent when what holds the output lets go
};

}  // namespace cruscotto
