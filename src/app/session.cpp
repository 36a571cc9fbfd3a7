#include "app/session.h"

#include <QDateTime>
#include <QDir>
#include <QFile>
#include <QFileInfo>
#include <QStandardPaths>

#include "app/words.h"

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

Session::Session(QObject* parent) : QObject(parent) {
    undo_.setUndoLimit(500);
}
Session::~Session() {
    close();
}

void Session::close() {
    if (engine_) engine_->stop();
    engine_.reset();
    run_.reset();
    opening_.reset();
    runDoneSaid_ = false;
    cursor_.goToEnd();
}

Result<void> Session::openBench(const QString& path, bool asCopy) {
    // Read through Qt, so that an example inside the program opens like a file.
    QFile file(path);
    if (!file.open(QIODevice::ReadOnly))
        return failure("{0} cannot be read. Is the name right, and may you read it?", path.toStdString());
    BenchReading reading = readBench(file.readAll().toStdString());
    std::vector<Problem> problems = reading.problems;
    if (reading.bench) problems = checkDevices(*reading.bench);
    if (!problems.empty()) {
        const std::string more = problems.size() > 1 ? fmt::format(" (and {} more)", problems.size() - 1) : "";
        return failure("{0} is not opened: {1}{2}", QFileInfo(path).fileName().toStdString(),
                       problems.front().english(), more);
    }
    openBenchDocument(std::move(*reading.bench));
    path_ = asCopy ? QString() : QFileInfo(path).absoluteFilePath();
    return {};
}

void Session::openBenchDocument(Bench bench, const EngineOptions& options) {
    close();
    bench_ = std::move(bench);
    path_.clear();
    undo_.clear();
    cursor_.setWindow(seconds(bench_.windowSeconds));
    engine_ = Engine::start(bench_, options);
    Q_EMIT sourceChanged();
    Q_EMIT benchChanged();
}

void Session::openRun(const QString& path) {
    opening_ = std::make_unique<RunSource>(path.toStdString());
    lastRun_ = path;
    poll();
}

Result<void> Session::save(const QString& path) {
    bench_.windowSeconds = cursor_.window().seconds();
    auto saved = saveBench(bench_, path.toStdString());
    if (!saved) return saved;
    path_ = QFileInfo(path).absoluteFilePath();
    undo_.setClean();
    return {};
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
    if (run_)
        if (const auto info = run_->info())
            for (const RunMark& m : info->marks) out.push_back({m.at, m.words});
    return out;
}

std::vector<Span> Session::recordedSpans() const {
    if (engine_) return engine_->recordedSpans();
    return {};
}

QString Session::runFolder() const {
    if (!path_.isEmpty()) return QFileInfo(path_).absolutePath();
    return QStandardPaths::writableLocation(QStandardPaths::DocumentsLocation) + "/Cruscotto";
}

Result<void> Session::startRecording(const QString& folder) {
    if (!engine_) return failure("A run is open; nothing is measured. Open a bench to record.");
    if (!QDir().mkpath(folder))
        return failure("The folder {0} cannot be made. Choose another one.", folder.toStdString());
    const QString base = shown(freshId(bench_.name, {})) + QDateTime::currentDateTime().toString("-yyyyMMdd-HHmmss");
    QString path = folder + "/" + base + ".run";
    for (int n = 2; QFile::exists(path); ++n) path = folder + "/" + base + QString("-%1.run").arg(n);
    auto started = engine_->startRecording(path.toStdString());
    if (started) lastRun_ = path;
    return started;
}

RecordingStatus Session::stopRecording() {
    return engine_ ? engine_->stopRecording() : RecordingStatus{};
}

void Session::poll() {
    if (opening_) {
        const RunSource::State state = opening_->state();
        if (state.error) {
            opening_.reset();
            Q_EMIT failed(shown(state.error->message));
        } else if (state.opened) {
            auto run = std::move(opening_);
            close();
            run_ = std::move(run);
            bench_ = run_->info()->bench;
            path_.clear();
            undo_.clear();
            cursor_.setWindow(seconds(bench_.windowSeconds));
            Q_EMIT sourceChanged();
            Q_EMIT benchChanged();
        }
    }
    if (run_ && !runDoneSaid_) {
        const RunSource::State state = run_->state();
        if (!state.done) return;
        runDoneSaid_ = true;
        if (state.damagedBlocks)
            Q_EMIT noticed(tr("%n block(s) of this run are damaged and were passed over; the rest is whole.", nullptr,
                              static_cast<int>(state.damagedBlocks)));
        else if (!run_->info()->closed)
            Q_EMIT noticed(
                tr("This run was not closed in order: it is still being recorded, or was cut short. What is here is "
                   "whole."));
    }
}

}  // namespace cruscotto
