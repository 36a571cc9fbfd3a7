#pragma once

#include <QBoxLayout>
#include <QWidget>
#include <vector>

#include "app/document/session.h"

namespace cruscotto {

/// What a device proposes to change in its settings now, a button each; pressed, it is done as one undo step. Nothing
/// is there while nothing is proposed.
class SuggestionButtons : public QWidget {
    Q_OBJECT
public:
    SuggestionButtons(Session& session, QBoxLayout::Direction direction, QWidget* parent);
    /// Of this device.
    void offer(const QString& device, const std::vector<DeviceStatus::Suggestion>& suggestions);

Q_SIGNALS:
    /// Why the kind of device did not take it.
    void refused(const QString& words);

private:
    Session& session_;
    QBoxLayout* buttons_;
    QString device_;
    std::vector<DeviceStatus::Suggestion> offered_;
};

}  // namespace cruscotto
