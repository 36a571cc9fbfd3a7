#pragma once

#include <QCheckBox>
#include <QCoreApplication>
#include <QDialog>
#include <QFormLayout>
#include <QLabel>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QTableWidget>
#include <functional>

#include "app/widgets/fields.h"
#include "core/run/run_reader.h"

namespace cruscotto {

/// Title, person, specimen and words of a run, as rows of a form; the fields belong to the form's dialog.
class NotesRows {
    Q_DECLARE_TR_FUNCTIONS(NotesRows)
public:
    explicit NotesRows(const RunNotes& notes);
    /// `over`: of a run that was made, which can have a verdict.
    void addTo(QFormLayout* form, bool over = false);
    [[nodiscard]] RunNotes notes() const;
    /// Calls it whenever one of them is edited.
    void onEdit(QObject* context, const std::function<void()>& what);

private:
    Field* title_;
    Field* person_;
    Field* specimen_;
    Field* verdict_;
    QPlainTextEdit* words_;
};

/// How runs are named, cut into files and described, with what they will take of the disk.
class RecordingDialog : public QDialog {
    Q_OBJECT
public:
    /// `bytesPerSecond`: what the bench measures now; `freeBytes` of the disk, 0 where it is not known.
    RecordingDialog(const Bench& bench, double bytesPerSecond, std::uint64_t freeBytes, QWidget* parent);
    [[nodiscard]] const RecordingSpec& spec() const { return spec_; }

private:
    void work();

    const std::string benchName_;
    const double bytesPerSecond_;
    const std::uint64_t freeBytes_;
    RecordingSpec spec_;
    Field* name_;
    QLabel* example_;
    Field* minutes_;
    Field* megabytes_;
    Field* keepFree_;
    QCheckBox* preflight_;
    NotesRows notes_;
    QLabel* sentence_;
    QPushButton* go_;
};

/// What people wrote about a recorded run, and its marks.
class RunNotesDialog : public QDialog {
    Q_OBJECT
public:
    /// Times of marks are shown and typed in seconds from `start`.
    RunNotesDialog(const RunNotes& notes, const std::vector<RunMark>& marks, Instant start, Instant shownAt,
                   QWidget* parent);
    [[nodiscard]] RunNotes notes() const { return notes_.notes(); }
    [[nodiscard]] const std::vector<RunMark>& marks() const { return marks_; }

private:
    void addRow(Instant at, const QString& words);
    void work();

    const Instant start_;
    NotesRows notes_;
    QTableWidget* table_;
    QLabel* sentence_;
    QPushButton* remove_;
    QPushButton* go_;
    std::vector<RunMark> marks_;
};

/// Which readings of a run to show: those that were recorded, or a version of them that was worked out again.
class VersionDialog : public QDialog {
    Q_OBJECT
public:
    VersionDialog(const RunInfo& run, QWidget* parent);
    /// 0: as recorded.
    [[nodiscard]] int version() const;

private:
    QTableWidget* table_;
};

}  // namespace cruscotto
