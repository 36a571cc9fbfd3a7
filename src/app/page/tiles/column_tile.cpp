#include "app/page/tiles/column_tile.h"
#include "app/page/tiles/tile_form.h"

#include <cmath>

#include "app/widgets/scale_end.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/signal/scale.h"

namespace cruscotto {

ColumnTile::ColumnTile(Session& session, QWidget* parent)
    : Tile(session, parent),
      low_(new ScaleEnd(tr("lower end of the scale"), this)),
      high_(new ScaleEnd(tr("upper end of the scale"), this)) {
    connectEnds(low_, high_);
}

double ColumnTile::yOf(double v) const {
    return track_.bottom() - track_.height() * fractionOf(scale(), v);
}

void ColumnTile::rebuild() {
    const QRectF b = body();
    const double x = std::min(b.left() + b.width() / 2, b.left() + 56);
    track_ = QRectF(x, b.top() + 62, 10, b.height() - 62 - 10);
    high_->setAlignment(Qt::AlignRight);
    low_->setAlignment(Qt::AlignRight);
    const int w = static_cast<int>(std::max(24.0, track_.left() - 14));
    high_->setGeometry(static_cast<int>(track_.left()) - 10 - w, static_cast<int>(track_.top()) - 9, w, 18);
    low_->setGeometry(static_cast<int>(track_.left()) - 10 - w, static_cast<int>(track_.bottom()) - 9, w, 18);
    placeEnds(low_, high_, scale());
}

void ColumnTile::refresh(Instant t, bool digits) {
    bool changed = read(t, digits);
    if (!first()) return;
    const double y = yOf(shown_.front().reading.value);
    if (!(std::fabs(y - level_) < (digits ? 0.02 : 0.4))) {
        level_ = y;
        changed = !std::isnan(y) || changed;
    }
    if (digits) changed = readExtremes(t) || changed;
    if (changed) update();
}

void ColumnTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    paintFrame(p);
    if (!first()) return;
    const Shown& s = shown_.front();
    const Theme& t = theme();
    const QColor colour = colourOf(*s.spec);
    const QRectF b = body();
    p.setRenderHint(QPainter::Antialiasing);
    const QFont big = fitted(uiFont(28, QFont::Medium), b.width());
    const bool doubtful = s.reading.quality == Quality::gap || s.reading.quality == Quality::stale;
    p.setPen(doubtful ? t.muted : t.ink);
    const double end = drawFigures(p, {b.left(), b.top() + 26}, big, s.text);
    p.setFont(uiFont(13));
    p.setPen(t.muted);
    const QString unit = unitOf(*s.spec);
    const bool beside = end + 4 + p.fontMetrics().horizontalAdvance(unit) <= b.right();
    p.drawText(beside ? QPointF(end + 4, b.top() + 26) : QPointF(b.left(), b.top() + 44), unit);
    const double behindUnit = beside ? 0 : p.fontMetrics().horizontalAdvance(unit) + 8;
    const Remark remark = remarkOn(s);
    p.setFont(uiFont(11, QFont::Medium));
    p.setPen(remark.colour);
    p.drawText(QPointF(b.left() + behindUnit, b.top() + 44), remark.words);

    p.setRenderHint(QPainter::Antialiasing, false);
    p.fillRect(track_, t.track);
    if (extremes_) {
        QColor soft = colour;
        soft.setAlpha(80);
        p.fillRect(QRectF(QPointF(track_.right() + 3, yOf(extremes_->high)),
                          QPointF(track_.right() + 7, std::max(yOf(extremes_->low), yOf(extremes_->high) + 1))),
                   soft);
    }
    p.setPen(QPen(t.muted, 1));
    for (const double tick : ticksFor(scale(), 6)) {
        const double y = std::round(yOf(tick)) + 0.5;
        p.drawLine(QPointF(track_.left() - 5, y), QPointF(track_.left() - 1, y));
    }
    const Limits& limits = s.spec->limits;
    if (limits.high && *limits.high < scale().high)
        p.fillRect(QRectF(QPointF(track_.left() - 4, track_.top()), QPointF(track_.left() - 1, yOf(*limits.high))),
                   t.red);
    if (limits.low && *limits.low > scale().low)
        p.fillRect(QRectF(QPointF(track_.left() - 4, yOf(*limits.low)), QPointF(track_.left() - 1, track_.bottom())),
                   t.red);
    if (std::isnan(level_) || s.reading.quality == Quality::gap) return;
    const double zero = yOf(std::clamp(0.0, scale().low, scale().high));
    p.fillRect(QRectF(QPointF(track_.left(), std::min(zero, level_)), QPointF(track_.right(), std::max(zero, level_))),
               colour);
    p.fillRect(QRectF(track_.left() - 3, level_ - 1, track_.width() + 6, 2), t.ink);
}

const TileForm& tile_forms::column() {
    static const TileForm form{.title = CRUSCOTTO_TEXT("a column"), .make = makeTile<ColumnTile>, .leastHeight = 3};
    return form;
}

}  // namespace cruscotto
