#pragma once

#include <QElapsedTimer>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QTableWidget>
#include <QVBoxLayout>
#include <QWidget>
#include <limits>

#include "app/document/session.h"
#include "app/widgets/live_words.h"

namespace cruscotto {

/// The alarms that stand, the most urgent first, those that came together under the one that came first; acknowledged
/// one by one or all, with a name and a comment. Below them, where it is wanted, the journal of what became of all:
/// searched and saved.
class AlarmList : public QWidget {
    Q_OBJECT
public:
    AlarmList(Session& session, QWidget* parent);
    /// Of the bench or run that is open now.
    void open();
    /// Called by the frame clock while it is seen.
    void refresh();
    /// An alarm is heard now.
    void setRings(bool rings);
    void acknowledge(const std::string& rule);
    void acknowledgeAll();
    /// Not among the urgent ones for so long; 0: at once again.
    void shelve(const std::string& rule, Duration forTime);
    void showJournal(bool shown);
    /// Only entries with these words.
    void search(const QString& words);
    /// As a table for a spreadsheet. False, and said, where it cannot be written.
    bool saveJournal(const QString& path);
    [[nodiscard]] int rows() const { return rowsShown_; }
    [[nodiscard]] int journalRows() const { return journal_->rowCount(); }

Q_SIGNALS:
    void said(const QString& sentence);
    void silenceAsked();
    /// To see what it was then.
    void momentAsked(Instant at);

private:
    /// One row of those that are shown; it is kept, and shows another alarm when there is one.
    struct Row {
        QWidget* box;
        LiveWords *words, *state;
        QPushButton *rest, *seen, *shelve;
        QMenu* shelveFor = nullptr;
        QString shelveWords = {};
        std::string rule = {};
        bool shelved = false;
    };
    void show(const std::vector<Alarm>& now);
    using QWidget::show;
    void addRow();
    void fill(Row& row, const Alarm& alarm, int more);
    static void clear(Row& row);
    /// A line of the journal: what became of an alarm, or else of something that a run tells.
    struct Entry {
        Instant at;
        QString what, words, person, comment;
        AlarmEvent alarm = {};
    };
    void fillJournal();
    [[nodiscard]] std::vector<Entry> found() const;

    Session& session_;
    std::vector<Alarm> shown_;
    bool all_ = false;  ///< those that came with another one are listed too
    std::uint64_t seen_ = std::numeric_limits<std::uint64_t>::max();  ///< of the journal
    QWidget* head_;
    LiveWords* title_;
    QLineEdit *person_, *comment_, *words_;
    QPushButton *silence_, *allSeen_, *journalButton_, *save_;
    QVBoxLayout* rows_;
    std::vector<Row> row_;
    int rowsShown_ = 0;
    int rowsKept_ = 0;     ///< that have their place: those that are shown, or were a moment ago
    QElapsedTimer since_;  ///< when as many were last shown
    QWidget* journalBox_;
    QTableWidget* journal_;
    QLabel* more_;
};

}  // namespace cruscotto
