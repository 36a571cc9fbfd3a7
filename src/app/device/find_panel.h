#pragma once

#include <QLabel>
#include <QProgressBar>
#include <QPushButton>
#include <QScrollArea>
#include <QVBoxLayout>
#include <functional>
#include <memory>

#include "app/device/trial_view.h"
#include "app/document/session.h"
#include "app/widgets/fields.h"
#include "devices/discovery/port_scout.h"

namespace cruscotto {

/// The one place to add a device: what is attached now, refreshed as things come and go, and what needs no hardware.
/// Looks only while it is shown.
class FindPanel : public QScrollArea {
    Q_OBJECT
public:
    explicit FindPanel(Session& session, QWidget* parent = nullptr);
    /// Looks into this tree instead of the machine's own, from the next time on that it is shown; for tests.
    void setRoot(const std::string& root) { root_ = root; }
    void refresh(bool digits);
    /// What is attached stands there.
    [[nodiscard]] bool looked() const { return shown_.looked; }

Q_SIGNALS:
    void closeAsked();
    /// A device was added to the bench.
    void added(const QString& device);

protected:
    void showEvent(QShowEvent* event) override;
    void hideEvent(QHideEvent* event) override;

private:
    void rebuild(const PortScout::State& state);
    void addSystem(const PortScout::State& state, QVBoxLayout* column);
    /// Which hosts answer: a range and a port to type, and what came of it.
    void buildHosts();
    void showHosts(const PortScout::State::Hosts& hosts);
    void listHosts();
    void addPort(const FoundPort& port, const PortScout::State& state, QVBoxLayout* column);
    void addDevice(const std::string& kind, const std::string& name, const std::string& settings);
    /// The button that looks at what is attached, or no longer does.
    QPushButton* lookButton(const QString& key, const QString& name, std::function<void()> look);
    void look(const QString& key, const std::string& kind, const std::string& settings);
    /// The settings as they were found to be right, where `key` is looked at; else as given.
    [[nodiscard]] std::string asFound(const QString& key, const std::string& settings) const;
    void stopLooking();
    void dropTrial();
    /// What is seen there, while `key` is looked at.
    void placeTrial(const QString& key, QVBoxLayout* below);

    Session& session_;
    std::string root_ = "/";
    std::unique_ptr<PortScout> scout_;
    PortScout::State shown_;
    QStringList used_;
    QProgressBar* progress_ = nullptr;
    QWidget* list_ = nullptr;
    Field* range_ = nullptr;
    Field* port_ = nullptr;
    Choice* asks_ = nullptr;
    QPushButton* scan_ = nullptr;
    QProgressBar* scanned_ = nullptr;
    QLabel* scanSays_ = nullptr;
    QVBoxLayout* hosts_ = nullptr;
    QLabel* replayWrong_ = nullptr;
    PortScout::State::Hosts hostsShown_;
    /// What is looked at now, by the port or address it is at.
    std::unique_ptr<TrialView> trial_;
    QString trialOf_;
    std::string lookedAs_;  ///< which kind, where a port may be several
    QVBoxLayout* column_;
};

}  // namespace cruscotto
