#pragma once

#include <QObject>
#include <QString>
#include <QUndoStack>
#include <future>
#include <map>
#include <memory>

#include "app/document/bench_document.h"
#include "app/document/measure_job.h"
#include "app/document/recording_jobs.h"
#include "app/document/recovery.h"
#include "app/document/runs_beside.h"
#include "app/document/time_cursor.h"
#include "core/bench/bench.h"
#include "core/bench/seen_readings.h"
#include "core/history/history_source.h"
#include "engine/engine.h"
#include "engine/run_source.h"

namespace cruscotto {

/// What rules would have done over a stretch.
struct Rehearsal {
    Span span;
    std::vector<RuleFiring> firings;
};

/// What is open: a bench that measures, or a run. Holds the document with its undo stack and the source of time and
/// data. Screen thread only.
class Session : public QObject {
    Q_OBJECT
public:
    explicit Session(QObject* parent = nullptr);
    ~Session() override;

    /// Begins to read the bench; benchChanged() and sourceChanged() follow, or failed(). What is open stays open until
    /// then. An example, and a file that may not be written, is opened as a copy: it has no file of its own, saving
    /// asks for a name, and the original stays as it is.
    /// A file that was not saved here, or was changed since, is shown with its outputs at rest until driveOutputs(),
    /// unless its outputs are simulated or it may `drive` them.
    enum class Outputs { asKnown, drive };
    void openBench(const QString& path, Outputs outputs = Outputs::asKnown);
    void openBenchDocument(Bench bench, const EngineOptions& options = {});
    [[nodiscard]] bool outputsAtRest() const { return engine_ && atRest_; }
    /// From now on the bench may do so, as it is in its file.
    void driveOutputs();
    /// Begins to read the run; benchChanged() and sourceChanged() follow when its pages are known, failed() if it is
    /// none.
    void openRun(const QString& path);
    /// The run that is open, with the readings of another version (0: as recorded; nothing: the newest). The page stays
    /// at its moment.
    void showVersion(std::optional<int> version);
    /// What was opened last is the run that was open before, in another version.
    [[nodiscard]] bool sameRun() const { return run_ && sameRun_; }
    /// Begins to save; saved() follows, or failed(). One at a time: a second call waits for the first.
    void save(const QString& path);
    /// Waits until the save that is going on has ended; true if it went well.
    bool waitForSave();

    [[nodiscard]] const Bench& bench() const { return bench_; }
    /// One entry of the undo stack, named by its effect ("Move tile"). Edits in a row with the same non-empty merge key
    /// become one.
    void edit(const QString& effect, Bench next, const QString& mergeKey = {});
    /// Of a run: another chain for a signal, to be tried and to work its readings out again with. Goes through the undo
    /// stack like an edit; what is shown stays as it is.
    void correct(const QString& effect, SignalSpec next);
    /// The signal with the chain that it would have.
    [[nodiscard]] const SignalSpec* corrected(const std::string& signal) const;
    /// Those whose chain would be another.
    using Corrections = std::map<std::string, SignalSpec>;
    [[nodiscard]] const Corrections& corrections() const { return corrections_; }
    [[nodiscard]] QUndoStack& undoStack() { return undo_; }
    [[nodiscard]] QString path() const { return path_; }
    /// The name of the example that the bench was opened as a copy of; empty for any other.
    [[nodiscard]] QString example() const { return engine_ ? example_ : QString(); }
    [[nodiscard]] bool unsaved() const { return !undo_.isClean(); }

    [[nodiscard]] bool openedNothing() const { return !engine_ && !run_; }
    [[nodiscard]] bool isRun() const { return run_ != nullptr; }
    [[nodiscard]] Engine* engine() { return engine_.get(); }  ///< null for a run
    [[nodiscard]] RunSource* run() { return run_.get(); }     ///< null for a bench
    [[nodiscard]] const RunSource* run() const { return run_.get(); }
    [[nodiscard]] const Source& source() const;
    /// How signals are shown, by what was seen of them.
    [[nodiscard]] SeenReadings& seen() { return seen_; }
    /// A reading as a number with the decimals that suit the signal; its unit separately.
    [[nodiscard]] QString numberText(const SignalSpec& s, double v) const;
    /// How many that are: fixed by hand; else by the signal's scale, and no more than two digits of its uncertainty.
    /// Where more is known than its noise and its converter's steps, as many as those two.
    [[nodiscard]] int decimalsOf(const SignalSpec& s) const;
    /// Twice its standard uncertainty as it was a moment ago; 0 where it is not known.
    [[nodiscard]] double expandedOf(const SignalSpec& s) const;
    /// The newest there is.
    [[nodiscard]] Instant end() const;
    /// What the page shows.
    [[nodiscard]] Instant shownAt() const { return cursor_.at(end()); }
    /// The stretch that it shows instead, where one stands.
    [[nodiscard]] std::optional<Span> stretch() const { return cursor_.stretch(end()); }
    [[nodiscard]] MeasureJob& measuring() { return measuring_; }
    /// What the rules would have done, on a thread of its own.
    [[nodiscard]] NewestJob<Rehearsal>& rehearsing() { return rehearsing_; }
    [[nodiscard]] TimeCursor& cursor() { return cursor_; }
    [[nodiscard]] const TimeCursor& cursor() const { return cursor_; }
    [[nodiscard]] std::vector<Mark> marks() const;
    /// Those that stand, as of the last frame.
    [[nodiscard]] const std::vector<Alarm>& alarms() const { return alarms_; }
    /// The most urgent one that stands about the signal, and is not over, shelved or suppressed; null: none.
    [[nodiscard]] const Alarm* alarmOn(const std::string& signal) const;
    /// When alarms were raised, in what is open.
    [[nodiscard]] std::vector<Instant> alarmTimes() const;
    [[nodiscard]] std::vector<Span> recordedSpans() const;
    /// Of the run that is open; as last changed.
    [[nodiscard]] RunNotes runNotes() const;
    [[nodiscard]] std::vector<RunMark> runMarks() const;
    /// What happened during the run that is open; none for a bench.
    [[nodiscard]] std::vector<RunEvent> runEvents() const;
    /// Begins to write these into the run that is open; noticed() or failed() follow.
    void describeRun(const RunNotes& notes, const std::vector<RunMark>& marks);

    /// Begin to start a recording in `folder`, or to end it: the disk is waited for elsewhere. recordingStarted() and
    /// recordingEnded() follow, or failed(). Do nothing while one of the two is under way.
    void startRecording(const QString& folder, const std::optional<ShotPlan>& plan = {});
    void stopRecording();
    /// Begins to write what is still in memory of the last `past` into a run in `folder`; noticed() or failed() follow.
    void keepPast(const QString& folder, Duration past);
    /// The same of a stretch.
    void keepStretch(const QString& folder, Span stretch);
    using Recording = RecordingJobs::Phase;
    [[nodiscard]] Recording recordingPhase() const;
    /// Where runs go: beside the bench's file, or the folder for documents.
    [[nodiscard]] QString runFolder() const;
    /// The same for a dialog to begin in: made if it is not there, the home folder where that fails.
    [[nodiscard]] QString folderToShow() const;
    /// Other runs, laid over what is open.
    [[nodiscard]] RunsBeside& beside() { return beside_; }
    [[nodiscard]] const RunsBeside& beside() const { return beside_; }

    /// The last run recorded in this session, or the one that is open; empty if there is none.
    /// A stretch that somebody wants an output to play, until there is a bench that can.
    struct ToPlay {
        PlayedSpec played;
        bool states = false;
        QString words;
    };
    void setToPlay(std::optional<ToPlay> what) { toPlay_ = std::move(what); }
    [[nodiscard]] const std::optional<ToPlay>& toPlay() const { return toPlay_; }
    [[nodiscard]] QString lastRun() const { return recordings_.lastRun(); }

    /// What would be lost if the process went now.
    [[nodiscard]] Recovery::Left worthKeeping() const;
    /// Goes on where a session was cut short.
    void restore(Recovery::Left left);

    /// Today, as 2026-11-29: what is due is judged by it. A test may have another one.
    [[nodiscard]] std::string today() const;
    void setToday(std::string day);

    /// Ends what is under way and stops measuring, in order: the recording closed, the outputs safe. Waits for that.
    void stop();

    /// Looks at what goes on in the background; called by the frame clock.
    void poll();

Q_SIGNALS:
    void benchChanged();
    void sourceChanged();
    void saved(const QString& path);
    void recordingStarted();
    void recordingEnded(const RecordingStatus& status);
    /// A stretch has been kept as a run.
    void kept(const QString& path, Span stretch);
    void failed(const QString& sentence);
    void noticed(const QString& sentence);
    /// A rule wants this page to be seen, or somebody to hear.
    void pageAsked(const QString& page);
    void toneAsked();

private:
    friend class BenchCommand;
    friend class CorrectionCommand;
    void take(Bench bench);
    void takeCorrections(Corrections next);
    void beginRun(std::unique_ptr<RunSource> run);
    void close();
    void begin(BenchDocument file, const EngineOptions& options);
    void endSave();
    void pollJobs();
    void obey(const RuleRequest& request);

    Bench bench_;
    QString path_, example_;
    QByteArray content_;  // of the file, while its outputs are at rest
    bool atRest_ = false;
    std::optional<ToPlay> toPlay_;
    QUndoStack undo_;
    TimeCursor cursor_;
    SeenReadings seen_;
    HistorySource nothing_;
    std::unique_ptr<Engine> engine_;
    std::unique_ptr<RunSource> run_;
    std::unique_ptr<RunSource> opening_;
    RunsBeside beside_{*this};
    bool sameRun_ = false;  // what is being opened is the run that is open, in another version
    Corrections corrections_;
    struct Digits {
        Instant at;
        double expanded = 0;
        bool claimed = false;
        int decimals = 0;
        ChainSpec chain;
        Duration pause;  ///< of one that takes long: it is not worked out again before
    };
    const Digits& digitsOf(const SignalSpec& s) const;
    mutable std::map<std::string, Digits> digits_;  // by signal, worked out again every two seconds or so
    static constexpr int digitsAFrame = 16;
    mutable int digitsLeft_ = digitsAFrame;  // so many more are worked out before the next poll()
    std::string today_;                      // empty: that of the computer's clock
    bool runDoneSaid_ = false, problemSaid_ = false;
    std::optional<Span> sleepSaid_;
    // Under way on threads of their own, looked after by poll(); each waits for its end before it goes.
    std::future<Result<BenchDocument>> reading_;
    std::future<Result<void>> saving_;
    QString savingTo_;
    int savedIndex_ = 0;
    bool saveWentWell_ = true;
    RecordingJobs recordings_;
    std::vector<Alarm> alarms_;
    MeasureJob measuring_;
    NewestJob<Rehearsal> rehearsing_;
    struct Description {
        RunNotes notes;
        std::vector<RunMark> marks;
    };
    std::future<Result<Description>> describing_;
    std::optional<Description> described_;  // instead of what the run had when it was opened
};

}  // namespace cruscotto
