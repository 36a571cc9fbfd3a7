#pragma once

#include <QByteArray>
#include <QString>

#include "core/base/result.h"
#include "core/bench/bench.h"

namespace cruscotto {

/// A bench as it was read from its file.
struct BenchDocument {
    Bench bench;
    QString path;          ///< empty: opened as a copy
    QString example;       ///< of which it is a copy, if of one
    QByteArray content{};  ///< of the file
    bool mayDrive = true;  ///< its outputs need no question; see KnownBenches
};

/// Reads the file, also one inside the program (":/..."), and checks it against the devices that it names. With `drive`
/// it is known from now on. Any thread.
Result<BenchDocument> readBenchDocument(const QString& path, bool drive);

}  // namespace cruscotto
