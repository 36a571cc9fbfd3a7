#include "app/document/recording_jobs.h"

#include <QDateTime>
#include <QDir>
#include <QFile>

#include "app/widgets/words.h"
#include "core/bench/run_name.h"

namespace cruscotto {

namespace {

/// A name for a new run of this bench that nothing has yet; makes the folder where it is missing.
Result<QString> freePath(const QString& folder, const Bench& bench) {
    if (!QDir().mkpath(folder))
        return failure("The folder {0} cannot be made. Choose another one.", folder.toStdString());
    const RunNameParts parts{bench.name, bench.recording.notes.title, QDateTime::currentMSecsSinceEpoch() * 1'000'000};
    return folder + "/" + shown(runName(bench.recording.name, parts, [&](const std::string& name) {
               return QFile::exists(folder + "/" + shown(name));
           }));
}

}  // namespace

void RecordingJobs::start(Engine& engine, const Bench& bench, const QString& folder,
                          const std::optional<ShotPlan>& plan) {
    if (starting_.valid() || ending_.valid()) return;
    starting_ = std::async(std::launch::async, [&engine, folder, bench, plan]() -> Result<QString> {
        auto path = freePath(folder, bench);
        if (!path) return path;
        if (auto begun = engine.startRecording(path.value().toStdString(), plan); !begun) return begun.error();
        return path;
    });
}

void RecordingJobs::stop(Engine& engine) {
    if (starting_.valid() || ending_.valid()) return;
    ending_ = std::async(std::launch::async, [&engine] { return engine.stopRecording(); });
}

void RecordingJobs::keep(Engine& engine, const Bench& bench, const QString& folder, Span stretch) {
    if (keeping_.valid()) return;
    keeping_ = std::async(std::launch::async, [&engine, folder, bench, stretch]() -> Result<std::pair<QString, Span>> {
        auto path = freePath(folder, bench);
        if (!path) return path.error();
        auto kept = engine.keep(path.value().toStdString(), stretch);
        if (!kept) return kept.error();
        return std::pair{path.value(), kept.value()};
    });
}

RecordingJobs::Phase RecordingJobs::phase(const Engine* engine) const {
    if (starting_.valid()) return Phase::starting;
    if (ending_.valid()) return Phase::ending;
    return engine && engine->recording().active ? Phase::going : Phase::none;
}

void RecordingJobs::poll(Engine* engine) {
    if (isReady(starting_)) {
        const auto begun = starting_.get();
        if (begun) {
            lastRun_ = begun.value();
            Q_EMIT started();
        } else {
            Q_EMIT failed(shown(begun.error().message));
        }
    }
    if (isReady(keeping_)) {
        const auto kept = keeping_.get();
        if (kept) {
            lastRun_ = kept.value().first;
            Q_EMIT noticed(tr("Kept %1 in %2. Ctrl+L opens it.")
                               .arg(shown(roughText(kept.value().second.to - kept.value().second.from)), lastRun_));
            Q_EMIT this->kept(lastRun_, kept.value().second);
        } else {
            Q_EMIT failed(shown(kept.error().message));
        }
    }
    if (isReady(ending_)) Q_EMIT ended(ending_.get());
    if (engine && !starting_.valid() && !ending_.valid())
        if (const RecordingStatus r = engine->recording(); r.active && r.complete) stop(*engine);
}

void RecordingJobs::finish() {
    if (starting_.valid()) (void)starting_.get();
    if (ending_.valid()) (void)ending_.get();
    if (keeping_.valid()) (void)keeping_.get();
}

}  // namespace cruscotto
