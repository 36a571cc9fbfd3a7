#include "app/document/session.h"

#include <QDate>
#include <QDir>
#include <QFileInfo>
#include <QStandardPaths>

#include "app/document/known_benches.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/rule_edits.h"
#include "core/bench/uncertainty.h"
#include "core/run/run_notes.h"

namespace cruscotto {

/// One edit of the bench: the version before and the one after. They share all parts that the edit left alone.
class BenchCommand : public QUndoCommand {
public:
    BenchCommand(Session& session, const QString& effect, Bench before, Bench after, QString mergeKey)
        : QUndoCommand(effect),
          session_(session),
          before_(std::move(before)),
          after_(std::move(after)),
          mergeKey_(std::move(mergeKey)) {}
    void redo() override { session_.take(after_); }
    void undo() override { session_.take(before_); }
    [[nodiscard]] int id() const override { return mergeKey_.isEmpty() ? -1 : 1; }
    bool mergeWith(const QUndoCommand* other) override {
        const auto* next = static_cast<const BenchCommand*>(other);
        if (next->mergeKey_ != mergeKey_) return false;
        after_ = next->after_;
        return true;
    }

private:
    Session& session_;
    const Bench before_;
    Bench after_;
    const QString mergeKey_;
};

/// Another set of chains to try on a run.
class CorrectionCommand : public QUndoCommand {
public:
    CorrectionCommand(Session& session, const QString& effect, Session::Corrections before, Session::Corrections after)
        : QUndoCommand(effect), session_(session), before_(std::move(before)), after_(std::move(after)) {}
    void redo() override { session_.takeCorrections(after_); }
    void undo() override { session_.takeCorrections(before_); }

private:
    Session& session_;
    const Session::Corrections before_, after_;
};

Session::Session(QObject* parent) : QObject(parent) {
    undo_.setUndoLimit(500);
    connect(&recordings_, &RecordingJobs::started, this, &Session::recordingStarted);
    connect(&recordings_, &RecordingJobs::ended, this, &Session::recordingEnded);
    connect(&recordings_, &RecordingJobs::kept, this, &Session::kept);
    connect(&recordings_, &RecordingJobs::failed, this, &Session::failed);
    connect(&recordings_, &RecordingJobs::noticed, this, &Session::noticed);
}
Session::~Session() {
    beside_.blockSignals(true);  // who would hear of it goes too
    close();
}

void Session::stop() {
    if (engine_) engine_->endOutputs();  // what follows may wait for a disk
    recordings_.finish();                // they use the engine
    if (describing_.valid()) (void)describing_.get();
    waitForSave();
    if (engine_) engine_->stop();
}

QString Session::numberText(const SignalSpec& s, double v) const {
    return shown(readingText(v, decimalsOf(s)));
}

const Session::Digits& Session::digitsOf(const SignalSpec& s) const {
    const Instant t = shownAt();
    const auto [it, fresh] = digits_.try_emplace(s.id);
    Digits& d = it->second;
    // Of many signals each has its turn: a frame must not wait for hundreds.
    constexpr std::size_t soonDone = 64;
    const Duration again =
        std::max(milliseconds(2000 * static_cast<std::int64_t>(1 + digits_.size() / soonDone)), d.pause);
    const bool same = !fresh && d.chain == s.chain;
    if ((same && t >= d.at && t - d.at < again) || digitsLeft_ <= 0) return d;
    --digitsLeft_;
    const auto made = uncertaintyAt(bench_, source(), s.id, t);
    constexpr std::int64_t restPerReading = 500'000;  // ns; half a percent of a processor's time
    d.pause = {made ? static_cast<std::int64_t>(made.value().wentOver) * restPerReading : 0};
    d.at = t;
    d.chain = s.chain;
    d.expanded = made ? made.value().expanded() : 0;
    d.claimed = made && made.value().claimed;
    // A width is kept until it is wrong by more than a little: digits must not come and go.
    constexpr double reluctance = 1.2;
    const int fewest = decimalsFor(d.expanded * reluctance), most = decimalsFor(d.expanded / reluctance);
    if (!same || d.decimals < fewest || d.decimals > most) d.decimals = decimalsFor(d.expanded);
    return d;
}

int Session::decimalsOf(const SignalSpec& s) const {
    if (s.decimals) return *s.decimals;
    const int usual = seen_.decimalsOf(s);
    if (s.isState() || isOutput(s.kind) || readsWhole(s)) return usual;
    const Digits& d = digitsOf(s);
    if (!(d.expanded > 0)) return usual;
    constexpr int mostShown = 6;
    return d.claimed ? std::min(d.decimals, mostShown) : std::min(usual, d.decimals);
}

double Session::expandedOf(const SignalSpec& s) const {
    return s.isState() || isOutput(s.kind) ? 0 : digitsOf(s).expanded;
}

void Session::close() {
    stop();
    measuring_.stop();
    rehearsing_.stop();
    beside_.clear();
    engine_.reset();
    run_.reset();
    opening_.reset();
    reading_ = {};
    runDoneSaid_ = problemSaid_ = false;
    corrections_.clear();
    seen_.clear();
    digits_.clear();
    cursor_.goToEnd();
    cursor_.endStretch();
}

void Session::openBench(const QString& path, Outputs outputs) {
    opening_.reset();
    reading_ = std::async(std::launch::async, readBenchDocument, path, outputs == Outputs::drive);
}

void Session::driveOutputs() {
    if (!outputsAtRest()) return;
    KnownBenches().remember(content_);
    content_.clear();
    atRest_ = false;
    engine_->driveOutputs();
}

void Session::openBenchDocument(Bench bench, const EngineOptions& options) {
    begin({std::move(bench), {}, {}}, options);
}

void Session::begin(BenchDocument file, const EngineOptions& options) {
    close();
    bench_ = std::move(file.bench);
    path_ = file.path;
    example_ = file.example;
    undo_.clear();
    cursor_.setWindow(seconds(bench_.windowSeconds));
    EngineOptions asked = options;
    atRest_ = asked.outputsAtRest = asked.outputsAtRest || !file.mayDrive;
    content_ = file.content;
    engine_ = Engine::start(bench_, asked);
    Q_EMIT sourceChanged();
    Q_EMIT benchChanged();
}

Recovery::Left Session::worthKeeping() const {
    if (!engine_) return {};
    const RecordingStatus recording = engine_->recording();
    return {bench_, path_, unsaved(), recording.active ? shown(recording.path) : QString(), false, outputsAtRest()};
}

void Session::restore(Recovery::Left left) {
    begin({std::move(left.bench), left.path, {}, {}, !left.atRest}, {});
    if (left.unsaved) undo_.resetClean();
    if (!left.run.isEmpty()) recordings_.setLastRun(left.run);
    QString words = left.inOrder ? tr("Cruscotto was ended from outside last time.")
                                 : tr("Cruscotto did not end in order last time.");
    if (left.unsaved) words += " " + tr("Your unsaved edits are here again.");
    if (!left.run.isEmpty())
        words += " " + tr("The recording is whole up to then: Ctrl+L opens %1.").arg(QFileInfo(left.run).fileName());
    Q_EMIT benchChanged();
    Q_EMIT noticed(words);
}

void Session::openRun(const QString& path) {
    reading_ = {};
    opening_ = std::make_unique<RunSource>(path.toStdString());
    sameRun_ = false;
    recordings_.setLastRun(path);
}

void Session::showVersion(std::optional<int> version) {
    if (!run_ || !run_->info()) return;
    opening_ = std::make_unique<RunSource>(run_->info()->path, std::size_t{1} << 30, version);
    sameRun_ = true;
}

void Session::correct(const QString& effect, SignalSpec next) {
    const SignalSpec* now = bench_.signal(next.id);
    if (!run_ || !now) return;
    Corrections after = corrections_;
    if (next.chain == now->chain)
        after.erase(next.id);
    else
        after[next.id] = std::move(next);
    if (after != corrections_) undo_.push(new CorrectionCommand(*this, effect, corrections_, std::move(after)));
}

const SignalSpec* Session::corrected(const std::string& signal) const {
    const auto it = corrections_.find(signal);
    return it == corrections_.end() ? bench_.signal(signal) : &it->second;
}

void Session::takeCorrections(Corrections next) {
    const Corrections before = std::exchange(corrections_, std::move(next));
    for (const Corrections* some : {&before, &std::as_const(corrections_)})
        for (const auto& [id, spec] : *some)
            if (const SignalSpec* now = corrected(id); run_ && now) run_->tryChain(id, now->chain);
    Q_EMIT benchChanged();
}

void Session::save(const QString& path) {
    waitForSave();
    bench_.windowSeconds = cursor_.window().seconds();
    savingTo_ = path;
    savedIndex_ = undo_.index();
    saving_ = std::async(std::launch::async, [bench = bench_, to = path.toStdString(), known = !outputsAtRest()] {
        auto saved = saveBench(bench, to);
        if (saved && known) KnownBenches().remember(QByteArray::fromStdString(writeBench(bench)));
        return saved;
    });
}

bool Session::waitForSave() {
    if (saving_.valid()) endSave();
    return saveWentWell_;
}

void Session::endSave() {
    const Result<void> result = saving_.get();
    saveWentWell_ = result.ok();
    if (!result) return Q_EMIT failed(shown(result.error().message));
    path_ = QFileInfo(savingTo_).absoluteFilePath();
    // What was edited meanwhile is not in the file.
    if (undo_.index() == savedIndex_) undo_.setClean();
    Q_EMIT saved(path_);
}

void Session::edit(const QString& effect, Bench next, const QString& mergeKey) {
    if (sameBench(next, bench_)) return;
    undo_.push(new BenchCommand(*this, effect, bench_, std::move(next), mergeKey));
}

void Session::take(Bench bench) {
    bench_ = std::move(bench);
    if (engine_) engine_->apply(bench_);
    Q_EMIT benchChanged();
}

const Source& Session::source() const {
    if (engine_) return engine_->source();
    if (run_) return *run_;
    return nothing_;
}

Instant Session::end() const {
    if (engine_) return engine_->now();
    return source().extent().to;
}

std::vector<Mark> Session::marks() const {
    if (engine_) return engine_->marks();
    std::vector<Mark> out;
    for (const RunMark& m : runMarks()) out.push_back({m.at, m.words});
    return out;
}

RunNotes Session::runNotes() const {
    if (described_) return described_->notes;
    const auto info = run_ ? run_->info() : nullptr;
    return info ? info->notes : RunNotes{};
}

std::vector<RunMark> Session::runMarks() const {
    if (described_) return described_->marks;
    const auto info = run_ ? run_->info() : nullptr;
    return info ? info->marks : std::vector<RunMark>{};
}

void Session::describeRun(const RunNotes& notes, const std::vector<RunMark>& marks) {
    if (!run_ || !run_->info() || describing_.valid()) return;
    describing_ = std::async(std::launch::async, [path = run_->info()->path, notes, marks]() -> Result<Description> {
        if (auto done = cruscotto::describeRun(path, notes, marks); !done) return done.error();
        return Description{notes, marks};
    });
}

std::vector<Span> Session::recordedSpans() const {
    if (engine_) return engine_->recordedSpans();
    return {};
}

QString Session::runFolder() const {
    if (!path_.isEmpty()) return QFileInfo(path_).absolutePath();
    return QStandardPaths::writableLocation(QStandardPaths::DocumentsLocation) + "/Cruscotto";
}

QString Session::folderToShow() const {
    return QDir().mkpath(runFolder()) ? runFolder() : QDir::homePath();
}

Session::Recording Session::recordingPhase() const {
    return recordings_.phase(engine_.get());
}

void Session::startRecording(const QString& folder, const std::optional<ShotPlan>& plan) {
    if (!engine_) return Q_EMIT failed(tr("A run is open; nothing is measured. Open a bench to record."));
    recordings_.start(*engine_, bench_, folder, plan);
}

void Session::stopRecording() {
    if (engine_) recordings_.stop(*engine_);
}

void Session::keepPast(const QString& folder, Duration past) {
    if (engine_) recordings_.keep(*engine_, bench_, folder, {engine_->now() - past, engine_->now()});
}

void Session::keepStretch(const QString& folder, Span stretch) {
    if (engine_) recordings_.keep(*engine_, bench_, folder, stretch);
}

const Alarm* Session::alarmOn(const std::string& signal) const {
    const auto it = std::ranges::find_if(alarms_, [&](const Alarm& a) {
        return (a.state == AlarmState::unacknowledged || a.state == AlarmState::acknowledged) &&
               std::ranges::find(a.signals, signal) != a.signals.end();
    });
    return it == alarms_.end() ? nullptr : &*it;
}

std::vector<RunEvent> Session::runEvents() const {
    return run_ && run_->state().opened ? run_->info()->events : std::vector<RunEvent>();
}

std::vector<Instant> Session::alarmTimes() const {
    std::vector<Instant> out;
    for (const RunEvent& e : runEvents())
        if (e.kind == "alarm" && e.words.starts_with(alarmEventName(AlarmEvent::What::raised))) out.push_back(e.at);
    if (engine_) {
        for (const AlarmEvent& e : engine_->alarmJournal())
            if (e.what == AlarmEvent::What::raised) out.push_back(e.at);
    }
    return out;
}

void Session::pollJobs() {
    if (isReady(reading_)) {
        auto read = reading_.get();
        if (read)
            begin(std::move(read.value()), {});
        else
            Q_EMIT failed(shown(read.error().message));
    }
    if (isReady(saving_)) endSave();
    if (isReady(describing_)) {
        auto written = describing_.get();
        if (written) {
            described_ = std::move(written.value());
            Q_EMIT noticed(tr("The notes and marks are written into the run."));
        } else {
            Q_EMIT failed(shown(written.error().message));
        }
    }
    recordings_.poll(engine_.get());
}

void Session::beginRun(std::unique_ptr<RunSource> run) {
    const std::optional<Instant> stood = cursor_.atEnd() || !sameRun_ ? std::nullopt : std::optional(shownAt());
    close();
    run_ = std::move(run);
    described_.reset();
    const std::vector<std::shared_ptr<const PageSpec>> pages = bench_.pages;
    bench_ = run_->info()->bench;
    if (sameRun_) bench_.pages = pages;
    path_.clear();
    undo_.clear();
    if (!sameRun_) cursor_.setWindow(seconds(bench_.windowSeconds));
    if (stood) cursor_.goTo(*stood);
    Q_EMIT sourceChanged();
    Q_EMIT benchChanged();
}

void Session::poll() {
    beside_.poll();
    digitsLeft_ = digitsAFrame;
    pollJobs();
    alarms_ = engine_ ? engine_->alarms() : std::vector<Alarm>();
    if (engine_ && !problemSaid_)
        if (const Text problem = engine_->problem(); !problem.empty()) {
            problemSaid_ = true;
            Q_EMIT failed(shown(problem));
        }
    if (engine_)
        for (const RuleRequest& request : engine_->takeRuleRequests()) obey(request);
    if (const auto sleep = engine_ ? engine_->lastSleep() : std::nullopt; sleep != sleepSaid_) {
        sleepSaid_ = sleep;
        if (sleep)
            Q_EMIT noticed(tr("The computer slept for %1. Nothing was measured meanwhile; the gap is marked.")
                               .arg(shown(roughText(sleep->to - sleep->from))));
    }
    if (opening_) {
        const RunSource::State state = opening_->state();
        if (state.error) {
            opening_.reset();
            Q_EMIT failed(shown(state.error->message));
        } else if (state.opened) {
            beginRun(std::move(opening_));
        }
    }
    if (run_ && !runDoneSaid_) {
        const RunSource::State state = run_->state();
        if (!state.done) return;
        runDoneSaid_ = true;
        if (!run_->info()->problems.empty()) {
            QString words;
            for (const Text& p : run_->info()->problems) words += (words.isEmpty() ? "" : " ") + shown(p);
            Q_EMIT noticed(words);
        } else if (state.damagedBlocks)
            Q_EMIT noticed(counted(state.damagedBlocks,
                                   tr("A block of this run is damaged and was passed over; the rest is whole."),
                                   tr("%1 blocks of this run are damaged and were passed over; the rest is whole.")));
        else if (!run_->info()->closed)
            Q_EMIT noticed(
                tr("This run was not closed in order: it is still being recorded, or was cut short. What is here is "
                   "whole."));
    }
}

void Session::obey(const RuleRequest& request) {
    const QString name = [&] {
        for (const auto& rule : bench_.rules)
            if (rule->id == request.rule) return shown(rule->name);
        return shown(request.rule);
    }();
    switch (request.action.kind) {
        case ActionKind::record:
            if (recordingPhase() == Recording::none) startRecording(runFolder());
            Q_EMIT noticed(tr("\"%1\" has begun a recording.").arg(name));
            break;
        case ActionKind::endRecording:
            stopRecording();
            Q_EMIT noticed(tr("\"%1\" has ended the recording.").arg(name));
            break;
        case ActionKind::keep:
            keepPast(runFolder(), seconds(request.action.seconds));
            break;
        case ActionKind::page:
            Q_EMIT pageAsked(shown(request.action.on));
            break;
        case ActionKind::tone:
            Q_EMIT toneAsked();
            break;
        case ActionKind::reset:
            if (const SignalSpec* s = bench_.signal(request.action.on))
                if (auto next = withTotalReset(*s)) take(withSignal(bench_, std::move(*next)));
            Q_EMIT noticed(tr("\"%1\" has begun a total anew.").arg(name));
            break;
        default:
            break;
    }
}

std::string Session::today() const {
    return today_.empty() ? QDate::currentDate().toString(Qt::ISODate).toStdString() : today_;
}

void Session::setToday(std::string day) {
    today_ = std::move(day);
    Q_EMIT benchChanged();
}

}  // namespace cruscotto
