#include "app/page/tiles/trace_hover.h"

#include <QPainter>
#include <algorithm>

#include "app/widgets/theme.h"

namespace cruscotto {

namespace {
constexpr double lineHeight = 17, besideLine = 6, aboveLine = 3;
}

TraceHover::TraceHover(QWidget* over) : QWidget(over) {
    setObjectName("hover");
    setAttribute(Qt::WA_TransparentForMouseEvents);
    setAttribute(Qt::WA_NoSystemBackground);
    hide();
}

void TraceHover::tell(double x, const QString& moment, std::vector<Label> labels) {
    // above their lines, in the order of these, and none over another; the moment stands at the top
    std::ranges::stable_sort(labels, {}, &Label::y);
    double free = lineHeight;
    for (Label& label : labels) {
        label.y = std::max(label.y - lineHeight - aboveLine, free);
        free = label.y + lineHeight;
    }
    const double beyond = free - height();
    for (Label& label : labels) label.y -= std::max(0.0, std::min(beyond, labels.front().y));
    if (telling_ && x == x_ && moment == moment_ && labels == labels_) return;
    telling_ = true;
    x_ = x;
    moment_ = moment;
    labels_ = std::move(labels);
    show();
    raise();
    update();
}

void TraceHover::leave() {
    telling_ = false;
    hide();
}

QString TraceHover::words() const {
    QStringList all{moment_};
    for (const Label& label : labels_) all << label.words;
    return telling_ ? all.join('\n') : QString();
}

void TraceHover::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    p.setPen(QPen(t.ink, 1));
    p.drawLine(QPointF(x_ + 0.5, 0), QPointF(x_ + 0.5, height()));
    p.setRenderHint(QPainter::Antialiasing);
    const QFont font = uiFont(12, QFont::Medium);
    const auto place = [&](double y, const QColor& colour, const QString& words) {
        const double wide = figuresWidth(font, words) + 8;
        const bool left = x_ + besideLine + wide > width();
        const QRectF at(left ? x_ - besideLine - wide : x_ + besideLine, y, wide, lineHeight);
        p.setPen(Qt::NoPen);
        p.setBrush(t.ground);
        p.drawRect(at);
        p.setPen(colour);
        drawFigures(p, QPointF(at.left() + 4, at.bottom() - 4.5), font, words);
    };
    for (const Label& label : labels_) place(label.y, label.colour, label.words);
    place(0, t.muted, moment_);
}

}  // namespace cruscotto
