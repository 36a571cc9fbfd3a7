#pragma once

#include <QLineEdit>

namespace cruscotto {

/// One end of a scale: text that is clicked and typed over. Return or leaving takes it, Escape puts it back; what is
/// no number stays marked until it is one.
class ScaleEnd : public QLineEdit {
    Q_OBJECT
public:
    explicit ScaleEnd(const QString& accessibleName, QWidget* parent = nullptr);
    void show(double value, int decimals);
    /// Taken by a person only while they are at it.
    [[nodiscard]] bool beingTyped() const { return hasFocus() && isModified(); }

Q_SIGNALS:
    void typed(double value);

protected:
    void keyPressEvent(QKeyEvent* event) override;
    void focusInEvent(QFocusEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;

private:
    void take();
    double value_ = 0;
    int decimals_ = 0;
};

}  // namespace cruscotto
