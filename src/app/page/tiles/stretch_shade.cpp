#include "app/page/tiles/stretch_shade.h"

#include <QPainter>
#include <cmath>

#include "app/widgets/theme.h"

namespace cruscotto {

StretchShade::StretchShade(QWidget* over) : QWidget(over) {
    setObjectName("stretch");
    setAttribute(Qt::WA_TransparentForMouseEvents);
    setAttribute(Qt::WA_NoSystemBackground);
    hide();
}

void StretchShade::show(std::optional<std::pair<double, double>> ends, const QString& length) {
    if (ends == ends_ && length == length_ && isVisible() == ends.has_value()) return;
    ends_ = ends;
    length_ = length;
    setVisible(ends.has_value());
    update();
}

void StretchShade::paintEvent(QPaintEvent*) {
    if (!ends_) return;
    QPainter p(this);
    const Theme& t = theme();
    const auto [from, to] = *ends_;
    QColor soft = t.accent;
    soft.setAlpha(t.night ? 34 : 24);
    p.fillRect(QRectF(QPointF(std::max(0.0, from), 0), QPointF(std::min<double>(width(), to), height())), soft);
    p.setPen(QPen(t.accent, 1));
    for (const double x : {from, to}) {
        if (x < 0 || x > width()) continue;
        p.drawLine(QPointF(std::floor(x) + 0.5, 0), QPointF(std::floor(x) + 0.5, height()));
        p.fillRect(QRectF(std::floor(x) - 2, 0, 5, 9), t.accent);
    }
    const QFont font = uiFont(11, QFont::Medium);
    const double wide = figuresWidth(font, length_);
    const double left = std::max(0.0, from), right = std::min<double>(width(), to);
    if (right - left < wide + 16) return;
    p.setRenderHint(QPainter::Antialiasing);
    p.setPen(t.accent);
    drawFigures(p, QPointF((left + right - wide) / 2, 11), font, length_);
}

}  // namespace cruscotto
