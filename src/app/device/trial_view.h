#pragma once

#include <QGridLayout>
#include <QLabel>
#include <QWidget>

#include "devices/discovery/device_trial.h"

namespace cruscotto {

/// A look at what is attached before it is added: how it answers, its channels, and what they read now. Looks as long
/// as it exists.
class TrialView : public QWidget {
    Q_OBJECT
public:
    TrialView(const DeviceKind& kind, const JsonText& settings, QWidget* parent);
    void refresh();
    /// As they were found to be right, as far as that goes.
    [[nodiscard]] JsonText settings() const { return trial_.state().settings; }

private:
    void list(const DeviceTrial::State& state);
    void addPart(int row, const DeviceStatus::Part& part);
    QLabel* addChannel(int row, const std::string& name, const QString& what);

    DeviceTrial trial_;
    DeviceTrial::State shown_;
    QLabel* sentence_;
    QLabel* count_;
    QGridLayout* rows_;
    std::vector<QLabel*> readings_;
};

}  // namespace cruscotto
