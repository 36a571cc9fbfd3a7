#pragma once

#include <QCheckBox>
#include <QLabel>
#include <QPushButton>
#include <QScrollArea>
#include <QTabBar>
#include <QTableWidget>
#include <QToolButton>

#include "app/document/session.h"
#include "app/run/finding_list.h"
#include "app/widgets/fields.h"

namespace cruscotto {

/// Runs side by side: which lie over what is open and how, and what comes of it: what differs, the measures of all, or
/// how what is open lies to the band that they make.
class BesidePanel : public QScrollArea {
    Q_OBJECT
public:
    BesidePanel(Session& session, QWidget* parent);
    /// `signal`: whose measures are shown at first.
    void open(const QString& signal);
    void refresh(bool digits);
    enum class Told { differences, measures, band };
    void tell(Told what);
    [[nodiscard]] Told told() const { return told_; }
    [[nodiscard]] const FindingList& differences() const { return *differences_; }
    [[nodiscard]] const QTableWidget& table() const { return *table_; }
    [[nodiscard]] QString verdictWords() const { return verdicts_->text(); }

Q_SIGNALS:
    void closeAsked();
    void addAsked();
    void libraryAsked();
    void signalAsked(const QString& signal);

private:
    void rebuild();
    void rebuildChoices();
    /// Which of the fields are to be seen.
    void showFields();
    void takeView();
    void ask();
    void showTable(const std::vector<RunTableRow>& rows);
    void judge();
    [[nodiscard]] QString tableWords() const;

    Session& session_;
    Told told_ = Told::differences;
    QVBoxLayout* runs_;
    Choice* by_;
    QWidget* crossing_;
    Choice* crossingOf_;
    Field* level_;
    Choice* direction_;
    Choice* drawn_;
    QCheckBox* difference_;
    QLabel* why_;
    QTabBar* tabs_;
    QLabel* against_;  ///< what is held against what
    Choice* with_;     ///< the run that is held against what is open
    QWidget* withBox_;
    Choice* signal_;
    QWidget* signalBox_;
    QLabel* state_;
    FindingList* differences_;
    QTableWidget* table_;
    QWidget* bandBox_;
    Field* spreads_;
    Field* allowance_;
    QLabel* verdicts_;
    QToolButton* copy_;
    std::optional<Span> askedOver_;
    Instant judgedAt_;
};

}  // namespace cruscotto
