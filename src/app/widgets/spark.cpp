#include "app/widgets/spark.h"

#include <QPolygonF>
#include <algorithm>
#include <cmath>

#include "app/widgets/words.h"

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

}  // namespace cruscotto
