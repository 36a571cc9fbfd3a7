#pragma once

#include <QPainter>
#include <functional>

#include "core/signal/scale.h"

namespace cruscotto {

/// Two axes with hairlines and numbers, in a tile's own look: where a value lies, and the frame itself.
struct PlotAxis {
    Scale scale{0, 1};
    bool logarithmic = false;  ///< in decades; the scale lies above 0 then
    QString unit = {};
    [[nodiscard]] double fraction(double v) const;
};
struct PlotFrame {
    QRectF area;
    PlotAxis x, y;
    [[nodiscard]] double xOf(double v) const { return area.left() + area.width() * x.fraction(v); }
    [[nodiscard]] double yOf(double v) const { return area.bottom() - area.height() * y.fraction(v); }
    /// The room that the numbers need is taken off `body`.
    static PlotFrame in(QRectF body, PlotAxis x, PlotAxis y);
    void paint(QPainter& p) const;
};

}  // namespace cruscotto
