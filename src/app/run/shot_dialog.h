#pragma once

#include <QComboBox>
#include <QDialog>
#include <QLabel>
#include <QPushButton>
#include <QTimeEdit>

#include "app/widgets/fields.h"
#include "core/bench/bench.h"
#include "engine/shot_gate.h"

namespace cruscotto {

/// Asks what a recording of shots waits for, and says in one sentence what it will do.
class ShotDialog : public QDialog {
    Q_OBJECT
public:
    /// `now` is now on the bench's axis; the signal is proposed where it is known.
    ShotDialog(const Bench& bench, const QString& signal, Instant now, QWidget* parent);
    [[nodiscard]] const ShotPlan& plan() const { return plan_; }

private:
    void work();

    const Bench bench_;
    const Instant now_;
    QComboBox* what_;
    QComboBox* signal_;
    QComboBox* direction_;
    QTimeEdit* time_;
    Field* level_;
    Field* hysteresis_;
    Field* before_;
    Field* after_;
    Field* shots_;
    QLabel* sentence_;
    QPushButton* go_;
    ShotPlan plan_;
};

}  // namespace cruscotto
