#pragma once

#include <QPolygonF>

#include "app/tiles/tile.h"

namespace cruscotto {

/// How much exactly: the number, its unit, and a spark line of the window behind it.
class NumberTile : public Tile {
    Q_OBJECT
public:
    NumberTile(Session& session, QWidget* parent) : Tile(session, parent) {}
    void refresh(Instant t, bool digits) override;
    [[nodiscard]] bool hasScale() const override { return false; }

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    std::vector<Column> columns_;
};

/// Columns as a line in a rectangle, on a scale of their own extremes. Broken where there are none.
void paintSpark(QPainter& p, const QRectF& where, const std::vector<Column>& columns, const QColor& colour, bool steps);

}  // namespace cruscotto
