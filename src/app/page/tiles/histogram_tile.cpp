#include "app/page/tiles/histogram_tile.h"
#include "app/page/tiles/tile_form.h"

#include <algorithm>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/tile_settings.h"

namespace cruscotto {

void HistogramTile::refresh(Instant t, bool digits) {
    read(t, digits);
    if (!first() || !digits) return;
    const Span span = chosenSpan(session_, spec_, t);
    if (measured_ == span) return;
    const bool goesOn = measured_ && session_.cursor().atEnd() && span.to >= measured_->to &&
                        span.to - span.from == measured_->to - measured_->from;
    if (goesOn && span.to - measured_->to < lookAgainAfter(span, {})) return;
    measured_ = span;
    constexpr std::size_t most = 2'000'000;
    std::vector<Point> points;
    histogram_ = {};
    why_.clear();
    if (!session_.source().points(first()->id, span, most, points)) {
        why_ = tr("Too many samples, or no longer in memory: look at less time");
    } else {
        std::vector<double> values;
        values.reserve(points.size());
        for (const Point& p : points)
            if (p.t >= span.from && p.t < span.to) values.push_back(p.value);
        histogram_ = histogramOf(values);
        if (histogram_.counts.empty()) why_ = tr("Nothing was read");
    }
    update();
}

QString HistogramTile::numbers() const {
    QStringList out{tr("from\tto\treadings")};
    for (std::size_t i = 0; i < histogram_.counts.size(); ++i) {
        const double low = histogram_.low + histogram_.width * static_cast<double>(i);
        out << QString::number(low, 'g', 12) + '\t' + QString::number(low + histogram_.width, 'g', 12) + '\t' +
                   QString::number(histogram_.counts[i]);
    }
    return out.join('\n');
}

void HistogramTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    paintFrame(p);
    if (!first()) return;
    const Theme& t = theme();
    const Histogram& h = histogram_;
    if (h.counts.empty()) {
        p.setPen(t.muted);
        p.setFont(uiFont(13));
        p.drawText(body(), Qt::AlignCenter | Qt::TextWordWrap, why_);
        return;
    }
    const auto all = static_cast<double>(h.all);
    const double end = h.low + h.width * static_cast<double>(h.counts.size());
    PlotAxis x, y;
    x.unit = unitOf(*first());
    const double air = 0.04 * (end - h.low);
    x.scale = {h.low - air, end + air};
    y.unit = QStringLiteral("%");
    const auto tallest = static_cast<double>(*std::ranges::max_element(h.counts));
    const bool normal = settingOf(spec_, "normal") == "yes" && h.deviation > 0;
    const double peak = normal ? 100 * h.width / (h.deviation * std::sqrt(2 * std::numbers::pi)) : 0;
    y.scale = niceScale(0, 1.05 * std::max(100 * tallest / all, std::min(peak, 120 * tallest / all)));
    y.scale.low = 0;
    const PlotFrame frame = PlotFrame::in(body().adjusted(0, 0, 0, 0), x, y);
    frame.paint(p);
    p.save();
    p.setClipRect(frame.area);
    QColor soft = colourOf(*first());
    soft.setAlpha(170);
    for (std::size_t i = 0; i < h.counts.size(); ++i) {
        const double left = h.low + h.width * static_cast<double>(i);
        const double a = std::round(frame.xOf(left)), b = std::round(frame.xOf(left + h.width));
        const double top = frame.yOf(100 * static_cast<double>(h.counts[i]) / all);
        p.fillRect(QRectF(QPointF(a, top), QPointF(std::max(a + 1, b - 1), frame.area.bottom())), soft);
    }
    p.setRenderHint(QPainter::Antialiasing);
    if (normal) {
        QPolygonF curve;
        for (double at = frame.area.left(); at <= frame.area.right(); at += 2) {
            const double v = x.scale.low + (x.scale.high - x.scale.low) * (at - frame.area.left()) / frame.area.width();
            const double z = (v - h.mean) / h.deviation;
            curve << QPointF(at, frame.yOf(peak * std::exp(-z * z / 2)));
        }
        p.setPen(QPen(t.ink, 1.3));
        p.drawPolyline(curve);
    }
    p.setPen(QPen(t.muted, 1, Qt::DashLine));
    for (const double v : {h.p5, h.median, h.p95})
        p.drawLine(QPointF(frame.xOf(v), frame.area.top()), QPointF(frame.xOf(v), frame.area.bottom()));
    p.restore();
    const auto number = [&](double v) { return session_.numberText(*first(), v); };
    const QString words = tr("median %1, 90 % from %2 to %3").arg(number(h.median), number(h.p5), number(h.p95));
    const QFont font = uiFont(11);
    const double wide = figuresWidth(font, words);
    p.setPen(t.muted);
    if (wide < frame.area.width() - 16)
        drawFigures(p, QPointF(frame.area.right() - wide, frame.area.top() - 5), font, words);
}

const TileForm& tile_forms::histogram() {
    static const TileForm form{
        .title = CRUSCOTTO_TEXT("a histogram"), .make = makeTile<HistogramTile>, .leastWidth = 3, .leastHeight = 3};
    return form;
}

}  // namespace cruscotto
