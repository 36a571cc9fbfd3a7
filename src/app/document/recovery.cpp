#include "app/document/recovery.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <QCoreApplication>
#include <QDir>
#include <QJsonDocument>
#include <QJsonObject>
#include <QSaveFile>

#include "app/widgets/words.h"
#include "core/base/log.h"

namespace cruscotto {

namespace {

/// A lock that its process takes along when it goes, however it goes; -1 where somebody else has it.
int lockFile(const QString& path) {
    const int fd = ::open(path.toLocal8Bit().constData(), O_RDWR | O_CREAT | O_CLOEXEC, 0600);
    if (fd < 0 || ::flock(fd, LOCK_EX | LOCK_NB) == 0) return fd;
    ::close(fd);
    return -1;
}

bool anything(const Recovery::Left& left) {
    return left.unsaved || !left.run.isEmpty();
}

}  // namespace

QString Recovery::defaultFolder() {
    const QString log = shown(defaultLogPath());
    return log.isEmpty() ? QString() : QFileInfo(log).absolutePath() + "/recovery";
}

Recovery::Recovery(const QString& folder)
    : folder_(folder), owner_(QString::number(QCoreApplication::applicationPid())) {
    if (folder_.isEmpty()) return;
    QDir().mkpath(folder_);
    lock_ = lockFile(file(owner_, "lock"));
    QFile::remove(file(owner_, "json"));  // of a process that had this number before
}

Recovery::~Recovery() {
    if (writing_.valid()) writing_.wait();
    if (folder_.isEmpty()) return;
    if (!left_) QFile::remove(file(owner_, "json"));
    QFile::remove(file(owner_, "lock"));
    for (const int lock : {lock_, takenLock_})
        if (lock >= 0) ::close(lock);
}

QString Recovery::file(const QString& owner, const char* ending) const {
    return folder_ + "/" + owner + "." + ending;
}

void Recovery::done(const Left& now) {
    if (taken_.isEmpty()) return;
    keep(now);
    if (writing_.valid()) writing_.wait();
    QFile::remove(file(taken_, "json"));
    QFile::remove(file(taken_, "lock"));
    ::close(std::exchange(takenLock_, -1));
    taken_.clear();
}

void Recovery::leave(const Left& now) {
    if (!now.unsaved || left_) return;
    if (writing_.valid()) writing_.wait();
    Left edits = now;
    edits.run.clear();
    edits.inOrder = true;
    keep(edits);
    left_ = true;
}

void Recovery::keep(const Left& now) {
    if (left_ || folder_.isEmpty()) return;
    if (writing_.valid()) {
        if (writing_.wait_for(std::chrono::seconds(0)) != std::future_status::ready) return;
        writing_.get();
    }
    const bool same = kept_ && anything(*kept_) == anything(now) && kept_->path == now.path &&
                      kept_->unsaved == now.unsaved && kept_->run == now.run && kept_->inOrder == now.inOrder &&
                      kept_->atRest == now.atRest && sameBench(kept_->bench, now.bench);
    if (same || (!kept_ && !anything(now))) return;
    kept_ = now;
    writing_ = std::async(std::launch::async, [now, to = file(owner_, "json")] {
        if (!anything(now)) {
            QFile::remove(to);
            return;
        }
        const QJsonObject all{{"bench", shown(writeBench(now.bench))},
                              {"path", now.path},
                              {"unsaved", now.unsaved},
                              {"run", now.run},
                              {"in-order", now.inOrder},
                              {"at-rest", now.atRest}};
        QSaveFile out(to);
        if (!out.open(QIODevice::WriteOnly) || out.write(QJsonDocument(all).toJson()) < 0 || !out.commit())
            logWarning("recovery: " + out.errorString().toStdString());
    });
}

std::optional<Recovery::Left> Recovery::take(const QString& only) {
    if (folder_.isEmpty()) return {};
    const QDir folder(folder_);
    for (const QString& name : folder.entryList({"*.json"}, QDir::Files, QDir::Time)) {
        const QString owner = QFileInfo(name).completeBaseName();
        if (owner == owner_) continue;
        const int lock = lockFile(file(owner, "lock"));
        if (lock < 0) continue;  // it lives
        QFile in(folder.filePath(name));
        const QJsonObject all =
            in.open(QIODevice::ReadOnly) ? QJsonDocument::fromJson(in.readAll()).object() : QJsonObject();
        in.close();
        if (!only.isEmpty() &&
            QFileInfo(only).absoluteFilePath() != QFileInfo(all["path"].toString()).absoluteFilePath()) {
            ::close(lock);
            continue;
        }
        BenchReading bench = readBench(all["bench"].toString().toStdString());
        if (!bench.bench) {
            logWarning("recovery: " + name.toStdString() + " does not read and is left as it is.");
            QFile::rename(folder.filePath(name), folder.filePath(owner + ".unreadable"));
            QFile::remove(file(owner, "lock"));
            ::close(lock);
            continue;
        }
        taken_ = owner;
        takenLock_ = lock;
        return Left{std::move(*bench.bench), all["path"].toString(),   all["unsaved"].toBool(),
                    all["run"].toString(),   all["in-order"].toBool(), all["at-rest"].toBool()};
    }
    return {};
}

}  // namespace cruscotto
