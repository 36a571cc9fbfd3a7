#pragma once

#include <QWidget>
#include <optional>

#include "core/bench/uncertainty.h"

namespace cruscotto {

/// What the uncertainty of a reading is made of: each contribution with its share as a bar, largest first.
class BudgetView : public QWidget {
    Q_OBJECT
public:
    explicit BudgetView(QWidget* parent);
    /// `own`: the name of the signal that it is of; it need not be said.
    void show(const Result<Uncertainty>& uncertainty, const std::string& own);
    /// As text: what stands there, a line each.
    [[nodiscard]] QString words() const;
    [[nodiscard]] QSize sizeHint() const override;

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    std::optional<Uncertainty> what_;
    QString why_;
    std::string own_;
};

}  // namespace cruscotto
