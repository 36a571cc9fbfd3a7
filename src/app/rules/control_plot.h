#pragma once

#include <QWidget>
#include <deque>
#include <optional>
#include <vector>

#include "app/document/session.h"

namespace cruscotto {

/// What a controlled signal and its output were of late, and where the setpoint is.
class ControlPlot : public QWidget {
    Q_OBJECT
public:
    explicit ControlPlot(Session& session, QWidget* parent);
    /// When the setpoint became what.
    using Setpoints = std::deque<std::pair<Instant, double>>;
    void show(const ControlSpec& control, const Setpoints& setpoints, Duration window);
    using QWidget::show;

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    struct Lane {
        QString name, unit;
        QColor colour;
        std::vector<Column> columns;
        std::optional<double> before;  ///< what was held already when the columns begin
        double low = 0, high = 1;
        bool steps = false, state = false;
        QString onWord, offWord;
    };
    void read(Lane& lane, const SignalSpec& signal, Instant from, Duration width);
    Session& session_;
    std::vector<Lane> lanes_;
    Setpoints setpoints_;
    Instant from_;
    Duration width_, window_;
};

}  // namespace cruscotto
