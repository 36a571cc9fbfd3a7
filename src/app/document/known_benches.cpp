#include "app/document/known_benches.h"

#include <QCryptographicHash>
#include <QDir>
#include <QFile>
#include <QFileInfo>
#include <QSaveFile>

#include "app/widgets/words.h"
#include "core/base/log.h"

namespace cruscotto {

namespace {

constexpr int mostBenches = 2000;

QByteArray lineOf(const QByteArray& content) {
    return QCryptographicHash::hash(content, QCryptographicHash::Sha256).toHex();
}

QList<QByteArray> linesOf(const QString& path) {
    QFile file(path);
    return file.open(QIODevice::ReadOnly) ? file.read(mostBenches * 80).split('\n') : QList<QByteArray>();
}

}  // namespace

KnownBenches::KnownBenches(QString file) : file_(std::move(file)) {}

QString KnownBenches::defaultFile() {
    const QString log = shown(defaultLogPath());
    return log.isEmpty() ? QString() : QFileInfo(log).absolutePath() + "/known-benches";
}

bool KnownBenches::knows(const QByteArray& content) const {
    return linesOf(file_).contains(lineOf(content));
}

void KnownBenches::remember(const QByteArray& content) const {
    if (file_.isEmpty()) return;
    QList<QByteArray> lines = linesOf(file_);
    const QByteArray line = lineOf(content);
    if (lines.contains(line)) return;
    lines.removeAll({});
    lines.append(line);
    while (lines.size() > mostBenches) lines.removeFirst();
    QDir().mkpath(QFileInfo(file_).absolutePath());
    QSaveFile out(file_);
    if (!out.open(QIODevice::WriteOnly) || out.write(lines.join('\n') + '\n') < 0 || !out.commit())
        logWarning("known benches: " + out.errorString().toStdString());
}

}  // namespace cruscotto
