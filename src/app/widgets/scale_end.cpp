#include "app/widgets/scale_end.h"

#include <QKeyEvent>
#include <QStyle>
#include <QTimer>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"

namespace cruscotto {

ScaleEnd::ScaleEnd(const QString& accessibleName, QWidget* parent) : QLineEdit(parent) {
    setAccessibleName(accessibleName);
    setToolTip(tr("Click and type to change this end of the scale"));
    setObjectName("scaleEnd");
    setAcceptDrops(false);  // a signal that is dragged across it is the page's
    setFrame(false);
    setFixedHeight(18);
    setAlignment(Qt::AlignCenter);
    setTextMargins(0, 0, 0, 0);
}

void ScaleEnd::show(double value, int decimals) {
    value_ = value;
    decimals_ = decimals;
    if (beingTyped()) return;
    QString s = shown(readingText(value, decimals));
    if (s.contains('.')) {  // a scale's end is a round number: no trailing zeros
        while (s.endsWith('0')) s.chop(1);
        if (s.endsWith('.')) s.chop(1);
    }
    if (text() != s) setText(s);
}

void ScaleEnd::take() {
    if (!isModified()) return;
    double v = 0;
    const bool fine = parseNumber(text().toStdString(), v);
    setProperty("wrong", !fine);
    style()->polish(this);
    if (!fine) return;
    setModified(false);
    Q_EMIT typed(v);
}

void ScaleEnd::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) {
        take();
        if (!isModified()) clearFocus();
        return;
    }
    if (event->key() == Qt::Key_Escape) {
        setModified(false);
        setProperty("wrong", false);
        style()->polish(this);
        show(value_, decimals_);
        clearFocus();
        return;
    }
    QLineEdit::keyPressEvent(event);
}

void ScaleEnd::focusInEvent(QFocusEvent* event) {
    QLineEdit::focusInEvent(event);
    QTimer::singleShot(0, this, &QLineEdit::selectAll);
}

void ScaleEnd::focusOutEvent(QFocusEvent* event) {
    take();
    if (isModified()) {
        setModified(false);
        setProperty("wrong", false);
        style()->polish(this);
        show(value_, decimals_);
    }
    QLineEdit::focusOutEvent(event);
}

}  // namespace cruscotto
