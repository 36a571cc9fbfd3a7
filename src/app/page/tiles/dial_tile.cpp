#include "app/page/tiles/dial_tile.h"
#include "app/page/tiles/tile_form.h"

#include <QPainterPath>
#include <cmath>
#include <numbers>

#include "app/widgets/scale_end.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/signal/scale.h"

namespace cruscotto {

namespace {
// The arc's opening looks down; angles in degrees, counterclockwise from three o'clock, as QPainter has them.
constexpr double arcBegin = 205;
constexpr double arcSweep = 230;

QPointF onCircle(QPointF c, double r, double degrees) {
    const double a = degrees * std::numbers::pi / 180;
    return c + QPointF(r * std::cos(a), -r * std::sin(a));
}

void drawArc(QPainter& p, QPointF c, double r, double from, double to) {
    p.drawArc(QRectF(c.x() - r, c.y() - r, 2 * r, 2 * r), static_cast<int>(std::lround(from * 16)),
              static_cast<int>(std::lround((to - from) * 16)));
}
}  // namespace

DialTile::DialTile(Session& session, QWidget* parent)
    : Tile(session, parent),
      low_(new ScaleEnd(tr("lower end of the scale"), this)),
      high_(new ScaleEnd(tr("upper end of the scale"), this)) {
    connectEnds(low_, high_);
}

double DialTile::angleOf(double v) const {
    return arcBegin - arcSweep * fractionOf(scale(), v);
}

void DialTile::rebuild() {
    const QRectF b = body();
    // The arc spans 1 above the centre and 0.42 below it; the scale's ends are written under the arc's ends.
    radius_ = std::max(20.0, std::min((b.width() - 24) / 2, (b.height() - 24) / 1.45));
    const double used = radius_ * 1.43 + 20;
    centre_ = {b.center().x(), b.top() + std::max(0.0, (b.height() - used) / 2) + radius_ + 4};
    const QPointF left = onCircle(centre_, radius_, arcBegin), right = onCircle(centre_, radius_, arcBegin - arcSweep);
    const int w = 56;
    const int y = static_cast<int>(left.y()) + 7;
    low_->setGeometry(std::max(2, static_cast<int>(left.x()) - w / 2), y, w, 18);
    high_->setGeometry(std::min(width() - w - 2, static_cast<int>(right.x()) - w / 2), y, w, 18);
    placeEnds(low_, high_, scale());
    // Where there is no room for both, the unit stands and the ends do not.
    constexpr double roomForEnds = 44;
    for (ScaleEnd* end : {low_, high_}) end->setVisible(radius_ >= roomForEnds);
    stillValid_ = false;
}

void DialTile::refresh(Instant t, bool digits) {
    bool slow = read(t, digits), moved = false;
    if (!first()) return;
    const double angle = angleOf(shown_.front().reading.value);
    // Between the digits a pointer that would move by less than a third of a pixel stays.
    if (!(std::fabs(angle - pointer_) * std::numbers::pi / 180 * radius_ < (digits ? 0.02 : 0.33))) {
        pointer_ = angle;
        moved = !std::isnan(angle);
    }
    if (digits) slow = readExtremes(t) || slow;
    if (slow || digits) slowValid_ = false;
    if (slow || moved) update();
}

void DialTile::paintStill() {
    const qreal ratio = devicePixelRatioF();
    still_ = QPixmap(size() * ratio);
    still_.setDevicePixelRatio(ratio);
    QPainter p(&still_);
    p.setRenderHint(QPainter::Antialiasing, false);
    paintFrame(p);
    p.setRenderHint(QPainter::Antialiasing);
    const Theme& t = theme();
    p.setPen(QPen(t.muted, 1.5, Qt::SolidLine, Qt::FlatCap));
    drawArc(p, centre_, radius_, arcBegin, arcBegin - arcSweep);
    p.setPen(QPen(t.muted, 1.5));
    for (const double tick : ticksFor(scale(), 12)) {
        const double a = angleOf(tick);
        p.drawLine(onCircle(centre_, radius_, a), onCircle(centre_, radius_ + 5, a));
    }
    if (first()) {
        p.setPen(QPen(t.red, 5, Qt::SolidLine, Qt::FlatCap));
        const Limits& limits = first()->limits;
        if (limits.high && *limits.high < scale().high)
            drawArc(p, centre_, radius_ + 2, angleOf(*limits.high), arcBegin - arcSweep);
        if (limits.low && *limits.low > scale().low) drawArc(p, centre_, radius_ + 2, arcBegin, angleOf(*limits.low));
    }
    stillValid_ = true;
    slowValid_ = false;
}

QRectF DialTile::remarkBox(double wide, double top) const {
    constexpr double high = 18;
    const auto written = [](const ScaleEnd& end) { return end.fontMetrics().horizontalAdvance(end.text()) / 2.0 + 6; };
    const double left = low_->geometry().center().x() + written(*low_);
    const double right = high_->geometry().center().x() - written(*high_);
    // Where the ends of the scale leave it no room, it stands below them.
    if (top + high > low_->y() && wide > right - left) top = std::min(low_->y() + high, height() - high);
    return {centre_.x() - wide / 2, top, wide, high};
}

void DialTile::paintEvent(QPaintEvent*) {
    if (!stillValid_ || still_.devicePixelRatio() != devicePixelRatioF() || learning()) paintStill();
    if (!slowValid_) paintSlow();
    QPainter p(this);
    p.drawPixmap(0, 0, slow_);
    if (hasFocus()) p.fillRect(QRectF(8, 0, width() - 16, 2), theme().accent);
    if (!first() || std::isnan(pointer_) || shown_.front().reading.quality == Quality::gap) return;
    p.setRenderHint(QPainter::Antialiasing);
    p.setPen(QPen(theme().ink, 2.5, Qt::SolidLine, Qt::FlatCap));
    p.drawLine(onCircle(centre_, radius_ * 0.72, pointer_), onCircle(centre_, radius_ + 5, pointer_));
}

void DialTile::paintSlow() {
    slow_ = still_;
    slowValid_ = true;
    if (!first()) return;
    QPainter p(&slow_);
    p.setRenderHint(QPainter::Antialiasing);
    const Shown& s = shown_.front();
    const Theme& t = theme();
    const QColor colour = colourOf(*s.spec);
    if (extremes_) {
        QColor soft = colour;
        soft.setAlpha(70);
        p.setPen(QPen(soft, 7, Qt::SolidLine, Qt::FlatCap));
        const double from = angleOf(extremes_->low), to = angleOf(extremes_->high);
        drawArc(p, centre_, radius_ - 6, std::max(from, to + 0.8), to);
    }
    const bool doubtful = s.reading.quality == Quality::gap || s.reading.quality == Quality::stale;
    const QFont big = fitted(uiFont(std::min(largestDigits(radius_, 52), radius_ * 0.5), QFont::Medium), radius_ * 1.3);
    p.setPen(doubtful ? t.muted : t.ink);
    const double baseline = centre_.y() + QFontMetricsF(big).capHeight() * 0.35;
    drawFigures(p, {centre_.x() - figuresWidth(big, s.text) / 2, baseline}, big, s.text);
    const double unitSize = std::max(14.0, big.pixelSize() * 0.2), unitHeight = unitSize * 1.43;
    p.setFont(uiFont(unitSize));
    p.setPen(t.muted);
    p.drawText(QRectF(centre_.x() - radius_, baseline + 6, 2 * radius_, unitHeight), Qt::AlignHCenter | Qt::AlignTop,
               unitOf(*s.spec));
    const Remark remark = remarkOn(s);
    p.setPen(remark.colour);
    p.setFont(uiFont(12, QFont::Medium));
    p.drawText(remarkBox(p.fontMetrics().horizontalAdvance(remark.words), baseline + 6 + unitHeight),
               Qt::AlignHCenter | Qt::AlignTop | Qt::TextDontClip, remark.words);
}

const TileForm& tile_forms::dial() {
    static const TileForm form{
        .title = CRUSCOTTO_TEXT("a dial"), .make = makeTile<DialTile>, .leastWidth = 2, .leastHeight = 3};
    return form;
}

}  // namespace cruscotto
