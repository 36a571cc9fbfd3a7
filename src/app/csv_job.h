#pragma once

#include <QObject>
#include <QString>
#include <atomic>
#include <thread>

#include "core/csv_export.h"

namespace cruscotto {

/// An export to CSV on a thread of its own. Deletes itself after finished().
class CsvJob : public QObject, public Progress {
    Q_OBJECT
public:
    CsvJob(const QString& run, const QString& csv, QObject* parent);
    ~CsvJob() override;
    void cancel() { cancel_ = true; }

    void advance(std::uint64_t done, std::uint64_t total) override;
    [[nodiscard]] bool cancelled() const override { return cancel_; }

Q_SIGNALS:
    void progressed(int percent);
    void finished(const QString& sentence);

private:
    std::atomic<bool> cancel_{false};
    int percent_ = -1;
    std::thread thread_;
};

}  // namespace cruscotto
