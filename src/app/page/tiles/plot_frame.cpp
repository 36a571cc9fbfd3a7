#include "app/page/tiles/plot_frame.h"

#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"

namespace cruscotto {

namespace {

std::vector<double> ticksOf(const PlotAxis& axis, int most) {
    if (!axis.logarithmic) return ticksFor(axis.scale, most);
    std::vector<double> out;
    const double low = std::log10(axis.scale.low), high = std::log10(axis.scale.high);
    const int every = std::max(1, static_cast<int>(std::ceil((high - low) / std::max(1, most))));
    for (int k = static_cast<int>(std::ceil(low - 1e-9)); k <= high + 1e-9; k += every) out.push_back(std::pow(10, k));
    return out;
}

QString tickText(double v, int decimals, bool logarithmic) {
    if (logarithmic && (std::fabs(v) < 1e-3 || std::fabs(v) >= 1e5)) {
        const int exponent = static_cast<int>(std::lround(std::log10(v)));
        return QStringLiteral("1e%1").arg(exponent).replace('-', QChar(0x2212));
    }
    return shown(logarithmic ? shortNumber(v) : readingText(v, decimals));
}

}  // namespace

double PlotAxis::fraction(double v) const {
    if (!logarithmic) return fractionOf(scale, v);
    const double low = std::log10(scale.low), high = std::log10(scale.high);
    return (std::log10(std::max(v, 1e-300)) - low) / (high - low);
}

PlotFrame PlotFrame::in(QRectF body, PlotAxis x, PlotAxis y) {
    constexpr double below = 20, above = 16, right = 14, left = 52;
    return {body.adjusted(left - 8, above, -right, -below), std::move(x), std::move(y)};
}

void PlotFrame::paint(QPainter& p) const {
    const Theme& t = theme();
    const QFont font = uiFont(11);
    p.setRenderHint(QPainter::Antialiasing, false);
    const auto across = ticksOf(x, std::max(2, static_cast<int>(area.width() / 70)));
    const auto up = ticksOf(y, std::max(2, static_cast<int>(area.height() / 28)));
    p.setPen(t.hairline);
    p.drawRect(area);
    for (const double v : across) p.drawLine(QPointF(xOf(v), area.top()), QPointF(xOf(v), area.bottom()));
    for (const double v : up) p.drawLine(QPointF(area.left(), yOf(v)), QPointF(area.right(), yOf(v)));
    p.setRenderHint(QPainter::Antialiasing);
    p.setPen(t.muted);
    p.setFont(font);
    const double unitWide = QFontMetricsF(font).horizontalAdvance(x.unit), unitAt = area.right() + 12 - unitWide;
    double free = 0;
    for (const double v : across) {
        const QString text = tickText(v, decimalsOf(across), x.logarithmic);
        const double wide = figuresWidth(font, text), at = xOf(v) - wide / 2;
        if (at < free || at + wide > unitAt - 6) continue;
        drawFigures(p, QPointF(at, area.bottom() + 15), font, text);
        free = at + wide + 8;
    }
    for (const double v : up) {
        const QString text = tickText(v, decimalsOf(up), y.logarithmic);
        drawFigures(p, QPointF(area.left() - 6 - figuresWidth(font, text), yOf(v) + 4), font, text);
    }
    p.drawText(QRectF(area.left() - 60, area.top() - 18, 120, 14), Qt::AlignHCenter, y.unit);
    p.drawText(QPointF(unitAt, area.bottom() + 15), x.unit);
}

}  // namespace cruscotto
