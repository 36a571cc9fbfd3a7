#pragma once

#include <QLabel>
#include <QPushButton>
#include <QStringList>
#include <QToolButton>
#include <QVBoxLayout>
#include <QWidget>
#include <vector>

#include "app/document/session.h"
#include "app/widgets/fields.h"
#include "app/widgets/switch.h"
#include "devices/device_status.h"

namespace cruscotto {

/// The terminals of a device, a row each, analog inputs first: what stands on the board, its raw value, what it can be,
/// and the switch that makes it a signal. Found by typing; folded by module where there are several.
class TerminalList : public QWidget {
    Q_OBJECT
public:
    TerminalList(Session& session, QWidget* parent);
    /// `eitherOr`: a place can be but one of its terminals, so that not all can be used at once.
    void show(const DeviceSpec& device, const std::vector<TerminalInfo>& terminals, bool eitherOr);
    using QWidget::show;

Q_SIGNALS:
    void useAsked(const std::vector<TerminalInfo>& terminals);
    void signalAsked(const QString& signal);
    void refused(const QString& words);

private:
    struct Row {
        std::vector<TerminalInfo> uses;  ///< of the place
        QString module;
        QWidget* line = nullptr;
        QLabel* value = nullptr;
        QComboBox* use = nullptr;  ///< where there are several
        Switch* on = nullptr;
    };
    struct Module {
        QString name;
        QToolButton* head = nullptr;
        bool folded = false;
    };
    void build();
    void addRow(Row& row);
    void find();
    void look();
    /// The signal that uses one of the row's terminals; null if none does.
    [[nodiscard]] const SignalSpec* signalOf(const Row& row) const;
    /// `terminal`: the first of the row's.
    void toggle(const std::string& terminal, bool on);
    /// Why none of its terminals can be used now, as the device's rules have it; empty if one can.
    [[nodiscard]] QString takenBy(const Row& row) const;
    [[nodiscard]] static std::size_t chosenUse(const Row& row);

    Session& session_;
    std::string device_;
    std::vector<TerminalInfo> terminals_;
    bool eitherOr_ = false;
    std::vector<Row> rows_;
    std::vector<Module> modules_;
    QVBoxLayout* column_;
    QLineEdit* search_ = nullptr;
    QPushButton* all_ = nullptr;
};

}  // namespace cruscotto
