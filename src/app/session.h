#pragma once

#include <QObject>
#include <QString>
#include <QUndoStack>
#include <memory>

#include "app/time_cursor.h"
#include "core/bench.h"
#include "engine/engine.h"
#include "engine/run_source.h"

namespace cruscotto {

/// What is open: a bench that measures, or a run. Holds the document with its undo stack and the source of time and
/// data. Screen thread only.
class Session : public QObject {
    Q_OBJECT
public:
    explicit Session(QObject* parent = nullptr);
    ~Session() override;

    /// Replaces what is open. A copy has no file of its own: saving asks for a name, and the original stays as it is.
    Result<void> openBench(const QString& path, bool asCopy);
    void openBenchDocument(Bench bench, const EngineOptions& options = {});
    /// Begins to read the run; benchChanged() and sourceChanged() follow when its pages are known, failed() if it is
    /// none.
    void openRun(const QString& path);
    Result<void> save(const QString& path);

    [[nodiscard]] const Bench& bench() const { return bench_; }
    /// One entry of the undo stack, named by its effect ("Move tile"). Edits in a row with the same non-empty merge key
    /// become one.
    void edit(const QString& effect, Bench next, const QString& mergeKey = {});
    [[nodiscard]] QUndoStack& undoStack() { return undo_; }
    [[nodiscard]] QString path() const { return path_; }
    [[nodiscard]] bool unsaved() const { return !undo_.isClean(); }

    [[nodiscard]] bool isRun() const { return run_ != nullptr; }
    [[nodiscard]] Engine* engine() { return engine_.get(); }  ///< null for a run
    [[nodiscard]] RunSource* run() { return run_.get(); }     ///< null for a bench
    [[nodiscard]] const Source& source() const;
    /// The newest there is.
    [[nodiscard]] Instant end() const;
    /// What the page shows.
    [[nodiscard]] Instant shownAt() const { return cursor_.at(end()); }
    [[nodiscard]] TimeCursor& cursor() { return cursor_; }
    [[nodiscard]] const TimeCursor& cursor() const { return cursor_; }
    [[nodiscard]] std::vector<Mark> marks() const;
    [[nodiscard]] std::vector<Span> recordedSpans() const;

    /// Starts or stops recording into `folder`; the sentence says what happened where it is not plain to see.
    Result<void> startRecording(const QString& folder);
    RecordingStatus stopRecording();
    /// Where runs go: beside the bench's file, or the folder for documents.
    [[nodiscard]] QString runFolder() const;
    /// The last run recorded in this session, or the one that is open; empty if there is none.
    [[nodiscard]] QString lastRun() const { return lastRun_; }

    /// Looks at what goes on in the background; called by the frame clock.
    void poll();

Q_SIGNALS:
    void benchChanged();
    void sourceChanged();
    void failed(const QString& sentence);
    void noticed(const QString& sentence);

private:
    friend class BenchCommand;
    void take(Bench bench);
    void close();

    Bench bench_;
    QString path_;
    QString lastRun_;
    QUndoStack undo_;
    TimeCursor cursor_;
    HistorySource nothing_;
    std::unique_ptr<Engine> engine_;
    std::unique_ptr<RunSource> run_;
    std::unique_ptr<RunSource> opening_;
    bool runDoneSaid_ = false;
};

}  // namespace cruscotto
