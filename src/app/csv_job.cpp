#include "app/csv_job.h"

#include "app/words.h"

namespace cruscotto {

CsvJob::CsvJob(const QString& run, const QString& csv, QObject* parent) : QObject(parent) {
    thread_ = std::thread([this, run = run.toStdString(), csv = csv.toStdString()] {
        const auto result = exportCsv(run, csv, {}, *this);
        const QString sentence = result ? tr("Exported %1 rows to %2.").arg(result.value().rows).arg(shown(csv))
                                        : shown(result.error().message);
        QMetaObject::invokeMethod(this, [this, sentence] {
            Q_EMIT finished(sentence);
            deleteLater();
        });
    });
}

CsvJob::~CsvJob() {
    cancel_ = true;
    thread_.join();
}

void CsvJob::advance(std::uint64_t done, std::uint64_t total) {
    const int percent = total ? static_cast<int>(done * 100 / total) : 0;
    if (percent == percent_) return;
    percent_ = percent;
    QMetaObject::invokeMethod(this, [this, percent] { Q_EMIT progressed(percent); });
}

}  // namespace cruscotto
