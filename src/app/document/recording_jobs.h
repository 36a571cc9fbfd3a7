#pragma once

#include <QObject>
#include <QString>
#include <future>
#include <optional>

#include "core/bench/bench.h"
#include "engine/engine.h"

namespace cruscotto {

/// Recordings of a running bench, begun and ended on threads of their own, since the disk may keep them waiting.
/// Screen thread only; the engine that is given to it lives until finish().
class RecordingJobs : public QObject {
    Q_OBJECT
public:
    enum class Phase { none, starting, going, ending };
    using QObject::QObject;

    /// Begins to start a recording in `folder`, or to end it. Do nothing while one of the two is under way.
    void start(Engine& engine, const Bench& bench, const QString& folder, const std::optional<ShotPlan>& plan);
    void stop(Engine& engine);
    /// Begins to write what is still in memory of the last `past` into a run in `folder`.
    void keep(Engine& engine, const Bench& bench, const QString& folder, Span stretch);
    [[nodiscard]] Phase phase(const Engine* engine) const;
    /// The last run that was begun or kept; empty if there is none.
    [[nodiscard]] QString lastRun() const { return lastRun_; }
    void setLastRun(const QString& path) { lastRun_ = path; }

    /// Tells what has ended; ends a recording of shots that is complete.
    void poll(Engine* engine);
    /// Waits for what is under way.
    void finish();

Q_SIGNALS:
    void started();
    void ended(const RecordingStatus& status);
    void kept(const QString& path, Span stretch);
    void failed(const QString& sentence);
    void noticed(const QString& sentence);

private:
    std::future<Result<QString>> starting_;
    std::future<RecordingStatus> ending_;
    std::future<Result<std::pair<QString, Span>>> keeping_;
    QString lastRun_;
};

template <class T>
bool isReady(const std::future<T>& job) {
    return job.valid() && job.wait_for(std::chrono::seconds(0)) == std::future_status::ready;
}

}  // namespace cruscotto
