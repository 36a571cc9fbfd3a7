#include "app/widgets/live_words.h"

#include <QHelpEvent>
#include <QPainter>
#include <QToolTip>

#include "app/widgets/theme.h"

namespace cruscotto {

LiveWords::LiveWords(int room, Qt::Alignment alignment, QWidget* parent)
    : QWidget(parent), room_(room), alignment_(alignment) {
    setSizePolicy(QSizePolicy::Preferred, QSizePolicy::Fixed);
}

void LiveWords::setText(const QString& text) {
    if (text == text_) return;
    text_ = text;
    setAccessibleName(text);
    update();
}

void LiveWords::setColour(QColor colour) {
    if (colour == colour_) return;
    colour_ = colour;
    update();
}

void LiveWords::setBold(bool bold) {
    if (bold == bold_) return;
    bold_ = bold;
    update();
}

QFont LiveWords::fontNow() const {
    QFont out = font();
    if (bold_) out.setWeight(QFont::DemiBold);
    return out;
}

QSize LiveWords::sizeHint() const {
    constexpr int air = 4;
    return {room_, fontMetrics().height() + air};
}
QSize LiveWords::minimumSizeHint() const {
    constexpr int least = 40;
    return {std::min(room_, least), sizeHint().height()};
}

void LiveWords::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.setFont(fontNow());
    p.setPen(colour_.isValid() ? colour_ : theme().ink);
    p.drawText(rect(), static_cast<int>(alignment_ | Qt::AlignVCenter),
               p.fontMetrics().elidedText(text_, Qt::ElideRight, width()));
}

bool LiveWords::event(QEvent* event) {
    if (event->type() == QEvent::ToolTip && toolTip().isEmpty()) {
        const bool cut = QFontMetrics(fontNow()).horizontalAdvance(text_) > width();
        QToolTip::showText(static_cast<QHelpEvent*>(event)->globalPos(), cut ? text_ : QString(), this);
        return true;
    }
    return QWidget::event(event);
}

}  // namespace cruscotto
