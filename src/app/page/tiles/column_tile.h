#pragma once

#include "app/page/tiles/tile.h"

namespace cruscotto {

/// A thin upright scale with the number above it, the limits as thicker parts and the recent extremes as a shadow.
class ColumnTile : public Tile {
    Q_OBJECT
public:
    ColumnTile(Session& session, QWidget* parent);
    void refresh(Instant t, bool digits) override;

protected:
    void rebuild() override;
    void paintEvent(QPaintEvent* event) override;

private:
    [[nodiscard]] double yOf(double v) const;
    ScaleEnd* low_;
    ScaleEnd* high_;
    QRectF track_;
    double level_ = 0;  ///< as painted
};

}  // namespace cruscotto
