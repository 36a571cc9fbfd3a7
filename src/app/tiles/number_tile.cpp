#include "app/tiles/number_tile.h"

#include <cmath>

#include "app/theme.h"
#include "app/words.h"

namespace cruscotto {

void readSpark(const Source& source, const SignalSpec& s, const ColumnRequest& columns, Instant t,
               std::vector<Column>& out) {
    source.columns(s.id, columns, out);
    if (!isOutput(s.kind) || out.empty()) return;
    const auto stand = [&](Column& column, Instant at) {
        const double v = source.at(s.id, at).value;
        if (!column.sampled && !std::isnan(v)) column.add({v, v, v, 1});
    };
    stand(out.front(), out.front().begin);
    stand(out.back(), t);
}

void paintSpark(QPainter& p, const QRectF& where, const std::vector<Column>& columns, const QColor& colour, bool steps,
                double leastSpan) {
    Summary all;
    for (const Column& c : columns) all.add(c.summary);
    if (!all.count || columns.size() < 2) return;
    double low = all.min, high = all.max;
    if (high - low < leastSpan) {
        const double middle = (low + high) / 2;
        low = middle - leastSpan / 2;
        high = middle + leastSpan / 2;
    }
    if (high - low < 1e-12 * std::max(1.0, std::fabs(high))) low -= 1, high += 1;
    const auto y = [&](double v) { return where.bottom() - (v - low) / (high - low) * where.height(); };
    QPolygonF line;
    p.setPen(QPen(colour, 1.2));
    const double dx = where.width() / static_cast<double>(columns.size() - 1);
    for (std::size_t i = 0; i < columns.size(); ++i) {
        const Column& c = columns[i];
        if (c.broken()) {
            p.drawPolyline(line);
            line.clear();
        }
        if (!c.summary.count) continue;  // a slow signal: nothing in between, and nothing missing
        const double x = where.left() + dx * static_cast<double>(i);
        if (!steps && y(c.summary.min) - y(c.summary.max) > 1.5)  // it swings within a column: show how far
            p.drawLine(QPointF(x, y(c.summary.min)), QPointF(x, y(c.summary.max)));
        if (steps && !line.isEmpty()) line << QPointF(x, line.back().y());
        line << QPointF(x, y(c.summary.mean));
    }
    p.drawPolyline(line);
}

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
    const double unitRoom = QFontMetricsF(uiFont(15)).horizontalAdvance(unit) + 8;
    const QFont big = fitted(uiFont(std::clamp(b.height() * 0.62, 20.0, 64.0), QFont::Medium), b.width() - unitRoom);
    const bool doubtful = s.reading.quality == Quality::gap || s.reading.quality == Quality::stale;
    p.setPen(doubtful ? t.muted : t.ink);
    const double baseline = b.top() + (b.height() + QFontMetricsF(big).capHeight()) / 2 - 4;
    const double end = drawFigures(p, {b.left(), baseline}, big, s.text);
    p.setPen(t.muted);
    if (end + unitRoom - 2 <= b.right()) {
        p.setFont(uiFont(15));
        p.drawText(QPointF(end + 6, baseline), unit);
    } else {  // a narrow tile: below the number
        p.setFont(uiFont(11));
        p.drawText(QPointF(b.left(), std::min(baseline + 13, b.bottom())), unit);
    }
    const double left = end + 6 + unitRoom + 8;
    const Remark remark = remarkOn(s);
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

}  // namespace cruscotto
