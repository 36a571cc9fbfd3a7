#pragma once

#include <QLabel>
#include <QPushButton>
#include <QToolButton>
#include <QWidget>
#include <atomic>
#include <memory>

#include "app/document/session.h"

namespace cruscotto {

/// The line on top: which bench, live or then, recording, limits, and whether anything is lost.
class StatusLine : public QWidget {
    Q_OBJECT
public:
    explicit StatusLine(Session& session, QWidget* parent = nullptr);
    void refresh(bool digits);
    /// An alarm is heard now: it can be silenced.
    void setRings(bool rings);
    [[nodiscard]] QToolButton* menuButton() { return menu_; }
    [[nodiscard]] QPushButton* recordButton() { return record_; }
    [[nodiscard]] QToolButton* themeButton() { return theme_; }
    [[nodiscard]] QToolButton* actionsButton() { return actions_; }
    /// The whole of it, however much of that there is room for.
    [[nodiscard]] QString keptText() const { return kept_->toolTip(); }
    [[nodiscard]] QString stateText() const { return state_->text(); }
    [[nodiscard]] QString alarmText() const { return alarms_->toolTip(); }
    /// Of what is left when there is little room: see compact_.
    [[nodiscard]] QSize minimumSizeHint() const override;
    /// Of the disk that runs go to; 0: not known yet.
    [[nodiscard]] std::uint64_t freeBytes() const { return *freeBytes_; }
    /// Stands in for the disk: free bytes where runs go. For pictures and tests.
    void setFreeBytes(std::uint64_t bytes);

Q_SIGNALS:
    /// A sentence about a recording that has just got into trouble, or out of it.
    void said(const QString& sentence);
    void alarmsAsked();
    void silenceAsked();

protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

private:
    void measureDisk();
    [[nodiscard]] QString keptOf(const RecordingStatus& recording);
    void showKept(const QString& words, bool wrong);
    void tellTrouble(const RecordingStatus& recording);
    void showAlarms();
    void arrange();
    Session& session_;
    /// Little room: shorter words, and no switch of the theme, which is among the actions too.
    bool compact_ = false;
    QToolButton* menu_;
    QLabel* state_;
    QPushButton* record_;
    QLabel* limits_;
    bool rings_ = false;
    QLabel* alarms_;  ///< the most urgent that nobody has acknowledged, and how many there are
    QLabel* kept_;
    QToolButton* actions_;
    QToolButton* theme_;
    std::shared_ptr<std::atomic<std::uint64_t>> freeBytes_ = std::make_shared<std::atomic<std::uint64_t>>(0);
    bool fixedFree_ = false;
    int ticks_ = 0;
    bool troubled_ = false, stuck_ = false;  // as last told
};

}  // namespace cruscotto
