#pragma once

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QString>
#include <QVBoxLayout>
#include <functional>

namespace cruscotto {

/// A number or a text in a form: taken on Return or on leaving, put back on Escape, marked while it is wrong. What is
/// being typed is never overwritten by show().
class Field : public QLineEdit {
    Q_OBJECT
public:
    Field(const QString& accessibleName, QWidget* parent = nullptr);
    void show(const QString& text);
    void markWrong(bool wrong, const QString& why = {});

Q_SIGNALS:
    void taken(const QString& text);

protected:
    void keyPressEvent(QKeyEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;

private:
    void take();
    QString shown_;
};

/// A choice in a form that scrolls: the wheel scrolls the form, and never changes what is chosen on its way.
class Choice : public QComboBox {
    Q_OBJECT
public:
    explicit Choice(QWidget* parent = nullptr);

protected:
    void wheelEvent(QWheelEvent* event) override;
};

/// Some lines of text in a form: taken on leaving, put back on Escape.
class LinesField : public QPlainTextEdit {
    Q_OBJECT
public:
    LinesField(const QString& accessibleName, const QString& text, QWidget* parent = nullptr);
    /// What is taken now.
    void show(const QString& text);
    using QPlainTextEdit::show;

Q_SIGNALS:
    void taken(const QString& text);

protected:
    void keyPressEvent(QKeyEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;

private:
    void fit();
    QString shown_;
};

/// A choice with a name for those who do not see it.
QComboBox* combo(const QString& name, QWidget* parent);
/// The button opens the menu, which its text shows.
void opensMenu(QPushButton& button, QMenu* menu);
/// A label above its field; two of them fit side by side.
QWidget* labelled(const QString& label, QWidget* field, QWidget* parent);
/// Puts a field into a card's fields: beside the one before it if that stands alone.
void place(QVBoxLayout* fields, QWidget* holder);

}  // namespace cruscotto
