#pragma once

#include <QDialog>
#include <QLabel>
#include <QPushButton>
#include <QTableWidget>

#include "engine/preflight.h"

namespace cruscotto {

/// The list before it counts: what is red, amber and good of each signal, device and the computer, and what to do about
/// it. It warns and locks nothing.
class PreflightDialog : public QDialog {
    Q_OBJECT
public:
    explicit PreflightDialog(QWidget* parent);
    void show(const std::vector<PreflightFinding>& findings);
    /// It stands before a recording: that can be begun from here.
    void offerToRecord();
    using QDialog::show;

Q_SIGNALS:
    void recordAsked();
    void againAsked();
    /// A row was chosen: the signal or device that it is about.
    void asked(const QString& about);

private:
    QLabel* sentence_;
    QPushButton *close_, *record_;
    QTableWidget* rows_;
    std::vector<PreflightFinding> findings_;
};

}  // namespace cruscotto
