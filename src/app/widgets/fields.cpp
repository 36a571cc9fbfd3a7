#include "app/widgets/fields.h"

#include <QKeyEvent>
#include <QMenu>
#include <QStyle>
#include <QWheelEvent>
#include <algorithm>

namespace cruscotto {

Field::Field(const QString& accessibleName, QWidget* parent) : QLineEdit(parent) {
    setAccessibleName(accessibleName);
    connect(this, &QLineEdit::returnPressed, this, &Field::take);
}

void Field::show(const QString& text) {
    shown_ = text;
    if (isModified() && (hasFocus() || property("wrong").toBool())) return;
    if (QLineEdit::text() == text) return;
    setText(text);
    if (!hasFocus()) setCursorPosition(0);  // of what is too long its beginning says most
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

Choice::Choice(QWidget* parent) : QComboBox(parent) {
    setFocusPolicy(Qt::StrongFocus);  // not by the wheel
}

void Choice::wheelEvent(QWheelEvent* event) {
    event->ignore();
}

LinesField::LinesField(const QString& accessibleName, const QString& text, QWidget* parent)
    : QPlainTextEdit(text, parent), shown_(text) {
    setAccessibleName(accessibleName);
    setTabChangesFocus(true);
    fit();
    connect(this, &QPlainTextEdit::textChanged, this, &LinesField::fit);
}

void LinesField::show(const QString& text) {
    if (text == shown_) return;
    shown_ = text;
    setPlainText(text);
}

void LinesField::fit() {
    // As high as what is in it, from two lines to ten.
    const int lines = std::clamp(document()->blockCount(), 2, 10);
    setFixedHeight(lines * fontMetrics().lineSpacing() + 2 * static_cast<int>(document()->documentMargin()) +
                   2 * frameWidth() + 16);
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

QComboBox* combo(const QString& name, QWidget* parent) {
    auto* box = new Choice(parent);
    box->setAccessibleName(name);
    // Long words must not make a panel wider than it is: they are cut in the box and whole in its list.
    box->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    box->setMinimumContentsLength(6);
    return box;
}

void opensMenu(QPushButton& button, QMenu* menu) {
    if (button.accessibleName().isEmpty()) button.setAccessibleName(button.text());
    button.setText(button.text() + QStringLiteral("  ▾"));
    button.setMenu(menu);
}

QWidget* labelled(const QString& label, QWidget* field, QWidget* parent) {
    auto* holder = new QWidget(parent);
    auto* box = new QVBoxLayout(holder);
    box->setContentsMargins(0, 0, 0, 0);
    box->setSpacing(2);
    auto* caption = new QLabel(label, holder);
    caption->setObjectName("caption");
    caption->setBuddy(field);
    box->addWidget(caption);
    box->addWidget(field);
    return holder;
}

void place(QVBoxLayout* fields, QWidget* holder) {
    if (fields->count() > 0)
        if (auto* row = qobject_cast<QHBoxLayout*>(fields->itemAt(fields->count() - 1)->layout());
            row && row->count() < 2) {
            row->addWidget(holder, 1);
            return;
        }
    auto* row = new QHBoxLayout;
    row->setSpacing(8);
    row->addWidget(holder, 1);
    fields->addLayout(row);
}

}  // namespace cruscotto
