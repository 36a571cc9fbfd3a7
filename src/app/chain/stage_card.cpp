#include "app/chain/stage_card.h"

#include <QApplication>
#include <QMouseEvent>
#include <QPainter>

#include "app/widgets/theme.h"

namespace cruscotto {

StageCard::StageCard(const QString& title, QWidget* parent)
    : QWidget(parent), title_(title), fields_(new QVBoxLayout), sentence_(new QLabel(this)), wrong_(new QLabel(this)) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(16, 40, 16, 10);
    column->setSpacing(6);
    fields_->setSpacing(6);
    column->addLayout(fields_);
    for (QLabel* label : {sentence_, wrong_}) {
        label->setWordWrap(true);
        column->addWidget(label);
        label->hide();
    }
    sentence_->setObjectName("muted");
    wrong_->setObjectName("wrong");
    menu_ = new QToolButton(this);
    menu_->setObjectName("quiet");
    menu_->setText(QStringLiteral("⋯"));
    menu_->setAccessibleName(tr("What can be done to %1").arg(title));
    menu_->setGeometry(12, 8, 0, 0);
    menu_->hide();
    connect(menu_, &QToolButton::clicked, this,
            [this] { Q_EMIT menuAsked(menu_->mapToGlobal(QPoint(0, menu_->height()))); });
    setAccessibleName(title);
}

void StageCard::setValue(const QString& number, const QString& unit) {
    if (number == number_ && unit == unit_) return;
    number_ = number;
    unit_ = unit;
    update(0, 0, width(), 40);
}

void StageCard::setSentence(const QString& sentence) {
    sentence_->setText(sentence);
    sentence_->setVisible(!sentence.isEmpty());
}

void StageCard::setNoise(const QString& words) {
    if (!noise_) {
        if (words.isEmpty()) return;
        noise_ = new QLabel(this);
        noise_->setObjectName("muted");
        noise_->setStyleSheet("font-size: 11px;");
        noise_->setWordWrap(true);
        layout()->addWidget(noise_);
    }
    noise_->setText(words);
    noise_->setVisible(!words.isEmpty());
}

void StageCard::setWrong(const QString& why) {
    wrong_->setText(why);
    wrong_->setVisible(!why.isEmpty());
}

void StageCard::mousePressEvent(QMouseEvent* event) {
    constexpr int head = 40;
    const bool canMove = !menu_->isHidden();
    if (canMove && event->button() == Qt::LeftButton && event->position().y() < head) pressed_ = event->pos();
}

void StageCard::mouseMoveEvent(QMouseEvent* event) {
    if (!pressed_) return;
    if (!dragging_ && (event->pos() - *pressed_).manhattanLength() < QApplication::startDragDistance()) return;
    dragging_ = true;
    setCursor(Qt::ClosedHandCursor);
    Q_EMIT dragged(event->globalPosition().toPoint());
}

void StageCard::mouseReleaseEvent(QMouseEvent* event) {
    pressed_.reset();
    unsetCursor();
    if (std::exchange(dragging_, false)) Q_EMIT dropped(event->globalPosition().toPoint());
}

void StageCard::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    p.setPen(t.hairline);
    p.drawLine(16, 0, width() - 16, 0);
    p.setRenderHint(QPainter::Antialiasing);
    const QFont unit = uiFont(13);
    const QFont number = uiFont(20, QFont::Medium);
    const double unitRoom = unit_.isEmpty() ? 0 : QFontMetricsF(unit).horizontalAdvance(unit_) + 5;
    const double x = width() - 16 - unitRoom - figuresWidth(number, number_);
    p.setFont(captionFont());
    p.setPen(t.muted);
    p.drawText(QPointF(16, 26), p.fontMetrics().elidedText(title_, Qt::ElideRight, static_cast<int>(x) - 30));
    if (menu_->isVisible() || !menu_->isHidden()) {
        const int after = 16 + std::min(static_cast<int>(x) - 46, p.fontMetrics().horizontalAdvance(title_)) + 4;
        if (menu_->x() != after) menu_->setGeometry(after, 10, 30, 24);
    }
    p.setPen(t.ink);
    drawFigures(p, {x, 28}, number, number_);
    p.setFont(unit);
    p.setPen(t.muted);
    p.drawText(QPointF(width() - 16 - unitRoom + 5, 28), unit_);
}

}  // namespace cruscotto
