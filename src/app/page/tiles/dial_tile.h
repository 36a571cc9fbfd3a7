#pragma once

#include <QPixmap>

#include "app/page/tiles/tile.h"

namespace cruscotto {

/// Where is it in its range: an open arc with the limits as thicker parts, the recent extremes as a soft shadow, a slim
/// pointer, and the number large in the middle.
class DialTile : public Tile {
    Q_OBJECT
public:
    DialTile(Session& session, QWidget* parent);
    void refresh(Instant t, bool digits) override;

protected:
    void rebuild() override;
    void paintEvent(QPaintEvent* event) override;

private:
    void paintStill();
    /// All but the pointer.
    void paintSlow();
    /// Where words of this width are written under the unit.
    [[nodiscard]] QRectF remarkBox(double wide, double top) const;
    [[nodiscard]] double angleOf(double v) const;

    ScaleEnd* low_;
    ScaleEnd* high_;
    QPixmap still_;  ///< what does not move
    QPixmap slow_;   ///< and what goes with the digits
    bool stillValid_ = false, slowValid_ = false;
    QPointF centre_;
    double radius_ = 0;
    double pointer_ = 0;  ///< angle as painted
};

}  // namespace cruscotto
