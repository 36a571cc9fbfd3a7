#include "app/document/bench_document.h"

#include <QFile>
#include <QFileInfo>

#include "app/document/examples.h"
#include "app/document/known_benches.h"
#include "devices/device_kind.h"

namespace cruscotto {

namespace {
/// What ships with the program, whose devices are simulated: known by what is in it.
bool isExample(const QString& name, const QByteArray& content) {
    QFile own(":/examples/" + name + ".bench");
    return own.open(QIODevice::ReadOnly) && own.readAll() == content;
}
}  // namespace

Result<BenchDocument> readBenchDocument(const QString& path, bool drive) {
    // Read through Qt, so that an example inside the program opens like a file.
    QFile file(path);
    if (!file.open(QIODevice::ReadOnly) || file.isSequential())  // what may never end is no file
        return failure("{0} cannot be read. Is the name right, and may you read it?", path.toStdString());
    const QByteArray content = file.readAll();
    BenchReading reading = readBench(content.toStdString(), checkDevices);
    if (!reading.bench) {
        const auto& problems = reading.problems;
        const std::string more = problems.size() > 1 ? fmt::format(" (and {} more)", problems.size() - 1) : "";
        return failure("{0} is not opened: {1}{2}", QFileInfo(path).fileName().toStdString(),
                       problems.front().english(), more);
    }
    const QFileInfo info(path);
    const bool example =
        path.startsWith(":") || info.canonicalPath() == QFileInfo(examplesFolder()).canonicalFilePath();
    const bool mayDrive = drive || !drivesOutside(*reading.bench) || isExample(info.completeBaseName(), content) ||
                          KnownBenches().knows(content);
    if (drive) KnownBenches().remember(content);
    return BenchDocument{std::move(*reading.bench),
                         example || !info.isWritable() ? QString() : info.canonicalFilePath(),
                         example ? info.completeBaseName() : QString(), content, mayDrive};
}

}  // namespace cruscotto
