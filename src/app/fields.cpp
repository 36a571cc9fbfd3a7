#include "app/fields.h"

#include <QKeyEvent>
#include <QStyle>

namespace cruscotto {

Field::Field(const QString& accessibleName, QWidget* parent) : QLineEdit(parent) {
    setAccessibleName(accessibleName);
    connect(this, &QLineEdit::returnPressed, this, &Field::take);
}

void Field::show(const QString& text) {
    shown_ = text;
    if (isModified() && (hasFocus() || property("wrong").toBool())) return;
    if (QLineEdit::text() != text) setText(text);
}

void Field::markWrong(bool wrong, const QString& why) {
    setProperty("wrong", wrong);
    setToolTip(why);
    style()->polish(this);
    if (!wrong) setModified(false);
}

void Field::take() {
    if (isModified()) Q_EMIT taken(text());
}

void Field::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape && isModified()) {
        markWrong(false);
        setText(shown_);
        return;
    }
    QLineEdit::keyPressEvent(event);
}

void Field::focusOutEvent(QFocusEvent* event) {
    take();
    QLineEdit::focusOutEvent(event);
}

LinesField::LinesField(const QString& accessibleName, const QString& text, QWidget* parent)
    : QPlainTextEdit(text, parent), shown_(text) {
    setAccessibleName(accessibleName);
    setTabChangesFocus(true);
    setFixedHeight(64);
}

void LinesField::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape && toPlainText() != shown_) return setPlainText(shown_);
    QPlainTextEdit::keyPressEvent(event);
}

void LinesField::focusOutEvent(QFocusEvent* event) {
    QPlainTextEdit::focusOutEvent(event);
    if (toPlainText() == shown_) return;
    shown_ = toPlainText();
    Q_EMIT taken(shown_);
}

}  // namespace cruscotto
