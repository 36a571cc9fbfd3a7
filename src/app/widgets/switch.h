#pragma once

#include <QAbstractButton>

namespace cruscotto {

/// A switch that says by its place and its word what it is.
class Switch : public QAbstractButton {
    Q_OBJECT
public:
    explicit Switch(QWidget* parent);
    [[nodiscard]] QSize sizeHint() const override { return {44, 24}; }

protected:
    void paintEvent(QPaintEvent* event) override;
};

}  // namespace cruscotto
