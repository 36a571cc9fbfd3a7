#pragma once

#include <QLabel>
#include <QScrollArea>
#include <QVBoxLayout>

#include "app/device/parameter_list.h"
#include "app/device/suggestion_buttons.h"
#include "app/device/terminal_list.h"
#include "app/document/session.h"

namespace cruscotto {

/// One device: how it stands with its link, its settings, the lines that did not fit, and the terminals that no signal
/// uses yet. Built from what the device's kind says of itself.
class DevicePanel : public QScrollArea {
    Q_OBJECT
public:
    explicit DevicePanel(Session& session, QWidget* parent = nullptr);
    void open(const QString& device);
    void refresh(bool digits);

Q_SIGNALS:
    void closeAsked();
    void signalAdded(const QString& signal);
    void wireAsked(const QString& device);

private:
    void rebuild();
    void addSetting(QVBoxLayout* column, const SettingInfo& info);
    void addSignalsFor(const std::vector<TerminalInfo>& terminals);
    /// The settings that lie in the device, as it has them now, become what the bench wants.
    void keepParameters();
    void edit(const SettingInfo& info, const std::string& value);
    /// Asks for a file for a setting that names files, and takes it over.
    void chooseFile(const SettingInfo& info);
    void offerTerminals();
    void showWrong(const QString& words);

    Session& session_;
    QString device_;
    std::string shape_;
    QLabel* status_ = nullptr;
    QLabel* rejected_ = nullptr;
    QLabel* load_ = nullptr;
    SuggestionButtons* suggestions_ = nullptr;
    QLabel* wrong_ = nullptr;
    ParameterList* parameters_ = nullptr;
    TerminalList* terminals_ = nullptr;
    /// What the kind says for these settings: some read a file for it, and are not asked five times a second.
    std::string askedFor_;
    std::vector<TerminalInfo> known_;
};

}  // namespace cruscotto
