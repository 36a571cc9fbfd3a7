#pragma once

#include <QPushButton>
#include <QVBoxLayout>
#include <QWidget>
#include <functional>

#include "devices/device.h"

class QLabel;
class QComboBox;

namespace cruscotto {

class Field;

/// The settings that lie in a device itself: what it has, what the bench wants, and both ways between them.
class ParameterList : public QWidget {
    Q_OBJECT
public:
    explicit ParameterList(QWidget* parent = nullptr);
    /// Says how many differ, with what to do about it; to be laid out where it is seen at once.
    [[nodiscard]] QWidget* difference() const { return difference_; }
    /// What has not changed is left alone; what is being typed too.
    /// `timeOf` is the time of day of an instant.
    void show(const std::vector<DeviceParameter>& parameters, const std::function<QString(Instant)>& timeOf);

Q_SIGNALS:
    void writeAsked(const QString& key, const QString& value);
    /// The bench is to want what the device has.
    void keepAsked();

private:
    struct Row {
        QLabel* caption;
        QComboBox* choice;  // or
        Field* field;
        QLabel* note;
        QPushButton *sure, *leave;  // of a choice that costs something
        QString asked;              // what was sent and not answered yet
        QString answered;           // when it was the last time
    };
    void build(const std::vector<DeviceParameter>& parameters);
    void choose(std::size_t row);
    void write(std::size_t row);
    void ask(std::size_t row, const QString& value);
    void note(std::size_t row);
    /// What was asked about is not done; the row shows what the device has.
    void leave(std::size_t row);

    std::vector<DeviceParameter> shown_;
    std::vector<Row> rows_;
    QVBoxLayout* column_;
    QWidget* difference_ = nullptr;
    QLabel* differenceText_ = nullptr;
};

}  // namespace cruscotto
