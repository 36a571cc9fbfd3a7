#include "app/page/tiles/number_tile.h"
#include "app/page/tiles/tile_form.h"

#include <cmath>

#include "app/widgets/spark.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/bench/uncertainty.h"

namespace cruscotto {

void NumberTile::refresh(Instant t, bool digits) {
    const bool changed = read(t, digits);
    if (!first()) return;
    if (digits) {
        const Duration window = session_.cursor().window();
        const Duration width{std::max<std::int64_t>(1, window.ns / 60)};
        const Instant from{(t.ns - window.ns) / width.ns * width.ns};
        readSpark(session_.source(), *first(), {from, width, 61}, t, columns_);
    }
    if (changed || digits) update();
}

void NumberTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    paintFrame(p);
    if (!first()) return;
    const Shown& s = shown_.front();
    const Theme& t = theme();
    const QRectF b = body();
    p.setRenderHint(QPainter::Antialiasing);
    const QString unit = unitOf(s.spec ? *s.spec : SignalSpec{});
    const double unitSize = std::max(15.0, largestDigits(b.height(), 64) * 0.2);
    const double unitRoom = QFontMetricsF(uiFont(unitSize)).horizontalAdvance(unit) + 8;
    const double expanded = spec_.plusMinus ? session_.expandedOf(*s.spec) : 0;
    // what stands below the number takes a line of its own
    const Remark remark = remarkOn(s);
    constexpr double lineOfWords = 14;
    const double above = remark.words.isEmpty() || b.height() > 90 ? 0 : lineOfWords;
    const double numberHeight = b.height() - (expanded > 0 ? 18 : 0) - above;
    const QFont big =
        fitted(uiFont(std::clamp(numberHeight * 0.62, 20.0, largestDigits(numberHeight, 64)), QFont::Medium),
               b.width() - unitRoom);
    const bool doubtful = s.reading.quality == Quality::gap || s.reading.quality == Quality::stale;
    p.setPen(doubtful ? t.muted : t.ink);
    const double baseline = b.top() + above + (numberHeight + QFontMetricsF(big).capHeight()) / 2 - 4;
    const double end = drawFigures(p, {b.left(), baseline}, big, s.text);
    p.setPen(t.muted);
    if (end + unitRoom - 2 <= b.right()) {
        p.setFont(uiFont(unitSize));
        p.drawText(QPointF(end + 6, baseline), unit);
    } else {  // a narrow tile: below the number
        p.setFont(uiFont(11));
        p.drawText(QPointF(b.left(), std::min(baseline + 13, b.bottom())), unit);
    }
    if (expanded > 0) {
        p.setPen(t.muted);
        const QString around = QStringLiteral("± ") + shown(readingText(expanded, decimalsFor(expanded)));
        drawFigures(p, {b.left(), std::min(baseline + 20, b.bottom() - 4)}, uiFont(14), around);
    }
    const double left = end + 6 + unitRoom + 8;
    p.setPen(remark.colour);
    p.setFont(uiFont(12, QFont::Medium));
    const double wordRoom = remark.words.isEmpty() ? 0 : 16;
    p.drawText(QRectF(b.left(), b.top() - 4, b.width(), 16), Qt::AlignRight | Qt::AlignVCenter, remark.words);
    if (b.right() - left > 64) {
        const double h = std::min(28.0, b.height() - 14 - wordRoom);
        QColor soft = colourOf(*s.spec);
        paintSpark(p, QRectF(left, baseline - h + (wordRoom > 0 ? 4 : 0), b.right() - left, h), columns_, soft,
                   holds(*s.spec), leastSparkSpan(*s.spec));
    }
}

const TileForm& tile_forms::number() {
    static const TileForm form{.title = CRUSCOTTO_TEXT("a number"), .make = makeTile<NumberTile>};
    return form;
}

}  // namespace cruscotto
