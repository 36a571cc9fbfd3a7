#pragma once

#include <QObject>
#include <QString>
#include <atomic>
#include <functional>
#include <thread>

#include "core/export/run_export.h"
#include "core/run/run_version.h"
#include "devices/wire.h"

namespace cruscotto {

/// A long piece of work on a thread of its own, watched and cancelled from the screen. Deletes itself after finished().
class BackgroundJob : public QObject, public Progress {
    Q_OBJECT
public:
    /// The work tells its end in one sentence.
    using Work = std::function<Result<QString>(Progress&)>;
    BackgroundJob(Work work, QObject* parent);
    ~BackgroundJob() override;
    void cancel() { cancel_ = true; }

    void advance(std::uint64_t done, std::uint64_t total) override;
    [[nodiscard]] bool cancelled() const override { return cancel_; }

Q_SIGNALS:
    void progressed(int percent);
    void finished(const QString& sentence, bool well);

private:
    std::atomic<bool> cancel_{false};
    int percent_ = -1;
    std::thread thread_;
};

/// Exports a run as CSV or HDF5, by the ending of the name.
BackgroundJob::Work exportWork(const QString& run, const QString& to, const ExportOptions& options = {});
/// Writes what passed on a wire into a file that is there whole or not at all.
BackgroundJob::Work captureWork(std::vector<WireMessagePtr> messages, CaptureOrigin origin, const QString& to);
/// Works the readings of these signals out again; see addRunVersion().
BackgroundJob::Work reworkWork(const QString& run, const std::vector<SignalSpec>& corrected, const QString& words);

}  // namespace cruscotto
