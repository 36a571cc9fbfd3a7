#include "app/document/background_job.h"

#include <QDateTime>

#include "app/widgets/words.h"
#include "core/base/new_file.h"

namespace cruscotto {

BackgroundJob::BackgroundJob(Work work, QObject* parent) : QObject(parent) {
    thread_ = std::thread([this, work = std::move(work)] {
        const auto result = work(*this);
        const QString sentence = result ? result.value() : shown(result.error().message);
        QMetaObject::invokeMethod(this, [this, sentence, well = result.ok()] {
            Q_EMIT finished(sentence, well);
            deleteLater();
        });
    });
}

BackgroundJob::~BackgroundJob() {
    cancel_ = true;
    thread_.join();
}

void BackgroundJob::advance(std::uint64_t done, std::uint64_t total) {
    const int percent = total ? static_cast<int>(done * 100 / total) : 0;
    if (percent == percent_) return;
    percent_ = percent;
    QMetaObject::invokeMethod(this, [this, percent] { Q_EMIT progressed(percent); });
}

BackgroundJob::Work exportWork(const QString& run, const QString& to, const ExportOptions& options) {
    return [run = run.toStdString(), to = to.toStdString(), options](Progress& progress) -> Result<QString> {
        const auto result = exportRun(run, to, options, progress);
        if (!result) return result.error();
        std::uint64_t samples = 0;
        for (const auto& [signal, n] : result.value().samples) samples += n;
        return BackgroundJob::tr("Exported %1 samples to %2.").arg(countText(samples), shown(to));
    };
}

BackgroundJob::Work reworkWork(const QString& run, const std::vector<SignalSpec>& corrected, const QString& words) {
    return [run = run.toStdString(), corrected, words = words.toStdString()](Progress& progress) -> Result<QString> {
        std::vector<Text> left;
        const auto version =
            addRunVersion(run, corrected, words, QDateTime::currentMSecsSinceEpoch() * 1'000'000, progress, &left);
        if (!version) return version.error();
        QStringList out{BackgroundJob::tr("The readings were worked out again, as version %1 of the run. The ones "
                                          "before are kept: see Versions of this run.")
                            .arg(version.value())};
        for (const Text& changed : whatChanged(run, version.value())) out << shown(changed);
        for (const Text& stays : left) out << shown(stays);
        return out.join(' ');
    };
}

BackgroundJob::Work captureWork(std::vector<WireMessagePtr> messages, CaptureOrigin origin, const QString& to) {
    return [messages = std::move(messages), origin = std::move(origin), to](Progress&) -> Result<QString> {
        const std::string text = captureText(messages, origin);
        auto file = NewFile::create(to.toStdString(), NewFile::Existing::replace);
        if (!file) return file.error();
        (void)file.value().write(text);  // what went wrong is said by the next
        if (auto put = file.value().put(); !put) return put.error();
        return BackgroundJob::tr("Saved %1 messages to %2. Add a device to replay them.").arg(messages.size()).arg(to);
    };
}

}  // namespace cruscotto
